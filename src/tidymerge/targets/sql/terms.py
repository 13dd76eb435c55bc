"""Terms of a condition in SQL: whole numbers are digits, so nothing of them can be mistaken for anything else."""

from collections.abc import Sequence

from tidymerge.databases.contract.database import quoted
from tidymerge.model.terms import Term


def where(terms: Sequence[Term], *, untyped: bool) -> str:
    """The WHERE for records `t` of which all terms may be true; nothing for no terms.

    In an `untyped` database a column may hold anything: values that are no whole numbers come, too.
    """
    if not terms:
        return ""
    return f" WHERE {' AND '.join(_term(term, untyped=untyped) for term in terms)}"


def _term(term: Term, *, untyped: bool) -> str:
    column, numbers = f"t.{quoted(term.column)}", ", ".join(f"{number:d}" for number in term.numbers)
    said = {"null": f"{column} IS NULL", "there": f"{column} IS NOT NULL", "in": f"{column} IN ({numbers})"}
    sql = said.get(term.sign, f"{column} {term.sign} {numbers}")
    return f"({sql} OR typeof({column}) NOT IN ('integer', 'null'))" if untyped else f"({sql})"

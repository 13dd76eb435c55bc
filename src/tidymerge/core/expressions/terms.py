"""Taking a condition apart into terms that a database can tell, if it is made of nothing else.

The database then leaves out records that surely don't meet it; those that it gives are looked at all the same.
"""

from collections.abc import Collection, Iterator

from sqlglot import exp, parse_one

from tidymerge.model.terms import Term

_SIGNS: dict[type[exp.Expr], str] = {
    exp.EQ: "=",
    exp.NEQ: "<>",
    exp.LT: "<",
    exp.LTE: "<=",
    exp.GT: ">",
    exp.GTE: ">=",
}
_MIRRORED = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}
_MOST = 2**63 - 1  # beyond, a database may compare with a number that is not exact


class _Otherwise(Exception):
    """A part of the condition is no term."""


def terms_of(text: str, whole_numbers: Collection[str]) -> tuple[Term, ...] | None:
    """The terms that all hold where a condition, known to compile, is true; None if it says more than terms can.

    `whole_numbers` are the columns of whole numbers, by their exact names.
    """
    try:
        return tuple(_terms(parse_one(text), whole_numbers))
    except _Otherwise:
        return None


def _terms(node: exp.Expr, columns: Collection[str]) -> Iterator[Term]:
    match node:
        case exp.Paren():
            yield from _terms(node.this, columns)
        case exp.And():
            yield from _terms(node.this, columns)
            yield from _terms(node.expression, columns)
        case exp.Is(expression=exp.Null()):
            yield Term(_column(node.this, columns), "null")
        case exp.Not(this=exp.Is(expression=exp.Null())):
            yield Term(_column(node.this.this, columns), "there")
        case exp.Between():
            name = _column(node.this, columns)
            yield Term(name, ">=", (_number(node.args["low"]),))
            yield Term(name, "<=", (_number(node.args["high"]),))
        case exp.In() if node.expressions:
            yield Term(_column(node.this, columns), "in", tuple(_number(one) for one in node.expressions))
        case _ if type(node) in _SIGNS:
            sign, one, other = _SIGNS[type(node)], node.this, node.expression
            if isinstance(one, exp.Column):
                yield Term(_column(one, columns), sign, (_number(other),))
            else:
                yield Term(_column(other, columns), _MIRRORED.get(sign, sign), (_number(one),))
        case _:
            raise _Otherwise


def _column(node: exp.Expr, columns: Collection[str]) -> str:
    if isinstance(node, exp.Column) and node.table.lower() in ("", "existing") and node.name in columns:
        return node.name
    raise _Otherwise


def _number(node: exp.Expr) -> int:
    negative = isinstance(node, exp.Neg)
    literal = node.this if negative else node
    if not isinstance(literal, exp.Literal) or literal.is_string or not literal.this.isdecimal():
        raise _Otherwise
    number = -int(literal.this) if negative else int(literal.this)
    if abs(number) > _MOST:
        raise _Otherwise
    return number

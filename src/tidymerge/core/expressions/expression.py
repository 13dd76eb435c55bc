"""A checked expression, and how one is made of its text. The parser is imported only where there is an expression."""

from collections.abc import Collection

import pyarrow as pa
from msgspec import Struct

from tidymerge.core.expressions.types import Frame, Run, Scopes, Type
from tidymerge.model.terms import Term


class Expression(Struct, frozen=True):
    """A checked expression. `evaluate` works it out; rows that fail are noted in the frame.

    It is pickled as its text, with what `compile_expression` was told of it: the functions in it can't be.
    """

    text: str
    type: Type
    run: Run
    uses: frozenset[tuple[str, str]]
    made_of: tuple[str, str, Scopes, bool]

    def __reduce__(self) -> tuple[object, ...]:
        return _compile, self.made_of

    def looks_at(self, scope: str) -> bool:
        """Whether it uses any column of a scope."""
        return any(one == scope for one, _ in self.uses)

    def evaluate(self, frame: Frame) -> pa.Array:
        """One value a row, null where unknown."""
        return self.run(frame)


def compile_expression(text: str, where: str, scopes: Scopes, *, condition: bool = False) -> Expression:
    """Parse and check an expression.

    `where` names its place in the job for messages. `scopes` gives the columns that it may use: scope to
    name to type; the first scope also answers to bare names. Raises BadExpression with a position and a hint.
    """
    from tidymerge.core.expressions.compiler import compiled

    part, uses = compiled(text, where, scopes, condition)
    used = {scope: {name: columns[name] for one, name in uses if one == scope} for scope, columns in scopes.items()}
    made_of = (text, where, used, condition)
    return Expression(text, part.type, part.run, uses, made_of)


def _compile(text: str, where: str, scopes: Scopes, condition: bool) -> Expression:
    return compile_expression(text, where, scopes, condition=condition)


def tells_time(text: str) -> bool:
    """Whether an expression that is known to compile has the time of the run in it."""
    from tidymerge.core.expressions.compiler import has_time

    return has_time(text)


def terms_of(text: str, whole_numbers: Collection[str]) -> tuple[Term, ...] | None:
    """The terms of which a condition is made, if it is made of nothing else."""
    from tidymerge.core.expressions.terms import terms_of as taken_apart

    return taken_apart(text, whole_numbers)

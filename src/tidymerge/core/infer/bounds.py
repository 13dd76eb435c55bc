"""What the checks of a table say of single columns, as a sheet can check it too: lists, bounds.

Only what is surely meant is told; any other check is left to the table.
"""

from collections.abc import Iterable, Iterator
from decimal import Decimal, InvalidOperation

import sqlglot
from msgspec import Struct, field
from sqlglot import exp
from sqlglot.errors import SqlglotError

from tidymerge.model import Check

_DIALECTS = ("postgres", "mysql", "sqlite")  # of which each reads what its own database writes


class Bounds(Struct):
    """The only texts that a column takes, if they are listed, and the least and the greatest number."""

    allowed: tuple[str, ...] = ()
    least: float | None = None
    most: float | None = None


class Told(Struct):
    """The bounds by column."""

    columns: dict[str, Bounds] = field(default_factory=dict)

    def of(self, name: str) -> Bounds:
        """Those of one column."""
        return self.columns.setdefault(name, Bounds())


def bounds_of(checks: Iterable[Check]) -> dict[str, Bounds]:
    """What the checks say, by column."""
    told = Told()
    for check in checks:
        if len(check.columns) == 1 and check.domain is None:
            for part in _parts(check.expression):
                _tell(part, check.columns[0], told)
    return told.columns


def _parts(text: str) -> Iterator[exp.Expr]:
    """The conditions that must all hold."""
    for dialect in _DIALECTS:
        try:
            found = sqlglot.parse_one(text, dialect=dialect)
        except SqlglotError:
            continue
        whole = found.unnest()
        for part in whole.flatten() if isinstance(whole, exp.And) else (whole,):
            yield part.unnest()
        return


def _tell(part: exp.Expr, name: str, told: Told) -> None:
    match part:
        case exp.In() if _is(part.this, name) and not part.args.get("query"):
            _list(part.expressions, told.of(name))
        case exp.EQ() if _is(part.this, name) and isinstance(part.expression, exp.Any):
            arrays = list(part.expression.find_all(exp.Array))
            _list(arrays[0].expressions if arrays else [], told.of(name))
        case exp.Between() if _is(part.this, name):
            _least(part.args["low"], told.of(name))
            _most(part.args["high"], told.of(name))
        case exp.GTE() if _is(part.this, name):
            _least(part.expression, told.of(name))
        case exp.LTE() if _is(part.this, name):
            _most(part.expression, told.of(name))
        case _:
            pass


def _is(one: exp.Expr, name: str) -> bool:
    found = one.unnest()
    while isinstance(found, exp.Cast):
        found = found.this.unnest()
    return isinstance(found, exp.Column) and found.name == name


def _list(values: list[exp.Expr], bounds: Bounds) -> None:
    texts = [_text(value) for value in values]
    if texts and all(text is not None for text in texts):
        bounds.allowed = tuple(text for text in texts if text is not None)


def _text(value: exp.Expr) -> str | None:
    found = value.unnest()
    while isinstance(found, exp.Cast):
        found = found.this.unnest()
    return str(found.this) if isinstance(found, exp.Literal) else None


def _number(value: exp.Expr) -> float | None:
    sign = -1 if isinstance(value.unnest(), exp.Neg) else 1
    text = _text(value.unnest().this if sign < 0 else value)
    try:
        return None if text is None else sign * float(Decimal(text))
    except InvalidOperation:
        return None


def _least(value: exp.Expr, bounds: Bounds) -> None:
    bounds.least = _number(value)


def _most(value: exp.Expr, bounds: Bounds) -> None:
    bounds.most = _number(value)

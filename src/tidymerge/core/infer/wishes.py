"""Rules that a table does not have yet, as people say them, and what would set the records right that break them."""

import re
from collections.abc import Sequence
from enum import StrEnum

import pyarrow as pa
from msgspec import Struct

from tidymerge.core.infer.bounds import bounds_of
from tidymerge.core.naming.mapping import target_name
from tidymerge.core.tidy.cells import shown
from tidymerge.errors import BadOption
from tidymerge.model import Check, Kind, TableShape, TargetColumn

_REFERS = re.compile(r"(.+?)\s+refers?\s+to\s+(.+)\.([^.]+)", re.IGNORECASE)
_UNIQUE = re.compile(r"(.+?)\s+(?:is|are)\s+unique", re.IGNORECASE)
_MOST_LISTED = 500  # values in a condition


class WishKind(StrEnum):
    """What a rule is about."""

    REFERS = "refers"
    UNIQUE = "unique"
    CONDITION = "condition"


class Wish(Struct, frozen=True):
    """A rule: of some columns, each value once, or found as `referred` of `table`; or a condition on a record."""

    text: str
    kind: WishKind
    columns: tuple[str, ...] = ()
    table: str = ""
    referred: str = ""


def wish_of(text: str, shape: TableShape) -> Wish:
    """What is said of a table. Raises NoSuchColumn and BadOption."""
    said = text.strip()
    found = _REFERS.fullmatch(said)
    if found:
        return Wish(said, WishKind.REFERS, (target_name(shape, found[1].strip()),), found[2].strip(), found[3].strip())
    found = _UNIQUE.fullmatch(said)
    if found:
        names = [name.strip() for name in re.split(r"[+,]", found[1])]
        return Wish(said, WishKind.UNIQUE, tuple(target_name(shape, name) for name in names))
    if not said:
        raise BadOption("Say what would hold, as in 'code is unique' or 'honey_kg between 0 and 90'.")
    return Wish(said, WishKind.CONDITION)


def among(columns: Sequence[TargetColumn], values: pa.Table) -> str | None:
    """The condition that picks records with one of some values; None where it would be too long to read."""
    if not 0 < values.num_rows <= _MOST_LISTED:
        return None
    rows = list(zip(*(_literals(column, values[column.name]) for column in columns), strict=True))
    if len(columns) == 1:
        return f"{_name(columns[0])} in ({', '.join(literal for (literal,) in rows)})"
    return " or ".join(
        "(" + " and ".join(f"{_name(column)} = {one}" for column, one in zip(columns, row, strict=True)) + ")"
        for row in rows
    )


def _literals(column: TargetColumn, values: pa.ChunkedArray) -> list[str]:
    """Values as they are written in an expression."""
    texts = shown(values.combine_chunks()).to_pylist()
    if column.type.kind in (Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT):
        return [str(text) for text in texts]
    return ["'" + str(text).replace("'", "''") + "'" for text in texts]


def _name(column: TargetColumn) -> str:
    """A column's name as an expression has it."""
    return column.name if re.fullmatch(r"[a-z_][a-z0-9_]*", column.name) else '"' + column.name.replace('"', '""') + '"'


def set_right(wish: Wish, shape: TableShape, where: str | None, uses: Sequence[str]) -> tuple[str, str] | None:
    """The column to set and the expression that would set the records right, where one surely does; None elsewhere.

    What refers to nothing is emptied, if the column may be empty; what is out of bounds goes to the nearest one.
    """
    if where is None:
        return None
    if wish.kind is WishKind.REFERS:
        column = shape.column(wish.columns[0])
        return (column.name, "null") if column.nullable else None
    if wish.kind is not WishKind.CONDITION or len(set(uses)) != 1:
        return None
    column = shape.column(uses[0])
    bounds = bounds_of([Check("", wish.text, (column.name,))]).get(column.name)
    if bounds is None or bounds.allowed or (bounds.least is None and bounds.most is None):
        return None
    name = _name(column)
    cases = [
        f"when {name} {sign} {number} then {number}"
        for sign, bound in (("<", bounds.least), (">", bounds.most))
        if bound is not None
        for number in [repr(bound).removesuffix(".0")]
    ]
    return column.name, f"case {' '.join(cases)} else {name} end"

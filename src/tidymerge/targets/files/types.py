"""What the columns of a text file mean, told by their cells, and how new values are spelled like the others."""

import re
from collections.abc import Iterable, Mapping
from dataclasses import replace
from types import MappingProxyType

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import as_array
from tidymerge.core.convert import cast_cells
from tidymerge.errors import BadOption, NoSuchColumn
from tidymerge.model import ColumnType, Kind, TargetColumn

_WHOLE = r"^-?(0|[1-9][0-9]{0,17})$"  # leading zeros are a text's
_DECIMAL = r"^-?(0|[1-9][0-9]*)(\.[0-9]+)?$"
_DATE = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$"
_STAMP = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]{1,6})?$"
_MOST_DIGITS = 38
_KINDS = {
    kind.value: kind
    for kind in (Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT, Kind.TEXT, Kind.BOOLEAN, Kind.DATE, Kind.TIME, Kind.TIMESTAMP)
}


def declared(text: str) -> ColumnType:
    """The type that a job declares, as in decimal(8, 2). Raises BadOption."""
    found = re.fullmatch(r"\s*(\w+)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?\s*", text)
    kind = _KINDS.get(found[1].lower()) if found else None
    if (
        not found
        or kind is None
        or (found[2] and kind not in (Kind.DECIMAL, Kind.TEXT))
        or (found[3] and kind is not Kind.DECIMAL)
    ):
        raise BadOption(f"{text!r} is no type of a file's column; known are {', '.join(_KINDS)}, as in decimal(8, 2).")
    first, second = (None if size is None else int(size) for size in (found[2], found[3]))
    if kind is Kind.DECIMAL:
        scale = second or 0 if first else None
        return ColumnType(kind, text, precision=first or _MOST_DIGITS, scale=scale)
    return ColumnType(kind, text, length=first)


NONE_DECLARED: Mapping[str, ColumnType] = MappingProxyType({})


def with_declared(
    columns: Iterable[TargetColumn], types: Mapping[str, ColumnType], place: str
) -> tuple[TargetColumn, ...]:
    """The columns with the types that the job declares. Raises NoSuchColumn."""
    found = tuple(replace(column, type=types.get(column.name, column.type)) for column in columns)
    unknown = set(types) - {column.name for column in found}
    if unknown:
        raise NoSuchColumn(f"The job declares a type for {min(unknown)}, a column that {place} does not have.")
    return found


def column_of(name: str, texts: pa.Array) -> TargetColumn:
    """The column of some cells: integer, decimal, date or timestamp where all of them are, else text."""
    present = texts.drop_null().unique()
    return TargetColumn(name, _type_of(present) if len(present) else ColumnType(Kind.TEXT, "text"))


def _type_of(texts: pa.Array) -> ColumnType:
    for pattern, found in ((_WHOLE, Kind.INTEGER), (_DATE, Kind.DATE), (_STAMP, Kind.TIMESTAMP)):
        if _all(texts, pattern):
            kind = ColumnType(found, found.value)
            return (
                kind if cast_cells([texts], kind, len(texts)).values.null_count == 0 else ColumnType(Kind.TEXT, "text")
            )
    if _all(texts, _DECIMAL):
        lengths = pc.utf8_length(pc.replace_substring_regex(texts, r"^[^.]*\.?", ""))
        scale = pc.max(lengths).as_py()
        digits = pc.max(pc.utf8_length(pc.replace_substring_regex(texts, r"[-.].*$|^-", ""))).as_py() + scale
        if digits <= _MOST_DIGITS:
            return ColumnType(Kind.DECIMAL, f"decimal({_MOST_DIGITS}, {scale})", precision=_MOST_DIGITS, scale=scale)
    return ColumnType(Kind.TEXT, "text")


def _all(texts: pa.Array, pattern: str) -> bool:
    first = texts[:1]
    return bool(pc.match_substring_regex(first, pattern)[0].as_py()) and bool(
        pc.all(pc.match_substring_regex(texts, pattern)).as_py()
    )


def typed(texts: pa.Array, column: TargetColumn) -> pa.Array:
    """The cells as their column means them; null also where they don't fit."""
    if column.type.kind is Kind.TEXT or column.type.as_stored:
        return texts
    return cast_cells([texts] if texts.null_count < len(texts) else [], column.type, len(texts)).values


def spelled_like(values: pa.Array, column: TargetColumn, others: pa.Array) -> pa.Array:
    """Typed values as the file spells `others`, the cells of the same column."""
    kind = column.type.kind
    if column.type.as_stored or kind is Kind.TEXT:
        return values
    texts = pc.cast(pc.cast(values, pa.timestamp("us")) if kind is Kind.TIMESTAMP else values, pa.string())
    present = as_array(others).drop_null()
    if kind is Kind.DECIMAL and not (len(present) and _fixed(present, column.type.decimals)):
        return pc.replace_substring_regex(pc.replace_substring_regex(texts, r"(\.[0-9]*?)0+$", r"\1"), r"\.$", "")
    if kind is Kind.TIMESTAMP:
        texts = pc.replace_substring_regex(texts, r"\.0+$", "")
        if len(present) and "T" in present[0].as_py():
            texts = pc.replace_substring(texts, " ", "T")
    return texts


def _fixed(texts: pa.Array, decimals: int) -> bool:
    """Whether all numbers are written with that many decimals."""
    pattern = rf"\.[0-9]{{{decimals}}}$" if decimals else r"^[^.]*$"
    return bool(pc.all(pc.match_substring_regex(texts, pattern)).as_py())

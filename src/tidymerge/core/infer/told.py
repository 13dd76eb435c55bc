"""What the values of a column say about its type; and types in words, as a job declares them."""

import re
from collections.abc import Iterable, Sequence

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy import digits
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.core.tidy.tidying import tidy
from tidymerge.errors import BadOption
from tidymerge.model import MOST_DIGITS, ColumnType, Kind

_WHOLE = r"^-?(0|[1-9][0-9]{0,17})$"  # leading zeros are a text's
_DECIMAL = r"^-?(0|[1-9][0-9]*)(\.[0-9]+)?$"
_DATE = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$"
_STAMP = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]{1,6})?$"
TEXT = ColumnType(Kind.TEXT, "text")
NUMBER = ColumnType(Kind.DECIMAL, "number", digits=15)  # what a spreadsheet keeps
_MOST_DECIMALS = 15  # of a spreadsheet's number: what has more is a measure, not a count of units
_USUAL_DIGITS = 18  # of a new column of decimals, which leaves room
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
        raise BadOption(f"{text!r} is no type of a column; known are {', '.join(_KINDS)}, as in decimal(8, 2).")
    first, second = (None if size is None else int(size) for size in (found[2], found[3]))
    if kind is Kind.DECIMAL:
        return ColumnType(kind, text, precision=first, scale=second or 0 if first else None)
    return ColumnType(kind, text, length=first)


def type_of_texts(texts: pa.Array) -> ColumnType:
    """Whole numbers, decimals, dates or timestamps where all of some distinct texts are such, else text."""
    if not len(texts):
        return TEXT
    for pattern, found in ((_WHOLE, Kind.INTEGER), (_DATE, Kind.DATE), (_STAMP, Kind.TIMESTAMP)):
        if _all(texts, pattern):
            kind = ColumnType(found, found.value)
            return kind if cast_cells([texts], kind, len(texts)).values.null_count == 0 else TEXT
    if _all(texts, _DECIMAL):
        lengths = pc.utf8_length(pc.replace_substring_regex(texts, r"^[^.]*\.?", ""))
        scale = pc.max(lengths).as_py()
        whole = pc.max(pc.utf8_length(pc.replace_substring_regex(texts, r"\..*$|^-", ""))).as_py()
        if whole + scale <= MOST_DIGITS:
            return ColumnType(Kind.DECIMAL, f"decimal({MOST_DIGITS}, {scale})", precision=MOST_DIGITS, scale=scale)
    return TEXT


def _all(texts: pa.Array, pattern: str) -> bool:
    first = texts[:1]
    return bool(pc.match_substring_regex(first, pattern)[0].as_py()) and bool(
        pc.all(pc.match_substring_regex(texts, pattern)).as_py()
    )


def decimals_of(numbers: Sequence[pa.Array], least: int = 0) -> int:
    """How many decimals numbers have, beyond a spreadsheet's noise, but `least` so many."""
    values = cast_cells(numbers, NUMBER, len(numbers[0])).values
    return max(least, pc.max(digits.decimals(values)).as_py() or 0)


def types_of_arrays(arrays: Iterable[pa.Array]) -> list[ColumnType]:
    """The types of the values in a column's arrays; none for arrays that hold nothing."""
    tidied = [tidy(array) if pa.types.is_string(array.type) else array for array in arrays]
    return [_type_of(array) for array in tidied if array.null_count < len(array)]


def _type_of(array: pa.Array) -> ColumnType:
    kinds = pa.types
    if kinds.is_string(array.type):
        return type_of_texts(array.drop_null().unique())
    if kinds.is_floating(array.type):
        decimals = decimals_of([array])
        if decimals > _MOST_DECIMALS:
            return ColumnType(Kind.FLOAT, Kind.FLOAT.value)
        return ColumnType(Kind.DECIMAL, "decimal", scale=decimals) if decimals else ColumnType(Kind.INTEGER, "integer")
    if kinds.is_decimal(array.type):
        return ColumnType(Kind.DECIMAL, "decimal", scale=array.type.scale)
    for test, kind in (
        (kinds.is_boolean, Kind.BOOLEAN),
        (kinds.is_integer, Kind.INTEGER),
        (kinds.is_date, Kind.DATE),
        (kinds.is_timestamp, Kind.TIMESTAMP),
        (kinds.is_time, Kind.TIME),
    ):
        if test(array.type):
            return ColumnType(kind, kind.value)
    return TEXT


def widest(types: Sequence[ColumnType]) -> ColumnType:
    """The type that holds the values of all of some types: decimals before integers, timestamps before dates."""
    kinds = {found.kind for found in types}
    if kinds in ({Kind.INTEGER, Kind.DECIMAL}, {Kind.DECIMAL}):
        return ColumnType(Kind.DECIMAL, "decimal", scale=max(found.scale or 0 for found in types))
    if kinds == {Kind.DATE, Kind.TIMESTAMP}:
        return ColumnType(Kind.TIMESTAMP, Kind.TIMESTAMP.value)
    return types[0] if len(kinds) == 1 else TEXT


def in_words(found: ColumnType) -> str:
    """A type as a job would declare it for a new column."""
    if found.kind is not Kind.DECIMAL:
        return found.kind.value
    return f"decimal({min(max(_USUAL_DIGITS, found.decimals + 9), MOST_DIGITS)}, {found.decimals})"

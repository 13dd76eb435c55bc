"""Typed values as the exact text of a sheet's cells: dates are numbers of days (ECMA-376, 18.17.4)."""

from datetime import datetime, timedelta

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import valid
from tidymerge.formats.sheet.xml import number
from tidymerge.model import Kind

FIRST_DAY = 61  # 1 March 1900: before it the count is off, as 1900 is taken for a leap year
DATES = (Kind.DATE, Kind.TIMESTAMP, Kind.TIME)
_UNIX, _BASE_1904 = 25_569, 1_462  # day numbers of 1 January 1970, and of 1 January 1904
_EPOCH = datetime(1970, 1, 1)  # noqa: DTZ001 - a sheet knows no zones
_DAY = 86_400_000_000  # microseconds


def serials(values: pa.Array, kind: Kind, *, base_1904: bool) -> pa.Array:
    """The exact texts, marked with the letter of the cell's kind; null stays null."""
    present = valid(values)
    match kind:
        case Kind.BOOLEAN:
            return pc.if_else(values, "b1", "b0")
        case Kind.INTEGER | Kind.DECIMAL | Kind.FLOAT:
            # By way of text: a decimal of many digits is not always cast to the nearest float.
            texts = pc.cast(values, pa.string()) if kind is Kind.DECIMAL else values
            numbers = pc.cast(texts, pa.float64()).fill_null(0).to_numpy(zero_copy_only=False)
        case Kind.DATE:
            numbers = pc.cast(pc.cast(values, pa.int32()), pa.float64()).fill_null(0).to_numpy() + _UNIX
        case Kind.TIMESTAMP:
            numbers = pc.cast(values, pa.int64()).fill_null(0).to_numpy() / _DAY + _UNIX
        case Kind.TIME:
            return _numbered(pc.cast(values, pa.int64()).fill_null(0).to_numpy() / _DAY, present)
        case _:
            return pc.binary_join_element_wise("s", values, "")
    shift = _BASE_1904 if base_1904 and kind in (Kind.DATE, Kind.TIMESTAMP) else 0
    return _numbered(numbers - shift, present)


def _numbered(numbers: np.ndarray, present: np.ndarray) -> pa.Array:
    return pa.array(
        [f"n{number(one)}" if there else None for one, there in zip(numbers.tolist(), present.tolist(), strict=True)],
        pa.string(),
    )


def readable(text: str | None, kind: Kind, *, base_1904: bool) -> str | None:
    """The exact text of a number of days as its date or time, marked by m, where the same number can be made of it.

    Where it can't, the number follows, after a #, so that it is still known to be a date.
    """
    first = 0 if kind is Kind.TIME or base_1904 else FIRST_DAY
    if text is None or text[0] != "n" or float(text[1:]) < first:
        return text
    shift = 0 if kind is Kind.TIME else _UNIX - (_BASE_1904 if base_1904 else 0)
    try:
        moment = _EPOCH + timedelta(microseconds=round((float(text[1:]) - shift) * _DAY))
    except OverflowError:
        return f"m#{text[1:]}"
    form = {Kind.DATE: "%Y-%m-%d", Kind.TIME: "%H:%M:%S"}.get(kind, "%Y-%m-%d %H:%M:%S")
    fraction = f".{moment.microsecond:06}" if moment.microsecond else ""
    shown = f"m{moment:{form}}{fraction}"
    return shown if numbered(shown, base_1904=base_1904) == text else f"m#{text[1:]}"


def kind_of(text: str) -> Kind:
    """What a text that `readable` gave is: a date, a time, or both."""
    return Kind.TIME if text[3:4] == ":" else Kind.TIMESTAMP if ":" in text or "#" in text else Kind.DATE


def numbered(text: str | None, *, base_1904: bool) -> str | None:
    """What `readable` was made of."""
    if text is None or text[0] != "m":
        return text
    if text[1:2] == "#":
        return f"n{text[2:]}"
    try:
        if text[3:4] == ":":
            return f"n{number((datetime.fromisoformat(f'1970-01-01 {text[1:]}') - _EPOCH) / timedelta(days=1))}"
        days = (datetime.fromisoformat(text[1:]) - _EPOCH) // timedelta(microseconds=1) / _DAY
    except ValueError:
        return None
    return f"n{number(days + _UNIX - (_BASE_1904 if base_1904 else 0))}"

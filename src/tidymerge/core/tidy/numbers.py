"""Cells to integers and floats, and numbers to text. A number is never rounded but for a spreadsheet's float noise."""

import math
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy import digits
from tidymerge.core.tidy.cells import Cast, TextRule, Wrong, bad_cells, cast_text, keep, mask_of, valid, without
from tidymerge.core.tidy.decimals import plain_number, to_decimal, within_bounds
from tidymerge.core.tidy.floats import SPREADSHEET_DIGITS, TOO_LONG, counted
from tidymerge.model import ColumnType, Kind, Reason

_FLOAT_ALPHABET = b"0123456789+-.eE"
_SINGLE = 24  # bits of a single-precision float (IEEE 754)
_INT64 = (-(2**63), 2**63 - 1)


def to_integer(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast text, floats, integers or decimals to 64-bit integers within the column's bounds."""
    if pa.types.is_floating(cells.type):
        found = counted(cells, 0, Wrong(Reason.NOT_WHOLE, "a whole number"))
        lost = bad_cells(np.flatnonzero(found.far), Reason.DIGITS_LOST, TOO_LONG)
        return _within(Cast(found.units, (*found.bad, *lost), found.rounded), to)
    if pa.types.is_decimal(cells.type):
        cells = digits.of_decimals(cells)
    if pa.types.is_string(cells.type):
        return _within(cast_text(cells, TextRule(pa.int64(), _one_integer, r"-?\d{1,18}", b"0123456789-")), to)
    return _within(Cast(pc.cast(cells, pa.int64())), to)


def _within(cast: Cast, to: ColumnType) -> Cast:
    if (to.minimum, to.maximum) == _INT64:
        return cast
    inside = pc.and_(pc.greater_equal(cast.values, to.minimum), pc.less_equal(cast.values, to.maximum))
    return without(cast, inside, Reason.OUT_OF_RANGE, within_bounds(to))


def _one_integer(text: str) -> int | Wrong:
    value = plain_number(text)
    if isinstance(value, Wrong):
        return Wrong(value.reason, "a whole number")
    if value != value.to_integral_value():
        return Wrong(Reason.NOT_WHOLE, "a whole number")
    if not _INT64[0] <= value <= _INT64[1]:
        return Wrong(Reason.OUT_OF_RANGE, "a whole number of at most 18 digits")
    return int(value)


def to_float(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast text, floats, integers or decimals to 64-bit floats, at the precision and scale that the column keeps."""
    rounded = Cast(cells)
    if to.scale is not None:  # MariaDB's FLOAT(7,2) would round what has more
        rounded = to_decimal(cells, ColumnType(Kind.DECIMAL, to.declared, precision=to.digits, scale=to.scale))
        cells = rounded.values
    if pa.types.is_decimal(cells.type):  # by way of text: many digits are not always cast to the nearest float
        cells = pc.cast(cells, pa.string())
    if pa.types.is_string(cells.type):
        rule = TextRule(pa.float64(), _one_float, r"[+-]?\d+(\.\d+)?([eE][+-]?\d+)?", _FLOAT_ALPHABET)
        cast = cast_text(cells, rule)
    else:
        cast = Cast(pc.cast(cells, pa.float64(), safe=False))
        cast = without(cast, pc.invert(pc.is_nan(cast.values)), Reason.NOT_A_NUMBER, "a number")
    values = pc.add(cast.values, 0.0)  # minus nothing is nothing
    if to.precision is not None and to.precision <= _SINGLE:
        values = pc.cast(pc.cast(values, pa.float32(), safe=False), pa.float64())
    cast = Cast(values, (*rounded.bad, *cast.bad), rounded.rounded)
    cast = without(cast, pc.is_finite(values), Reason.OUT_OF_RANGE, f"a number that {to.declared} holds")
    if not to.bounded:
        return cast
    return without(cast, pc.greater_equal(values, 0.0), Reason.OUT_OF_RANGE, within_bounds(to))


def _one_float(text: str) -> float | Wrong:
    if digits.is_plain(text) or digits.is_scientific(text):
        return float(text)
    return Wrong(Reason.NOT_A_NUMBER, "a number, such as 12 or 12.5")


def number_text(cells: pa.Array) -> Cast:
    """Numbers as the text a person would type: 1001.0 is '1001'. Beyond 15 digits a float has lost some."""
    if not pa.types.is_floating(cells.type):
        return Cast(digits.of_decimals(cells))
    over = valid(cells) & ~mask_of(pc.less(pc.abs(cells), 10.0**SPREADSHEET_DIGITS))
    texts = shown_number(keep(cells, ~over))
    return Cast(texts, bad_cells(np.flatnonzero(over), Reason.DIGITS_LOST, TOO_LONG))


def shown_number(cells: pa.Array) -> pa.Array:
    """Floats for people, who see of a long one what it holds, in a form that is never loaded as a number."""
    distinct, codes = np.unique(cells.fill_null(0.0).to_numpy(zero_copy_only=False), return_inverse=True)
    texts = [f"{one:.{SPREADSHEET_DIGITS}g}" for one in distinct.tolist()]
    plain = [
        text if _is_long(one) else digits.spelled(Decimal(text))
        for one, text in zip(distinct.tolist(), texts, strict=True)
    ]
    return pa.array(plain, pa.string()).take(pa.array(codes, mask=~valid(cells)))


def _is_long(number: float) -> bool:
    return not math.isfinite(number) or abs(number) >= 10.0**SPREADSHEET_DIGITS


NUMBER_CASTS = {Kind.INTEGER: to_integer, Kind.DECIMAL: to_decimal, Kind.FLOAT: to_float}

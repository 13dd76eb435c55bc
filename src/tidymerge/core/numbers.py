"""Cells to integers, decimals and floats. A number is never rounded but for a spreadsheet's float noise."""

import re
from dataclasses import replace
from decimal import Context, Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import BadCells, Cast, TextRule, Wrong, cast_text, mask_of, valid
from tidymerge.model import ColumnType, Indices, Kind, Mask, Reason

# A spreadsheet keeps 15 significant digits; what a double shows beyond them is noise.
SPREADSHEET_DIGITS = 15
_TOO_LONG = f"at most {SPREADSHEET_DIGITS} digits: a spreadsheet keeps no more, so give it as text"
_NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)")
_SCIENTIFIC = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)[eE][+-]?\d+")
_FLOAT_ALPHABET = b"0123456789+-.eE"
_SINGLE = 24  # bits of a single-precision float (IEEE 754)
_MOST_DIGITS = 38  # of a 128-bit decimal
_EXACT = Context(prec=2 * _MOST_DIGITS)  # Python's own would round beyond 28 digits
_POWERS = [Decimal(10) ** n for n in range(_MOST_DIGITS + 1)]


def to_integer(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast text, floats, integers or decimals to 64-bit integers within the column's bounds."""
    if pa.types.is_string(cells.type):
        cast = cast_text(cells, TextRule(pa.int64(), _one_integer, r"-?\d{1,18}", b"0123456789-"))
    elif pa.types.is_floating(cells.type):
        cast = _scaled(cells, 0, Wrong(Reason.NOT_WHOLE, "a whole number"))
    elif pa.types.is_decimal(cells.type):
        whole = pc.equal(pc.trunc(cells), cells)
        values = pc.cast(pc.if_else(whole, cells, pa.scalar(None, cells.type)), pa.int64(), safe=False)
        fraction = np.flatnonzero(valid(cells) & ~mask_of(whole))
        cast = Cast(values, _bad(fraction, Reason.NOT_WHOLE, "a whole number"))
    else:
        cast = Cast(pc.cast(cells, pa.int64()))
    return _within(cast, to)


def _within(cast: Cast, to: ColumnType) -> Cast:
    if to.minimum == -(2**63) and to.maximum == 2**63 - 1:
        return cast
    inside = pc.and_(pc.greater_equal(cast.values, to.minimum), pc.less_equal(cast.values, to.maximum))
    outside = np.flatnonzero(valid(cast.values) & ~mask_of(inside))
    if not len(outside):
        return cast
    expected = f"a whole number from {to.minimum:,} to {to.maximum:,}, as {to.declared} holds"
    values = pc.if_else(inside, cast.values, pa.scalar(None, pa.int64()))
    return Cast(values, (*cast.bad, *_bad(outside, Reason.OUT_OF_RANGE, expected)), cast.rounded)


def _one_integer(text: str) -> int | Wrong:
    value = _exact(text)
    if isinstance(value, Wrong):
        return Wrong(value.reason, "a whole number")
    if value != value.to_integral_value():
        return Wrong(Reason.NOT_WHOLE, "a whole number")
    if not -(2**63) <= value < 2**63:
        return Wrong(Reason.OUT_OF_RANGE, "a whole number of at most 18 digits")
    return int(value)


def _exact(text: str) -> Decimal | Wrong:
    """The number that a text writes out in full. Scientific notation may have lost digits: refused."""
    if _NUMBER.fullmatch(text) and text.isascii():
        return Decimal(text)
    if _SCIENTIFIC.fullmatch(text):
        return Wrong(Reason.DIGITS_LOST, "all digits written out, not scientific notation")
    return Wrong(Reason.NOT_A_NUMBER, "a number, such as 12 or 12.5")


def to_decimal(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast text, floats, integers or decimals to exact decimals at the column's scale."""
    scale = to.decimals
    wanted = f"a number with at most {scale} decimals" if scale else "a whole number"
    if pa.types.is_string(cells.type):
        whole = min(18, 38 - scale)
        plain = rf"-?\d{{1,{whole}}}(\.\d{{1,{scale}}})?" if scale else rf"-?\d{{1,{whole}}}"
        rule = TextRule(to.arrow, lambda text: _one_decimal(text, scale, wanted), plain, b"0123456789-.")
        cast = cast_text(cells, rule)
    elif pa.types.is_floating(cells.type):
        off = Wrong(Reason.TOO_MANY_DECIMALS, wanted)
        cast = _unscaled(cells, to) if to.scale is None else _scaled(cells, scale, off)
    else:
        cast = _rescaled(cells, to, wanted)
    return _within_digits(cast, to)


def _one_decimal(text: str, scale: int, wanted: str) -> Decimal | Wrong:
    value = _exact(text)
    if isinstance(value, Wrong):
        return value if value.reason is Reason.DIGITS_LOST else Wrong(value.reason, wanted)
    if abs(value) >= _POWERS[_MOST_DIGITS - scale]:
        return Wrong(Reason.OUT_OF_RANGE, f"a number of at most {_MOST_DIGITS - scale} digits before the point")
    fits = value.normalize(_EXACT).as_tuple().exponent >= -scale  # type: ignore[operator]
    kept = value.quantize(1 / _POWERS[scale], context=_EXACT) if fits else None
    return Wrong(Reason.TOO_MANY_DECIMALS, wanted) if kept is None else kept


def _rescaled(cells: pa.Array, to: ColumnType, wanted: str) -> Cast:
    """Integers and decimals of another scale, row by row exact."""
    wide = pa.decimal128(38, cells.type.scale) if pa.types.is_decimal128(cells.type) else pa.decimal128(38, 0)
    cells = pc.cast(cells, wide)
    try:
        return Cast(pc.cast(cells, to.arrow))
    except pa.ArrowInvalid:
        texts = pc.cast(cells, pa.string())
        return cast_text(texts, TextRule(to.arrow, lambda text: _one_decimal(text, to.decimals, wanted)))


def _within_digits(cast: Cast, to: ColumnType) -> Cast:
    """Reject what has more digits than the column declares, or than the target can keep exactly."""
    bad = list(cast.bad)
    values = cast.values
    limits = []
    if to.precision is not None:
        whole = to.precision - to.decimals
        limits.append((whole, Reason.OUT_OF_RANGE, f"at most {whole} digits before the point, as {to.declared} holds"))
    if to.digits is not None and (to.precision is None or to.precision > to.digits):
        whole = to.digits if to.scale is None else max(to.digits - to.scale, 0)
        limits.append(
            (whole, Reason.DIGITS_LOST, f"at most {to.digits} digits in all: the target keeps no more exactly")
        )
    for whole, reason, expected in limits:
        if whole + to.decimals >= _MOST_DIGITS:
            continue
        fits = pc.less(pc.abs(values), pa.scalar(_POWERS[whole], values.type))
        over = np.flatnonzero(valid(values) & ~mask_of(fits))
        if len(over):
            bad.extend(_bad(over, reason, expected))
            values = pc.if_else(fits, values, pa.scalar(None, values.type))
    return Cast(values, tuple(bad), cast.rounded)


def _unscaled(cells: pa.Array, to: ColumnType) -> Cast:
    """Floats for a column that keeps whatever decimals there are: what their 15 significant digits say."""
    numbers = cells.fill_null(0).to_numpy(zero_copy_only=False)
    distinct, codes = np.unique(numbers, return_inverse=True)
    texts = [f"{number:.{SPREADSHEET_DIGITS}g}" for number in distinct.tolist()]
    read = [_held(text, to.decimals) for text in texts]
    values = pa.array([None if isinstance(one, Wrong) else one for one in read], to.arrow)
    noisy = np.array([float(text) != number for text, number in zip(texts, distinct.tolist(), strict=True)], bool)
    present = valid(cells)
    bad: list[BadCells] = []
    for verdict in {one for one in read if isinstance(one, Wrong)}:
        at_fault = np.array([one == verdict for one in read], bool)[codes]
        bad += _bad(np.flatnonzero(present & at_fault), verdict.reason, verdict.expected)
    rounded = int((present & noisy[codes] & np.isfinite(numbers)).sum())
    return Cast(values.take(pa.array(codes, mask=~present)), tuple(bad), rounded)


def _held(text: str, scale: int) -> Decimal | Wrong:
    value = Decimal(text)
    if not value.is_finite():
        return Wrong(Reason.NOT_A_NUMBER, "a number")
    if abs(value) >= 10**SPREADSHEET_DIGITS:
        return Wrong(Reason.DIGITS_LOST, _TOO_LONG)
    kept = value.quantize(1 / _POWERS[scale], context=_EXACT)
    return kept if kept == value else Wrong(Reason.TOO_MANY_DECIMALS, f"a number with at most {scale} decimals")


def _scaled(cells: pa.Array, scale: int, off: Wrong) -> Cast:
    """Floats at `scale` decimals: within 15 significant digits they must be exact; noise is rounded and counted."""
    present = valid(cells)
    numbers = cells.fill_null(0).to_numpy(zero_copy_only=False)
    finite = np.isfinite(numbers)
    with np.errstate(over="ignore", invalid="ignore"):
        units = numbers * 10.0**scale
        whole = np.rint(units)
        exact = np.abs(units - whole) <= np.abs(units) * 5 * 10.0**-SPREADSHEET_DIGITS
        held = np.abs(whole) < 10.0**SPREADSHEET_DIGITS
    not_number = present & ~finite
    too_long = present & finite & ~held
    decimals = present & finite & held & ~exact
    good = present & finite & held & exact
    units_exact = np.where(good, whole, 0).astype(np.int64)
    noisy = good & (np.abs(units_exact) < 2.0**52) & (units_exact / 10.0**scale != numbers)
    bad = (
        *_bad(np.flatnonzero(not_number), Reason.NOT_A_NUMBER, "a number"),
        *_bad(np.flatnonzero(decimals), off.reason, off.expected),
        *_bad(np.flatnonzero(too_long), Reason.DIGITS_LOST, _TOO_LONG),
    )
    integers = pa.array(units_exact, mask=~good)
    values = decimals_from_units(integers, scale) if off.reason is not Reason.NOT_WHOLE else integers
    return Cast(values, bad, int(noisy.sum()))


def decimals_from_units(units: pa.Array, scale: int) -> pa.Array:
    """Decimals from 64-bit counts of the smallest unit (12.50 at scale 2 is 1250), without a detour by text."""
    low = units.fill_null(0).to_numpy(zero_copy_only=False)
    pairs = np.empty((len(low), 2), np.int64)  # a 128-bit integer is two words, low word first
    pairs[:, 0], pairs[:, 1] = low, low >> 63
    validity = None if units.null_count == 0 else _bitmap(valid(units))
    return pa.Array.from_buffers(
        pa.decimal128(38, scale), len(low), [validity, pa.py_buffer(pairs)], null_count=units.null_count
    )


def _bitmap(mask: Mask) -> pa.Buffer:
    return pa.py_buffer(np.packbits(mask, bitorder="little"))


def to_float(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast text, floats, integers or decimals to 64-bit floats, at the precision that the column keeps."""
    rule = TextRule(pa.float64(), _one_float, r"[+-]?\d+(\.\d+)?([eE][+-]?\d+)?", _FLOAT_ALPHABET)
    if pa.types.is_decimal(cells.type):  # by way of text: many digits are not always cast to the nearest float
        cells = pc.cast(cells, pa.string())
    text = pa.types.is_string(cells.type)
    cast = cast_text(cells, rule) if text else Cast(pc.cast(cells, pa.float64(), safe=False))
    if to.precision is None or to.precision > _SINGLE:
        return cast
    return replace(cast, values=pc.cast(pc.cast(cast.values, pa.float32(), safe=False), pa.float64()))


def _one_float(text: str) -> float | Wrong:
    if text.isascii() and (_NUMBER.fullmatch(text) or _SCIENTIFIC.fullmatch(text)):
        return float(text)
    return Wrong(Reason.NOT_A_NUMBER, "a number, such as 12 or 12.5")


def number_text(cells: pa.Array) -> Cast:
    """Numbers as the text a person would type: 1001.0 is '1001'. Beyond 15 digits a float has lost some."""
    if pa.types.is_integer(cells.type):
        return Cast(pc.cast(cells, pa.string()))
    if pa.types.is_decimal(cells.type):
        return Cast(_without_trailing_zeros(pc.cast(cells, pa.string())))
    lost = mask_of(pc.greater_equal(pc.abs(cells), 10.0**SPREADSHEET_DIGITS))
    numbers = cells.fill_null(0.0).to_numpy(zero_copy_only=False)
    plain = [f"{number:.{SPREADSHEET_DIGITS}g}" for number in np.unique(numbers)]
    distinct = pa.array([text if "e" not in text else f"{Decimal(text):f}" for text in plain], pa.string())
    codes = np.searchsorted(np.unique(numbers), numbers)
    texts = distinct.take(pa.array(codes, mask=~valid(cells) | lost))
    return Cast(texts, _bad(np.flatnonzero(lost), Reason.DIGITS_LOST, _TOO_LONG))


def _without_trailing_zeros(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(pc.replace_substring_regex(texts, r"(\.\d*?)0+$", r"\1"), r"\.$", "")


def _bad(rows: Indices, reason: Reason, expected: str) -> tuple[BadCells, ...]:
    return (BadCells(rows, reason, expected),) if len(rows) else ()


NUMBER_CASTS = {Kind.INTEGER: to_integer, Kind.DECIMAL: to_decimal, Kind.FLOAT: to_float}

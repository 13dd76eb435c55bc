"""A spreadsheet's numbers: doubles of which 15 significant digits count; what a double shows beyond them is noise."""

from collections.abc import Callable
from decimal import Context, Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.tidy import digits
from tidymerge.core.tidy.cells import BadCells, Cast, Wrong, bad_cells, valid
from tidymerge.model import MOST_DIGITS, Mask, Reason

SPREADSHEET_DIGITS = 15
TOO_LONG = f"at most {SPREADSHEET_DIGITS} digits: a spreadsheet keeps no more, so give it as text"
_EXACT = Context(prec=2000)  # enough for all digits of any double


class Counted(Struct, frozen=True):
    """Floats as 64-bit counts of the smallest unit; `far` marks those whose count has more than 15 digits."""

    units: pa.Array
    far: Mask
    bad: tuple[BadCells, ...]
    rounded: int


def counted(cells: pa.Array, scale: int, off: Wrong) -> Counted:
    """Counts of 10**-scale. Within 15 digits floats must be exact; noise is rounded; `off` is said of all others."""
    present = valid(cells)
    numbers = cells.fill_null(0).to_numpy(zero_copy_only=False)
    finite = np.isfinite(numbers)
    with np.errstate(over="ignore", invalid="ignore"):
        units = numbers * 10.0**scale
        whole = np.rint(units)
        exact = np.abs(units - whole) <= np.abs(units) * 5 * 10.0**-SPREADSHEET_DIGITS
        held = np.abs(whole) < 10.0**SPREADSHEET_DIGITS
    good = present & finite & held & exact
    counts = np.where(good, whole, 0).astype(np.int64)
    noisy = good & (counts / 10.0**scale != numbers)
    bad = (
        *bad_cells(np.flatnonzero(present & ~finite), Reason.NOT_A_NUMBER, "a number"),
        *bad_cells(np.flatnonzero(present & finite & held & ~exact), off.reason, off.expected),
    )
    return Counted(pa.array(counts, mask=~good), present & finite & ~held, bad, int(noisy.sum()))


def at_scale(cells: pa.Array, scale: int, off: Wrong) -> Cast:
    """Floats as decimals of that scale; `off` is said of those with more decimals."""
    found = counted(cells, scale, off)
    values = decimals_from_units(found.units, scale)
    if not found.far.any():
        return Cast(values, found.bad, found.rounded)
    most = MOST_DIGITS - scale
    beyond = Wrong(Reason.OUT_OF_RANGE, f"a number of at most {most} digits before the point")

    def read(number: float) -> Decimal | Wrong:
        value = _fifteen_digits(number)
        if isinstance(value, Wrong):
            return value
        if float(value) != number and Decimal(number).quantize(Decimal(1).scaleb(-scale), context=_EXACT) != value:
            return Wrong(Reason.DIGITS_LOST, TOO_LONG)  # rounding would be seen in the column
        kept = value.quantize(Decimal(1).scaleb(-scale), context=_EXACT)
        return off if kept != value else beyond if kept.copy_abs() >= Decimal(10) ** most else kept

    rest = _by_distinct(cells, found.far, values.type, read)
    return Cast(pc.coalesce(values, rest.values), (*found.bad, *rest.bad), found.rounded + rest.rounded)


def spelled_out(cells: pa.Array) -> Cast:
    """Floats for a column that keeps whatever decimals there are: what their 15 digits say, in one spelling."""

    def read(number: float) -> str | Wrong:
        value = _fifteen_digits(number)
        return value if isinstance(value, Wrong) else digits.spelled(value)

    return _by_distinct(cells, valid(cells), pa.string(), read)


def _fifteen_digits(number: float) -> Decimal | Wrong:
    value = Decimal(f"{number:.{SPREADSHEET_DIGITS}g}")
    if not value.is_finite():
        return Wrong(Reason.NOT_A_NUMBER, "a number")
    return Wrong(Reason.DIGITS_LOST, TOO_LONG) if value.copy_abs() >= 10**SPREADSHEET_DIGITS else value


def _by_distinct(
    cells: pa.Array, rows: Mask, arrow: pa.DataType, read: Callable[[float], str | Decimal | Wrong]
) -> Cast:
    """Read the floats in `rows`, each distinct one once; those that become another double are counted."""
    numbers = np.where(rows, cells.fill_null(0).to_numpy(zero_copy_only=False), 0)
    distinct, codes = np.unique(numbers, return_inverse=True)
    found = [read(number) for number in distinct.tolist()]
    values = pa.array([None if isinstance(one, Wrong) else one for one in found], arrow)
    bad: list[BadCells] = []
    for verdict in dict.fromkeys(one for one in found if isinstance(one, Wrong)):
        at_fault = np.array([one == verdict for one in found], bool)[codes]
        bad += bad_cells(np.flatnonzero(rows & at_fault), verdict.reason, verdict.expected)
    noisy = [
        not isinstance(one, Wrong) and float(one) != number
        for one, number in zip(found, distinct.tolist(), strict=True)
    ]
    rounded = int((rows & np.array(noisy, bool)[codes]).sum())
    return Cast(values.take(pa.array(codes, mask=~rows)), tuple(bad), rounded)


def decimals_from_units(units: pa.Array, scale: int) -> pa.Array:
    """Decimals from 64-bit counts of the smallest unit (12.50 at scale 2 is 1250), without a detour by text."""
    low = units.fill_null(0).to_numpy(zero_copy_only=False)
    pairs = np.empty((len(low), 2), np.int64)  # a 128-bit integer is two words, low word first
    pairs[:, 0], pairs[:, 1] = low, low >> 63
    validity = None if units.null_count == 0 else _bitmap(valid(units))
    return pa.Array.from_buffers(
        pa.decimal128(MOST_DIGITS, scale), len(low), [validity, pa.py_buffer(pairs)], null_count=units.null_count
    )


def _bitmap(mask: Mask) -> pa.Buffer:
    return pa.py_buffer(np.packbits(mask, bitorder="little"))

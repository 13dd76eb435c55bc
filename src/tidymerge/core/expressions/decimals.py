"""Exact decimal arithmetic over columns, on whole counts of the smallest unit.

12.50 at scale 2 is 1250 units. Units are 64-bit integers where nothing can overflow, and Python's
unbounded integers (in a NumPy object array) otherwise; results are exact either way.
"""

from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import valid
from tidymerge.core.numbers import decimals_from_units
from tidymerge.model import Mask

QUOTIENT_DECIMALS = 10  # decimals of a quotient, rounded half away from zero; ISO SQL leaves them to us
_ROOM = 2**62
_MOST_DIGITS = 38


@dataclass(frozen=True, slots=True)
class Units:
    """Numbers as counts of 10**-scale, with a mask of the rows that hold one."""

    counts: np.ndarray
    scale: int
    present: Mask


def to_units(numbers: pa.Array) -> Units:
    """Units of an integer or 128-bit decimal array."""
    present = valid(numbers)
    if pa.types.is_integer(numbers.type):
        return Units(pc.cast(numbers, pa.int64()).fill_null(0).to_numpy(zero_copy_only=False), 0, present)
    whole = pa.concat_arrays([numbers])  # without an offset into its buffer
    words = np.frombuffer(whole.buffers()[1], np.int64)[: 2 * len(whole)].reshape(-1, 2)
    low, high = np.where(present, words[:, 0], 0), np.where(present, words[:, 1], 0)
    if (high == low >> 63).all():
        return Units(low, numbers.type.scale, present)
    wide = high.astype(object) * 2**64 + low.astype(np.uint64).astype(object)
    return Units(wide, numbers.type.scale, present)


def from_units(units: Units) -> pa.Array:
    """The decimals; a row with more than 38 digits is null, which the caller finds by comparing masks."""
    scale = min(max(units.scale, 0), _MOST_DIGITS)
    if units.counts.dtype != object:
        return decimals_from_units(pa.array(units.counts, mask=~units.present), scale)
    held = units.present & np.array([abs(count) < 10**_MOST_DIGITS for count in units.counts], bool)
    shift = Decimal(1).scaleb(-scale)
    values = [Decimal(count) * shift if ok else None for count, ok in zip(units.counts, held, strict=True)]
    return pa.array(values, pa.decimal128(_MOST_DIGITS, scale))


def aligned(one: Units, other: Units) -> tuple[Units, Units]:
    """Both at the larger of their scales."""
    scale = max(one.scale, other.scale)
    return rescaled(one, scale), rescaled(other, scale)


def rescaled(units: Units, scale: int) -> Units:
    """The same numbers at a scale that is not smaller."""
    if scale == units.scale:
        return units
    factor = 10 ** (scale - units.scale)
    return Units(_times(units.counts, np.array([factor], object)), scale, units.present)


def add(one: Units, other: Units) -> Units:
    """The sum."""
    one, other = aligned(one, other)
    first, second = _roomy(one.counts, other.counts, _largest(one.counts) + _largest(other.counts))
    return Units(first + second, one.scale, one.present & other.present)


def multiply(one: Units, other: Units) -> Units:
    """The product, at the sum of the scales."""
    return Units(_times(one.counts, other.counts), one.scale + other.scale, one.present & other.present)


def divide(one: Units, other: Units) -> Units:
    """The quotient at ten decimals; rows that divide by zero are absent."""
    nonzero = other.counts != 0
    numerator = one.counts.astype(object) * 10 ** (QUOTIENT_DECIMALS + other.scale)
    denominator = np.where(nonzero, other.counts, 1).astype(object) * 10**one.scale
    return Units(_rounded(numerator, denominator), QUOTIENT_DECIMALS, one.present & other.present & nonzero)


def round_to(units: Units, places: int) -> Units:
    """Rounded half away from zero to `places` decimals (tens and hundreds if negative)."""
    if places >= units.scale:
        return units
    step = 10 ** (units.scale - places)
    counts = _rounded(units.counts.astype(object), np.array([step], object))
    kept = Units(counts, places, units.present)
    return kept if places >= 0 else Units(_times(counts, np.array([10**-places], object)), 0, units.present)


def compare(one: Units, other: Units) -> np.ndarray:
    """-1, 0 or 1 by row; meaningless where either is absent."""
    one, other = aligned(one, other)
    return np.asarray((one.counts > other.counts).astype(np.int8) - (one.counts < other.counts).astype(np.int8))


def _rounded(numerator: np.ndarray, denominator: np.ndarray) -> np.ndarray:
    negative = (numerator < 0) ^ (denominator < 0)
    size, by = abs(numerator), abs(denominator)
    quotient = (2 * size + by) // (2 * by)
    return np.asarray(np.where(negative, -quotient, quotient))


def _times(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    first, second = _roomy(one, other, _largest(one) * _largest(other))
    return np.asarray(first * second)


def _roomy(one: np.ndarray, other: np.ndarray, largest: int) -> tuple[np.ndarray, np.ndarray]:
    """Both as 64-bit integers if they and the result, at most `largest`, have room in them."""
    kind: type = np.int64 if max(largest, _largest(one), _largest(other)) < _ROOM else object
    return one.astype(kind, copy=False), other.astype(kind, copy=False)


def _largest(counts: np.ndarray) -> int:
    return max(abs(int(counts.max())), abs(int(counts.min()))) if len(counts) else 0

"""Exact decimal arithmetic over columns, on whole counts of the smallest unit.

12.50 at scale 2 is 1250 units. Units are 64-bit integers where nothing can overflow, and Python's
unbounded integers (in a NumPy object array) otherwise; results are exact either way.
"""

from decimal import Context, Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.tidy import digits
from tidymerge.core.tidy.cells import valid
from tidymerge.core.tidy.floats import decimals_from_units
from tidymerge.model import MOST_DIGITS, Mask

QUOTIENT_DECIMALS = 10  # decimals of a quotient, rounded half away from zero; ISO SQL leaves them to us
_ROOM = 2**62
# Sums and products are exact whatever their length; what bounds it is how long an expression is.
_EXACT = Context(prec=1_000_000, Emax=10**9, Emin=-(10**9))


class Units(Struct, frozen=True):
    """Numbers as counts of 10**-scale, with a mask of the rows that hold one."""

    counts: np.ndarray
    scale: int
    present: Mask


def to_units(numbers: pa.Array) -> Units:
    """Units of integers, 128-bit decimals, or numbers spelled out as texts (`core.digits`)."""
    present = valid(numbers)
    if pa.types.is_string(numbers.type):
        return _of_texts(numbers, present)
    if pa.types.is_integer(numbers.type):
        return Units(pc.cast(numbers, pa.int64()).fill_null(0).to_numpy(zero_copy_only=False), 0, present)
    whole = pa.concat_arrays([numbers])  # without an offset into its buffer
    words = np.frombuffer(whole.buffers()[1], np.int64)[: 2 * len(whole)].reshape(-1, 2)
    low, high = np.where(present, words[:, 0], 0), np.where(present, words[:, 1], 0)
    if (high == low >> 63).all():
        return Units(low, numbers.type.scale, present)
    wide = high.astype(object) * 2**64 + low.astype(np.uint64).astype(object)
    return Units(wide, numbers.type.scale, present)


def _of_texts(numbers: pa.Array, present: Mask) -> Units:
    scale = pc.max(digits.decimals(numbers)).as_py() or 0
    coded = numbers.fill_null("0").dictionary_encode()
    shifted = [int(Decimal(text).scaleb(scale, _EXACT)) for text in coded.dictionary.to_pylist()]
    kind: type = np.int64 if max((abs(count) for count in shifted), default=0) < _ROOM else object
    return Units(np.array(shifted, kind)[coded.indices.to_numpy(zero_copy_only=False)], scale, present)


def from_units(units: Units) -> pa.Array:
    """The decimals; spelled out as texts where one of them has more digits than 128 bits hold."""
    if units.counts.dtype != object and 0 <= units.scale <= MOST_DIGITS:
        return decimals_from_units(pa.array(units.counts, mask=~units.present), units.scale)
    values = [
        Decimal(int(count)).scaleb(-units.scale, _EXACT) if there else None
        for count, there in zip(units.counts, units.present, strict=True)
    ]
    if 0 <= units.scale <= MOST_DIGITS and _largest(units.counts[units.present]) < 10**MOST_DIGITS:
        return pa.array(values, pa.decimal128(MOST_DIGITS, units.scale))
    return pa.array([None if value is None else digits.spelled(value) for value in values], pa.string())


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


def negate(one: Units) -> Units:
    """The numbers with the other sign."""
    counts = one.counts if _largest(one.counts) < _ROOM else one.counts.astype(object)
    return Units(-counts, one.scale, one.present)


def absolute(one: Units) -> Units:
    """The numbers without their sign."""
    counts = one.counts if _largest(one.counts) < _ROOM else one.counts.astype(object)
    return Units(abs(counts), one.scale, one.present)


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

"""The functions of expressions over columns, with SQL's three-valued logic: null in, unknown out."""

import re
from collections.abc import Callable, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.expressions import decimals
from tidymerge.core.expressions.types import Frame, Run, Type
from tidymerge.core.tidy import digits
from tidymerge.core.tidy.cells import mask_of
from tidymerge.core.tidy.times import durations
from tidymerge.model import Mask

_COMPARISONS: dict[str, Callable[[np.ndarray], np.ndarray]] = {
    "=": lambda order: order == 0,
    "<>": lambda order: order != 0,
    "<": lambda order: order < 0,
    "<=": lambda order: order <= 0,
    ">": lambda order: order > 0,
    ">=": lambda order: order >= 0,
}
_ARROW_COMPARISONS = {
    "=": pc.equal,
    "<>": pc.not_equal,
    "<": pc.less,
    "<=": pc.less_equal,
    ">": pc.greater,
    ">=": pc.greater_equal,
}
_ARITHMETIC = {"+": decimals.add, "*": decimals.multiply, "/": decimals.divide}


def compare(sign: str, kind: Type, one: pa.Array, other: pa.Array) -> pa.Array:
    """Compare two arrays of one type; unknown where either is null. Numbers are compared exactly."""
    if kind is Type.NUMBER and not (_is_float(one) or _is_float(other)):
        first, second = decimals.to_units(one), decimals.to_units(other)
        result = _COMPARISONS[sign](decimals.compare(first, second))
        return pa.array(result, mask=~(first.present & second.present))
    if kind is Type.TIME:
        one, other = durations(one), durations(other)
    if kind is Type.NUMBER:
        one, other = as_float(one), as_float(other)
    return _ARROW_COMPARISONS[sign](one, other)


def _is_float(values: pa.Array) -> bool:
    return bool(pa.types.is_floating(values.type))


def as_float(values: pa.Array) -> pa.Array:
    """Numbers as doubles; decimals by way of text, as many digits are not always cast to the nearest one."""
    texts = pc.cast(values, pa.string()) if pa.types.is_decimal(values.type) else values
    return pc.cast(texts, pa.float64(), safe=False)


def calculate(frame: Frame, sign: str, one: pa.Array, other: pa.Array) -> pa.Array:
    """Add, subtract, multiply or divide; exact but for quotients. Dividing by zero fails the row."""
    if _is_float(one) or _is_float(other):
        first, second = as_float(one), as_float(other)
        if sign == "/":
            frame.fail(mask_of(pc.equal(second, 0.0)), "is divided by zero")
            second = pc.if_else(pc.equal(second, 0.0), pa.scalar(None, pa.float64()), second)
        return {"+": pc.add, "-": pc.subtract, "*": pc.multiply, "/": pc.divide}[sign](first, second)
    first, second = decimals.to_units(one), decimals.to_units(other)
    if sign == "-":
        second, sign = decimals.negate(second), "+"
    result = _ARITHMETIC[sign](first, second)
    if sign == "/":
        frame.fail(first.present & second.present & (second.counts == 0), "is divided by zero")
    return decimals.from_units(result)


def negate(values: pa.Array) -> pa.Array:
    """The number with the other sign."""
    return pc.negate(values) if _is_float(values) else decimals.from_units(decimals.negate(decimals.to_units(values)))


def absolute(values: pa.Array) -> pa.Array:
    """The number without its sign."""
    return pc.abs(values) if _is_float(values) else decimals.from_units(decimals.absolute(decimals.to_units(values)))


def round_number(values: pa.Array, places: int) -> pa.Array:
    """Rounded half away from zero."""
    if _is_float(values):
        return pc.round(values, places, "half_towards_infinity")
    return decimals.from_units(decimals.round_to(decimals.to_units(values), places))


def rounded_to(values: pa.Array, places: int) -> tuple[pa.Array, Mask]:
    """Numbers with no more than `places` decimals, rounded half away from zero; and which were rounded."""
    if _is_float(values):
        rounded = round_number(values, places)
        return rounded, mask_of(pc.not_equal(rounded, values))
    units = decimals.to_units(values)
    if units.scale <= places:
        return values, np.zeros(len(values), bool)
    off = np.asarray(units.counts % 10 ** (units.scale - places) != 0, bool) & units.present
    return decimals.from_units(decimals.round_to(units, places)), off


def like(texts: pa.Array, pattern: str, escape: str | None) -> pa.Array:
    """SQL's LIKE: % is any text, _ any one character, `escape` makes the next of them plain."""
    return pc.match_substring_regex(texts, like_pattern(pattern, escape))


def like_pattern(pattern: str, escape: str | None) -> str:
    """The regular expression (RE2) that a LIKE pattern means."""
    found, plain = [], False
    for sign in pattern:
        if sign == escape and not plain:
            plain = True
            continue
        found.append(re.escape(sign) if plain or sign not in "%_" else ".*" if sign == "%" else ".")
        plain = False
    return f"(?s)^{''.join(found)}$"


def choose(conditions: Sequence[pa.Array], results: Sequence[pa.Array], otherwise: pa.Array) -> pa.Array:
    """CASE: the result of the first condition that is true."""
    chosen = otherwise
    for condition, result in zip(reversed(conditions), reversed(results), strict=True):
        chosen = pc.if_else(condition.fill_null(False), result, chosen)
    return chosen


def alike(kind: Type, arrays: Sequence[pa.Array]) -> list[pa.Array]:
    """Values of one type in one Arrow type, so that they can stand in one column."""
    if kind is Type.TIME and any(pa.types.is_string(array.type) for array in arrays):
        return [pc.cast(array, pa.string()) for array in arrays]
    if kind is not Type.NUMBER or len({str(array.type) for array in arrays}) == 1:
        return list(arrays)
    if any(map(_is_float, arrays)):
        return [as_float(array) for array in arrays]
    if any(pa.types.is_string(array.type) for array in arrays):
        return [array if pa.types.is_string(array.type) else digits.of_decimals(array) for array in arrays]
    units = [decimals.to_units(array) for array in arrays]
    scale = max(unit.scale for unit in units)
    found = [decimals.from_units(decimals.rescaled(unit, scale)) for unit in units]
    return found if len({str(array.type) for array in found}) == 1 else [digits.of_decimals(array) for array in found]


def substring(texts: pa.Array, start: int, length: int | None) -> pa.Array:
    """SQL's SUBSTRING: characters from `start` (1 is the first), `length` of them."""
    begin = max(start - 1, 0)
    stop = None if length is None else max(start - 1 + length, begin)
    return pc.utf8_slice_codeunits(texts, begin, stop)


def extract(field: str, values: pa.Array) -> pa.Array:
    """A field of a date, time or timestamp as a whole number."""
    if pa.types.is_string(values.type):  # a time that may go beyond a day
        size, most = {"hour": (3_600_000_000, None), "minute": (60_000_000, 60), "second": (1_000_000, 60)}[field]
        whole = pc.divide(durations(values), size)
        return whole if most is None else pc.subtract(whole, pc.multiply(pc.divide(whole, most), most))
    return pc.cast(getattr(pc, field)(values), pa.int64())


def constant(value: object, kind: pa.DataType) -> Run:
    """The same value in every row."""
    return lambda frame: pa.repeat(pa.scalar(value, kind), frame.length)

"""Cells to exact decimals: at the scale that the column declares, or spelled out where it leaves the digits open."""

from decimal import Context, Decimal

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy import digits, floats
from tidymerge.core.tidy.cells import Cast, TextRule, Wrong, cast_text, without
from tidymerge.model import MOST_DIGITS, ColumnType, Kind, Reason

_EXACT = Context(prec=2 * digits.MOST_DIGITS)  # Python's own would round beyond 28 digits
_POWERS = [Decimal(10) ** n for n in range(MOST_DIGITS + 1)]
_SMALLEST = 300  # decimals of what a double holds


def plain_number(text: str) -> Decimal | Wrong:
    """The number that a text writes out in full. Scientific notation may have lost digits: refused."""
    if digits.is_plain(text):
        if len(text) <= digits.MOST_DIGITS:
            return Decimal(text)
        return Wrong(Reason.OUT_OF_RANGE, f"a number of at most {digits.MOST_DIGITS:,} digits")
    if digits.is_scientific(text):
        return Wrong(Reason.DIGITS_LOST, "all digits written out, not scientific notation")
    return Wrong(Reason.NOT_A_NUMBER, "a number, such as 12 or 12.5")


def to_decimal(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast text, floats, integers or decimals to exact decimals within what the column declares."""
    if to.spelled_out:
        cast = floats.spelled_out(cells) if pa.types.is_floating(cells.type) else _spelled(cells)
        return _within_spelled(cast, to)
    if pa.types.is_floating(cells.type):
        return _within(floats.at_scale(cells, to.decimals, Wrong(Reason.TOO_MANY_DECIMALS, _wanted(to))), to)
    if pa.types.is_decimal128(cells.type) or pa.types.is_integer(cells.type):
        try:
            return _within(Cast(pc.cast(cells, to.arrow)), to)
        except pa.ArrowInvalid:  # some have more digits: each is looked at
            pass
    if not pa.types.is_string(cells.type):
        cells = digits.of_decimals(cells)
    scale = to.decimals
    whole = min(18, MOST_DIGITS - scale)
    plain = rf"-?\d{{1,{whole}}}(\.\d{{1,{scale}}})?" if scale else rf"-?\d{{1,{whole}}}"
    rule = TextRule(to.arrow, lambda text: _one_decimal(text, to), plain, b"0123456789-.", MOST_DIGITS - scale)
    return _within(cast_text(cells, rule), to)


def _wanted(to: ColumnType) -> str:
    if to.scale is None:
        return "a number, such as 12 or 12.5"
    return f"a number with at most {to.scale} decimals" if to.scale else "a whole number"


def _spelled(cells: pa.Array) -> Cast:
    texts = cells if pa.types.is_string(cells.type) else digits.of_decimals(cells)
    return cast_text(texts, TextRule(pa.string(), _one_spelled, digits.SPELLED))


def _one_spelled(text: str) -> str | Wrong:
    value = plain_number(text)
    return value if isinstance(value, Wrong) else digits.one_spelling(text)


def _one_decimal(text: str, to: ColumnType) -> Decimal | Wrong:
    value, scale = plain_number(text), to.decimals
    if isinstance(value, Wrong):
        return Wrong(value.reason, _wanted(to)) if value.reason is Reason.NOT_A_NUMBER else value
    if value.copy_abs() >= _POWERS[MOST_DIGITS - scale]:  # `abs` would round
        return Wrong(Reason.OUT_OF_RANGE, f"a number of at most {MOST_DIGITS - scale} digits before the point")
    kept = value.quantize(Decimal(1).scaleb(-scale), context=_EXACT)
    return kept if kept == value else Wrong(Reason.TOO_MANY_DECIMALS, _wanted(to))


def _within(cast: Cast, to: ColumnType) -> Cast:
    """Reject what has more digits than the column declares, or than the target can keep exactly."""
    limits = []
    if to.precision is not None:
        whole = to.precision - to.decimals
        limits.append((whole, Reason.OUT_OF_RANGE, _before_the_point(whole, to)))
    if to.digits is not None and (to.precision is None or to.precision > to.digits):
        limits.append((max(to.digits - to.decimals, 0), Reason.DIGITS_LOST, _in_all(to.digits)))
    for whole, reason, expected in limits:
        if whole + to.decimals < MOST_DIGITS:
            fits = pc.less(pc.abs(cast.values), pa.scalar(_POWERS[whole], cast.values.type))
            cast = without(cast, fits, reason, expected)
    if to.bounded:
        inside = pc.greater_equal(cast.values, pa.scalar(Decimal(to.minimum), cast.values.type))
        if not to.decimals:
            below = pc.less_equal(cast.values, pa.scalar(Decimal(to.maximum), cast.values.type))
            inside = pc.and_(inside, below)
        cast = without(cast, inside, Reason.OUT_OF_RANGE, within_bounds(to))
    return cast


def _within_spelled(cast: Cast, to: ColumnType) -> Cast:
    if to.scale is not None:
        fits = pc.less_equal(digits.decimals(cast.values), to.scale)
        cast = without(cast, fits, Reason.TOO_MANY_DECIMALS, _wanted(to))
    if to.precision is not None:
        whole = to.precision - to.decimals
        fits = pc.less_equal(digits.whole_digits(cast.values), whole)
        cast = without(cast, fits, Reason.OUT_OF_RANGE, _before_the_point(whole, to))
    if to.digits is not None:
        few = pc.less_equal(digits.significant(cast.values), to.digits)
        fits = pc.and_(few, pc.less_equal(digits.decimals(cast.values), _SMALLEST))
        cast = without(cast, fits, Reason.DIGITS_LOST, _in_all(to.digits))
    if to.bounded:  # only ever from zero up, at that size
        positive = pc.invert(pc.starts_with(cast.values, "-"))
        cast = without(cast, positive, Reason.OUT_OF_RANGE, within_bounds(to))
    return cast


def _before_the_point(whole: int, to: ColumnType) -> str:
    return f"at most {whole} digits before the point, as {to.declared} holds"


def _in_all(most: int) -> str:
    return f"at most {most} digits in all: the target keeps no more exactly"


def within_bounds(to: ColumnType) -> str:
    """The bounds of a number, for people."""
    if to.kind is Kind.FLOAT or to.scale:
        return f"a number that is not negative, as {to.declared} holds"
    return f"a whole number from {to.minimum:,} to {to.maximum:,}, as {to.declared} holds"

"""Numbers as texts in one spelling, exact at any length: equal numbers are equal texts.

So travel decimals that a 128-bit number can't be sure to hold (`ColumnType.spelled_out`).
"""

import re
from decimal import Decimal

import pyarrow as pa
import pyarrow.compute as pc

MOST_DIGITS = 1000  # of one number: what PostgreSQL lets a column declare, and far from what slows Python's integers
PLAIN = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)$"
_PLAIN = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)", re.ASCII)
_SCIENTIFIC = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)[eE][+-]?\d+", re.ASCII)
SPELLED = r"0|-?[1-9][0-9]{0,499}|-?(0|[1-9][0-9]{0,499})\.[0-9]{0,400}[1-9]"  # as RE2 has it, which counts to 1,000
_STEPS = (
    (r"^\+", ""),
    (r"^(-?)\.", r"\g<1>0."),
    (r"^(-?)0+([0-9])", r"\1\2"),
    (r"(\.[0-9]*?)0+$", r"\1"),
    (r"\.$", ""),
    (r"^-0$", "0"),
)


def is_plain(text: str) -> bool:
    """Whether a text writes a number out in full, without an exponent."""
    return _PLAIN.fullmatch(text) is not None


def is_scientific(text: str) -> bool:
    """Whether a text is a number with an exponent."""
    return _SCIENTIFIC.fullmatch(text) is not None


def one_spelling(text: str) -> str:
    """A plain number without a plus, without zeros that say nothing, and never as minus nothing."""
    for pattern, replacement in _STEPS:
        text = re.sub(pattern, replacement, text)
    return text


def in_one_spelling(texts: pa.Array) -> pa.Array:
    """The same for every text of a column of plain numbers."""
    if pc.all(pc.match_substring_regex(texts, f"^(?:{SPELLED})$")).as_py() is not False:
        return texts
    coded = texts.dictionary_encode()
    spelled = [one_spelling(text) for text in coded.dictionary.to_pylist()]
    return pa.array(spelled, pa.string()).take(coded.indices)


def spelled(value: Decimal) -> str:
    """A finite decimal in the one spelling."""
    return one_spelling(f"{value:f}")


def of_decimals(values: pa.Array) -> pa.Array:
    """Integers or decimals in the one spelling."""
    texts = pc.cast(values, pa.string())
    if pa.types.is_decimal(values.type) and pc.any(pc.match_substring(texts, "E")).as_py():  # Arrow's 0E-15
        texts = pa.array([None if value is None else f"{value:f}" for value in values.to_pylist()], pa.string())
    return in_one_spelling(texts)


def ranks(texts: pa.Array) -> pa.Array:
    """The place of each number among all different ones, the smallest first."""
    coded = texts.dictionary_encode()
    numbers = [Decimal(text) for text in coded.dictionary.to_pylist()]
    places = {number: place for place, number in enumerate(sorted(numbers))}
    return pa.array([places[number] for number in numbers], pa.int64()).take(coded.indices)


def decimals(texts: pa.Array) -> pa.Array:
    """How many digits each number has after its point."""
    return pc.utf8_length(pc.replace_substring_regex(texts, r"^[^.]*\.?", ""))


def whole_digits(texts: pa.Array) -> pa.Array:
    """How many digits each number has before its point; none where that is a lone zero."""
    return pc.utf8_length(pc.replace_substring_regex(texts, r"^-?(0?\.[0-9]*$|0$)|^-|\.[0-9]*$", ""))


def significant(texts: pa.Array) -> pa.Array:
    """How many digits each number has from the first that is not zero."""
    return pc.utf8_length(pc.replace_substring_regex(pc.replace_substring(texts, ".", ""), r"^-?0*", ""))

"""Numbers of any length are exact or refused, wherever texts become numbers; Python's own decimals say what is right."""

from decimal import Decimal, localcontext

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.core.expressions import compile_expression
from tidymerge.core.expressions.types import Frame, Type
from tidymerge.core.tidy import digits
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.formats.records import simplified
from tidymerge.model import ColumnType, Kind

DIGITS = st.text("0123456789", min_size=1, max_size=60)
PLAIN = st.tuples(
    st.sampled_from(["", "-", "+"]), DIGITS, st.one_of(st.just(""), DIGITS.map(lambda text: f".{text}"))
).map("".join)
TYPES = st.one_of(
    st.integers(1, 65).flatmap(lambda precision: st.tuples(st.just(precision), st.integers(0, min(precision, 38)))),
    st.just((None, None)),
)


def fits(text, precision, scale):
    _sign, figures, exponent = Decimal(text).as_tuple()
    figures = "".join(map(str, figures)).rjust(-exponent + 1, "0") if exponent else "".join(map(str, figures))
    whole, fraction = (figures[:exponent], figures[exponent:]) if exponent else (figures, "")
    return precision is None or (len(whole.lstrip("0")) <= precision - scale and len(fraction.rstrip("0")) <= scale)


@PROPERTY
@given(st.lists(PLAIN, min_size=1, max_size=6), TYPES, st.booleans())
def test_a_text_becomes_the_very_number_or_is_refused(texts, sizes, as_decimals):
    precision, scale = sizes
    cells = pa.array(texts)
    if as_decimals:  # as another database gives them
        cells = simplified(
            pa.array([Decimal(text) if fits(text, 60, 20) else None for text in texts], pa.decimal256(76, 20))
        )
    for kind in (Kind.DECIMAL, Kind.INTEGER):
        to = (
            ColumnType(kind, "d", precision=precision, scale=scale)
            if kind is Kind.DECIMAL
            else ColumnType(kind, "bigint")
        )
        cast = cast_cells([cells], to, len(cells))
        assert cast.values.type == to.arrow
        for text, found in zip(texts, cast.values.to_pylist(), strict=True):
            if as_decimals and not fits(text, 60, 20):
                continue
            held = (
                fits(text, precision, scale)
                if kind is Kind.DECIMAL
                else fits(text, 19, 0) and -(2**63) <= Decimal(text) < 2**63
            )
            assert (found is not None) == held
            assert not held or Decimal(found) == Decimal(text)


@PROPERTY
@given(st.lists(PLAIN, min_size=1, max_size=6))
def test_equal_numbers_have_one_spelling(texts):
    for one in (digits.in_one_spelling(pa.array(texts)).to_pylist(), [digits.one_spelling(text) for text in texts]):
        assert [Decimal(text) for text in one] == [Decimal(text) for text in texts]
        assert len(set(one)) == len({Decimal(text) for text in texts})
        for text in one:
            assert digits.decimals(pa.array([text]))[0].as_py() == max(-Decimal(text).as_tuple().exponent, 0)
            assert fits(text, digits.whole_digits(pa.array([text]))[0].as_py() + 60, 60)


SCOPES = {"incoming": {"a": Type.CELL, "b": Type.CELL}}
EXACT = [
    (compile_expression(text, "test", SCOPES), exact)
    for text, exact in (
        ("a * 1 + b", lambda a, b: a + b), ("(a + 0) * b * b", lambda a, b: a * b * b), ("cast(a as decimal) < b + 0", lambda a, b: a < b),
        ("abs(a + 0) - b", lambda a, b: abs(a) - b), ("case when 1 = 1 then a + 0 else b + 0 end", lambda a, b: a), ("-(b + 0)", lambda a, b: -b),
        ("round(a + 0, 0) = a + 0", lambda a, b: a == a.to_integral_value()), ("coalesce(nullif(a + 0, b + 0), 0)", lambda a, b: 0 if a == b else a),
    )
]  # fmt: skip


@PROPERTY
@given(st.lists(st.tuples(PLAIN, PLAIN), min_size=1, max_size=5))
def test_expressions_over_cells_are_exact_at_any_length(pairs):
    cells = {("incoming", name): pa.array(side) for name, side in zip("ab", zip(*pairs, strict=True), strict=True)}
    with localcontext() as context:
        context.prec = 500
        for expression, exact in EXACT:
            frame = Frame(cells, len(pairs), None)
            found = expression.evaluate(frame).to_pylist()
            wanted = [exact(Decimal(a), Decimal(b)) for a, b in pairs]
            assert [value if isinstance(value, bool) else Decimal(value) for value in found] == wanted, expression.text
            assert not frame.failures


@pytest.mark.parametrize(
    ("text", "to", "wanted"),
    [
        ("9999999999999999999999999999.9999999999", {"precision": 38, "scale": 10}, "9999999999999999999999999999.9999999999"),
        ("340282366920938463463374607431768211461", {"precision": 5, "scale": 0}, None),
        ("1e400", {}, None), ("1" * 1001, {}, None), ("-1", {"precision": 20, "scale": 0, "bounded": True, "minimum": 0, "maximum": 2**64 - 1}, None),
        (str(2**64 - 1), {"precision": 20, "scale": 0, "bounded": True, "minimum": 0, "maximum": 2**64 - 1}, str(2**64 - 1)),
    ],
)  # fmt: skip
def test_the_edges_hold_beside_an_odd_cell_too(text, to, wanted):
    for cells in ([text], [text, "+1"]):
        found = cast_cells([pa.array(cells)], ColumnType(Kind.DECIMAL, "d", **to), len(cells)).values[0].as_py()
        assert found == wanted or Decimal(found) == Decimal(wanted)

"""Decimal arithmetic, against Python's own decimals."""

from decimal import ROUND_HALF_UP, Decimal, localcontext

import pyarrow as pa
from hypothesis import assume, given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.core.expressions import decimals

NUMBERS = st.one_of(
    st.none(),
    st.decimals(min_value=-(10**6), max_value=10**6, places=3),
    st.decimals(min_value=-(10**25), max_value=10**25, places=3),
    st.sampled_from([Decimal(0), Decimal("0.005"), Decimal("-0.005"), Decimal("9223372036854775.807")]),
)
PAIRS = st.lists(st.tuples(NUMBERS, NUMBERS), min_size=1, max_size=10)


def columns(pairs):
    return [decimals.to_units(pa.array(list(side), pa.decimal128(38, 3))) for side in zip(*pairs, strict=True)]


@PROPERTY
@given(PAIRS)
def test_sums_products_and_order_are_exact(pairs):
    one, other = columns(pairs)
    with localcontext() as context:
        context.prec = 80
        for work, exact in ((decimals.add, lambda a, b: a + b), (decimals.multiply, lambda a, b: a * b)):
            wanted = [None if None in pair else exact(*pair) for pair in pairs]
            found = decimals.from_units(work(one, other)).to_pylist()  # texts where 38 digits are too few
            assert [value if value is None else Decimal(value) for value in found] == wanted
    order = decimals.compare(one, other)
    for row, (a, b) in enumerate(pairs):
        if a is not None and b is not None:
            assert order[row] == (a > b) - (a < b)


@PROPERTY
@given(PAIRS, st.integers(-3, 3))
def test_quotients_and_rounding_go_half_away_from_zero(pairs, places):
    one, other = columns(pairs)
    with localcontext() as context:
        context.prec = 120
        quotients = decimals.from_units(decimals.divide(one, other)).to_pylist()
        rounded = decimals.from_units(decimals.round_to(one, places)).to_pylist()
        for row, (a, b) in enumerate(pairs):
            if a is None or b is None or b == 0:
                assert quotients[row] is None
            else:
                wanted = (a / b).quantize(Decimal("1e-10"), ROUND_HALF_UP)
                assume(abs(wanted) < Decimal(10) ** 28)
                assert quotients[row] == wanted
            if a is not None:
                assert rounded[row] == a.quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP)


def test_nothing_times_much_is_nothing():
    one, other = columns([(Decimal(0), Decimal(1)), (None, Decimal(10) ** 25)])
    assert decimals.from_units(decimals.multiply(one, other)).to_pylist() == [Decimal(0), None]


def test_integers_and_sliced_columns_become_units():
    numbers = pa.array([Decimal("1.25"), None, Decimal("-2.50"), Decimal("3.75")]).slice(1)
    units = decimals.to_units(numbers)
    assert (units.counts.tolist(), units.present.tolist()) == ([0, -250, 375], [False, True, True])
    assert decimals.from_units(decimals.to_units(pa.array([1, None, -3]))).to_pylist() == [
        Decimal(1),
        None,
        Decimal(-3),
    ]

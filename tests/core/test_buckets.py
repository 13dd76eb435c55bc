"""Dividing rows by key: equal keys land together, whatever the columns, and the fingerprint does not notice."""

from datetime import date
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.core.match.buckets import BUCKETS, buckets_of

TEXTS = st.text(alphabet="abAB é0 ", max_size=4)


@PROPERTY
@given(st.lists(st.tuples(TEXTS, st.one_of(st.none(), st.integers(-5, 5))), min_size=1, max_size=30))
def test_keys_that_any_of_our_databases_may_take_for_equal_share_a_bucket(keys):
    table = pa.table(
        {"a": pa.array([key[0] for key in keys], pa.string()), "b": pa.array([key[1] for key in keys], pa.int64())}
    )
    found = buckets_of(table)
    assert found.max() < BUCKETS
    by_key: dict[tuple, set[int]] = {}
    for (text, number), bucket in zip(keys, found.tolist(), strict=True):
        folded = "".join(letter.lower() if letter.isascii() else letter for letter in text).rstrip(" ")
        by_key.setdefault((folded, number), set()).add(bucket)
    assert all(len(buckets) == 1 for buckets in by_key.values())


@pytest.mark.parametrize(
    ("one", "other"),
    [
        (pa.array([Decimal("1.50")], pa.decimal128(38, 2)), pa.array([Decimal("1.500")], pa.decimal128(38, 3))),
        (pa.array(["x"]), pa.array(["X  "])),
        (pa.array([date(2026, 5, 4)]), pa.array([date(2026, 5, 4)])),
        (pa.array([b"\x00\xff"]), pa.array([b"\x00\xff"])),
    ],
)
def test_the_stored_form_does_not_matter(one, other):
    assert buckets_of(pa.table({"k": one})).tolist() == buckets_of(pa.table({"k": other})).tolist()


def test_neighbouring_keys_are_spread_evenly():
    """A part holds about its share of the rows, for running numbers and for composite keys of few values."""
    numbers = buckets_of(pa.table({"k": pa.array(np.arange(64_000))}))
    codes = pa.array([f"A{at // 100:05}" for at in range(64_000)])
    pairs = buckets_of(pa.table({"k": codes, "n": pa.array(np.arange(64_000) % 100)}))
    for found in (numbers, pairs):
        counts = np.bincount(found, minlength=BUCKETS)
        assert counts.min() > 500
        assert counts.max() < 2_000

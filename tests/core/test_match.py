"""Matching, against dictionaries: every key type, several columns, blanks and repeats."""

from datetime import date
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.core.match.match import all_matches, code_keys, code_rows, match, repeats
from tidymerge.model import ColumnType, Fold, Kind, TargetColumn

VALUES = {
    Kind.TEXT: (pa.string(), ["a", "A", "b ", "b", "é", None]),
    Kind.INTEGER: (pa.int64(), [0, 1, -5, 2**62, -(2**63), None]),
    Kind.DECIMAL: (pa.decimal128(38, 2), [Decimal("0.10"), Decimal("-7.00"), Decimal("99999999999999999999.01"), None]),
    Kind.DATE: (pa.date32(), [date(2026, 5, 4), date(1, 1, 1), None]),
    Kind.BOOLEAN: (pa.bool_(), [True, False, None]),
    Kind.FLOAT: (pa.float64(), [0.1, 0.3, -1e300, None]),
}
KINDS = st.lists(st.sampled_from(sorted(VALUES)), min_size=1, max_size=3)


def keys_of(kinds, rows):
    """A table of key columns of these kinds, and its rows as Python tuples."""
    drawn = [
        [VALUES[kind][1][pick % len(VALUES[kind][1])] for kind, pick in zip(kinds, row, strict=True)] for row in rows
    ]
    columns = {f"k{at}": pa.array([row[at] for row in drawn], VALUES[kind][0]) for at, kind in enumerate(kinds)}
    return pa.table(columns), [tuple(row) for row in drawn]


@PROPERTY
@given(st.data(), KINDS)
def test_matching_is_that_of_a_dictionary(data, kinds):
    picks = st.lists(st.tuples(*[st.integers(0, 5)] * len(kinds)), max_size=12)
    (ours, our_keys), (theirs, their_keys) = keys_of(kinds, data.draw(picks)), keys_of(kinds, data.draw(picks))
    columns = [TargetColumn(f"k{at}", ColumnType(kind, kind)) for at, kind in enumerate(kinds)]
    codes = code_keys(ours, theirs, columns)
    found = match(codes)
    for row, key in enumerate(our_keys):
        same = [at for at, other in enumerate(their_keys) if other == key and None not in key]
        assert found.times[row] == len(same)
        assert (found.record[row] in same) if same else found.record[row] == -1
    rows, records = all_matches(codes, np.flatnonzero(found.times > 0))
    wanted = [
        (row, at)
        for row, key in enumerate(our_keys)
        for at, other in enumerate(their_keys)
        if key == other and None not in key
    ]
    assert sorted(zip(rows.tolist(), records.tolist(), strict=True)) == wanted
    twice = {row for row, key in enumerate(our_keys) if None not in key and our_keys.count(key) > 1}
    assert set(repeats(codes.incoming, codes.size).tolist()) == twice


@pytest.mark.parametrize(
    ("fold", "one", "other", "same"),
    [
        (Fold.NOTHING, "a", "A", False), (Fold.ASCII_CASE, "a", "A", True), (Fold.ASCII_CASE, "é", "É", False),
        (Fold.TRAILING_SPACES, "a", "a  ", True), (Fold.TRAILING_SPACES, "a", " a", False), (Fold.TRAILING_SPACES, "a", "a\t", False),
    ],
)  # fmt: skip
def test_keys_are_equal_as_the_target_says(fold, one, other, same):
    column = TargetColumn("k", ColumnType(Kind.TEXT, "TEXT"), fold=fold)
    codes = code_keys(pa.table({"k": [one]}), pa.table({"k": [other]}), [column])
    assert match(codes).times.tolist() == [int(same)]


def test_many_wide_columns_do_not_overflow_the_codes():
    columns = [pa.chunked_array([pa.array([at * 10**15 + row * 10**12 for row in range(50)] * 2)]) for at in range(8)]
    codes, size = code_rows(columns)
    assert len(set(codes.tolist())) == 50
    assert codes[:50].tolist() == codes[50:].tolist()
    assert 0 <= codes.min() <= codes.max() < size

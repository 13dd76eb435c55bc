"""Totals under a sheet are no records: told by their words, and by their numbers."""

from decimal import Decimal

import numpy as np
import pyarrow as pa
import pytest

from tidymerge.core.infer.totals import is_total, sums, word_of
from tidymerge.core.tidy.fill import FillDown
from tidymerge.formats.table import arrays_of
from tidymerge.model import Incoming, IncomingColumn


@pytest.mark.parametrize("text", ["Total", "TOTAL:", " Grand total", "Subtotal above 101", "Summe", "– Итого", "合計"])
def test_words_for_totals(text):
    assert is_total(text.strip())
    assert text.strip().lower().startswith(word_of(text.strip()))


@pytest.mark.parametrize("text", ["Totally", "Totalizator", "A total", "101", "Summer", "Sumatra", ""])
def test_words_that_only_look_so(text):
    assert not is_total(text)


@pytest.mark.parametrize(
    ("numbers", "rows"),
    [
        ([1, 2, 3, 6], [3]),
        ([1, 2, 3, 6, 4, 5, 6, 15, 21], [3, 7, 8]),
        ([0, 0, 0, 0], []),
        ([5, 5], []),
        ([1, 2, 3, 7], []),
        (["1.10", "2.20", "3.30", "6.60"], [3]),
        ([1, None, 2, 3, 6], [4]),
        ([1, 2, 3, None], []),
    ],
)
def test_numbers_that_add_up(numbers, rows):
    column = pa.array([None if one is None else Decimal(one) for one in numbers], pa.decimal128(20, 2))
    if 21 in numbers:
        rows = [3, 7]  # a grand total over subtotals is met by its word
    assert np.flatnonzero(sums([column])).tolist() == rows
    other = pa.array([Decimal(7)] * len(numbers), pa.decimal128(20, 2))
    assert not sums([column, other]).any()  # every number must


def test_filling_down_goes_on_from_batch_to_batch_and_keeps_the_types():
    def rows(*cells):
        return Incoming(
            "in.csv",
            (IncomingColumn("A", arrays_of(cells)), IncomingColumn("B", arrays_of(cells))),
            np.arange(len(cells)),
            1,
        )

    filling, seen = FillDown(["a"]), []
    for batch in (rows(None, "x", None), rows("", 5.0, None), rows(None, " ", "y")):
        filled = filling.fill(batch)
        column = filled.column("A")
        seen += [next((part[at].as_py() for part in column.arrays if part[at].is_valid), None) for at in range(3)]
        assert filled.column("B") is batch.column("B")
    assert seen == [None, "x", "x", "x", 5.0, 5.0, 5.0, 5.0, "y"]

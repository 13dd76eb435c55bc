"""What `look` says about a column and about keys, against counting by hand."""

from collections import Counter
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.core.infer.profile import profile
from tidymerge.formats.table import arrays_of
from tidymerge.model import IncomingColumn

CELLS = st.lists(st.sampled_from(["a", "b", "B", " a ", "", None, "7", "007", "x y"]), min_size=1, max_size=20)


@PROPERTY
@given(CELLS)
def test_counts_are_those_of_a_counter(cells):
    found = profile([IncomingColumn("c", arrays_of(cells))]).columns[0]
    counts = Counter(cell.strip() for cell in cells if cell and cell.strip())
    assert (found.rows, found.blanks, found.distinct) == (len(cells), len(cells) - counts.total(), len(counts))
    assert dict(found.commonest) == {text: counts[text] for text, _ in found.commonest}
    assert [times for _, times in found.commonest] == sorted(counts.values(), reverse=True)[:8]
    assert found.longest == max(map(len, counts), default=0)
    assert found.unique == (len(counts) == len(cells))
    if found.kind == "text" and counts:
        assert (found.smallest, found.largest) == (min(counts, key=str.encode), max(counts, key=str.encode))


@pytest.mark.parametrize(
    ("cells", "kind", "bounds"),
    [
        (["10", "9", ""], "integer", ("9", "10")),
        (["007", "12"], "integer with leading zeros", ("007", "12")),
        (["1.5", "-2"], "number", ("-2", "1.5")),
        ([1.0, 20.0, 3.0], "integer", ("1", "20")),
        ([1.5, "x"], "number and text", ("1.5", "x")),
        ([date(2026, 5, 4), None], "date", ("2026-05-04", "2026-05-04")),
        (["2026-05-04", "2026-01-01"], "date", ("2026-01-01", "2026-05-04")),
        (["2026-05-04 09:30"], "timestamp", ("2026-05-04 09:30", "2026-05-04 09:30")),
        ([True, False], "true or false", ("false", "true")),
        (["", " "], "blank", (None, None)),
    ],
)
def test_types_are_told_by_what_is_there(cells, kind, bounds):
    found = profile([IncomingColumn("c", arrays_of(cells))]).columns[0]
    assert (found.kind, found.smallest, found.largest) == (kind, *bounds)


def keys(**columns):
    found = profile([IncomingColumn(name, arrays_of(cells)) for name, cells in columns.items()]).keys
    return [(candidate.columns, candidate.blank, candidate.repeated) for candidate in found]


def test_what_can_serve_as_key():
    assert keys(a=["1", "2", "3"], b=["x", "x", "y"]) == [(("a",), 0, 0)]
    assert keys(a=["p", "p", "q"], b=["1", "2", "1"], c=["x", "x", "x"]) == [(("a", "b"), 0, 0)]
    assert keys(kg=["1.5", "2.5", "3.25"]) == []  # a measure is no key, however many different ones there are
    assert keys(a=["p", "p", "q", "q", ""], b=["1", "2", "1", "2", "3"]) == [(("a", "b"), 1, 0)]
    assert keys(a=["p"] * 9, b=["1", "2", "3", "4", "5", "6", "7", "8", "8"]) == [(("b",), 0, 1), (("a", "b"), 0, 1)]
    assert keys(a=["x", "x"], b=["y", "y"]) == []

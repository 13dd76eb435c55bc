"""New records in an order that a database can write row by row: parents before their children."""

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.core.match.order import generations
from tidymerge.model import ForeignKey, TableShape

SHAPE = TableShape(
    "t", (), foreign_keys=(ForeignKey(("parent",), "t", ("k",)), ForeignKey(("other",), "elsewhere", ("k",)))
)


@PROPERTY
@given(st.permutations(range(12)), st.lists(st.one_of(st.none(), st.integers(0, 11)), min_size=12, max_size=12))
def test_a_parent_is_always_of_an_earlier_generation(keys, parents):
    """Parents point at smaller keys here, so there are no circles, but in any order of the rows."""
    rows = [
        (key, parent if parent is not None and parent < key else None)
        for key, parent in zip(keys, parents, strict=True)
    ]
    table = pa.table(
        {
            "k": pa.array([key for key, _ in rows], pa.int64()),
            "parent": pa.array([parent for _, parent in rows], pa.int64()),
        }
    )
    found = dict(zip((key for key, _ in rows), generations(table, SHAPE).tolist(), strict=True))
    for key, parent in rows:
        assert found[key] == (0 if parent is None else found[parent] + 1)


def test_circles_and_parents_that_are_not_among_them_end():
    table = pa.table({"k": [1, 2, 3, 4], "parent": [2, 1, 3, 99]})
    found = generations(table, SHAPE).tolist()
    assert found[2:] == [0, 0]  # its own parent, and one that stands in the table already

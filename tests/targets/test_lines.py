"""Filling temporary tables: the text that COPY and LOAD DATA read, and how bad rows are narrowed down."""

from contextlib import nullcontext

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.databases.contract.database import ConstraintBroken
from tidymerge.databases.contract.lines import filled, tab_lines
from tidymerge.model.changes import Refusal

_MEANING = {"\\\\": "\\", "\\t": "\t", "\\n": "\n", "\\r": "\r"}


def read_back(text):
    """The cells as the server reads them."""
    for line in text.split("\n")[:-1]:
        yield tuple(None if cell == "\\N" else unescaped(cell) for cell in line.split("\t"))


def unescaped(cell):
    found, at = "", 0
    while at < len(cell):
        step = 2 if cell[at] == "\\" else 1
        found += _MEANING[cell[at : at + 2]] if step == 2 else cell[at]
        at += step
    return found


@PROPERTY
@given(
    st.lists(
        st.lists(st.one_of(st.none(), st.text(alphabet="aé\\\t\n\rN,\"' ", max_size=6)), min_size=2, max_size=2),
        max_size=8,
    )
)
def test_every_text_arrives_as_it_was(rows):
    table = pa.table({name: pa.array([row[at] for row in rows], pa.string()) for at, name in enumerate("ab")})
    assert list(read_back(b"".join(tab_lines(table)).decode())) == [tuple(row) for row in rows]


@pytest.mark.parametrize("bad", [set(), {0}, {999}, {3, 4, 500}])
def test_bad_rows_are_found_in_a_number_of_attempts_that_grows_with_the_logarithm(bad):
    attempts, kept = [0], []

    def fill(rows):
        attempts[0] += 1
        if hit := bad & set(rows["n"].to_pylist()):
            raise ConstraintBroken(f"no room for {min(hit)}")
        kept.extend(rows["n"].to_pylist())

    refused = filled(fill, nullcontext, pa.table({"n": range(1000)}), first=7)
    assert refused == [Refusal(7 + at, f"no room for {at}") for at in sorted(bad)]
    assert sorted(kept) == sorted(set(range(1000)) - bad)
    assert attempts[0] <= 1 + 2 * 10 * len(bad)

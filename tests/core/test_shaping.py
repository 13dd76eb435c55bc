"""Numbers and dates as people write them: read as they are meant, or not at all."""

from datetime import date, datetime

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.core.tidy.patterns import check_pattern, first_found
from tidymerge.core.tidy.shaping import shape_column
from tidymerge.core.tidy.steps import Cut, DateFormats, LetterCase, Match, NumberMarks, Pad, Replace, ValueMap
from tidymerge.errors import BadExpression
from tidymerge.model import ColumnType, Incoming, IncomingColumn, Kind
from tidymerge.model.rules import ColumnRule

KG = ColumnType(Kind.DECIMAL, "DECIMAL(18,3)", precision=18, scale=3)


def shaped(rule, cells, kind=Kind.DECIMAL, mark=None):
    """What a rule makes of one column called X."""
    incoming = Incoming("in.csv", (IncomingColumn("X", (pa.array(cells, pa.string()),)),), np.arange(len(cells)), 1)
    return shape_column(incoming, rule, kind, mark)


@PROPERTY
@given(st.lists(st.decimals(min_value=-(10**9), max_value=10**9, places=2), min_size=1, max_size=8), st.booleans())
def test_a_number_written_with_points_and_a_comma_comes_back(numbers, euros):
    texts = [f"{number:,.2f}".translate(str.maketrans(",.", ".,")) + (" €" if euros else "") for number in numbers]
    rule = ColumnRule(sources=("X",), steps=(NumberMarks(",", ".", currency="€"),))
    cast = cast_cells(shaped(rule, texts).arrays, KG, len(texts))
    assert cast.values.to_pylist() == numbers


@PROPERTY
@given(st.decimals(min_value=-1000, max_value=1000, places=1))
def test_percent_moves_the_point_two_places(number):
    rule = ColumnRule(sources=("X",), steps=(NumberMarks(percent=True),))
    cast = cast_cells(shaped(rule, [f"{number} %", f"{number}"]).arrays, KG, 2)
    assert cast.values.to_pylist() == [number / 100, number]


@pytest.mark.parametrize("text", ["1.5", "1.2345,5", "12.34", "1,5,5", "1.234.5", "--5", "5-", "€"])
def test_what_could_be_another_number_is_not_read(text):
    rule = ColumnRule(sources=("X",), steps=(NumberMarks(",", ".", currency="€"),))
    assert cast_cells(shaped(rule, [text]).arrays, KG, 1).values.to_pylist() == [None]


@PROPERTY
@given(st.dates(min_value=date(1900, 1, 1)), st.sampled_from(["%d/%m/%Y", "%m-%d-%Y", "%d %B %Y", "%Y%m%d"]))
def test_dates_in_a_format_come_back(day, form):
    found = shaped(
        ColumnRule(sources=("X",), steps=(DateFormats(("%H:%M", form)),)), [day.strftime(form), ""], Kind.DATE
    )
    assert found.arrays[0].to_pylist() == [day, None]
    assert not found.flaws


def test_a_format_reads_what_the_column_keeps():
    rule = ColumnRule(sources=("X",), steps=(DateFormats(("%d.%m.%Y %H:%M",)),))
    assert shaped(rule, ["04.05.2026 09:30"], Kind.TIMESTAMP).arrays[0].to_pylist() == [datetime(2026, 5, 4, 9, 30)]
    flaws = shaped(rule, ["04.05.2026"], Kind.TIMESTAMP).flaws
    assert (flaws[0].values.to_pylist(), "%d.%m.%Y %H:%M" in flaws[0].expected) == (["04.05.2026"], True)


def test_a_clearing_mark_is_no_value_and_is_remembered():
    found = shaped(ColumnRule(sources=("X",)), ["-", "--", "", None, " - "], Kind.TEXT, mark="-")
    assert found.arrays[0].to_pylist() == [None, "--", None, None, None]
    assert found.cleared.tolist() == [True, False, False, False, True]


def test_steps_apply_in_the_order_of_the_reference():
    steps = (
        Cut("/", 2), Match(r"(\d+)"), Replace((("0", "o"),)), LetterCase("upper"), Pad(4, "*"), ValueMap({"*1O2": "found"}),
    )  # fmt: skip
    rule = ColumnRule(sources=("X",), steps=steps)
    found = shaped(rule, ["a/no 102 b", "a/7", "x"], Kind.TEXT)
    assert found.arrays[0].to_pylist() == ["found", None, None]
    assert [(flaw.reason, flaw.values.to_pylist()) for flaw in found.flaws] == [
        ("wrong number of pieces", ["x"]),
        ("not in the value map", ["***7"]),
    ]


@pytest.mark.parametrize(
    ("pattern", "text", "found"),
    [
        (r"\d+", "no 102 b 7", "102"), (r"no (\d+)", "no 102", "102"), (r"(?:no|nr) (\d+)", "nr 5", "5"),
        (r"^b", "ab", None), (r"b$", "ab\ncb", "b"), (r"(?i)no (\w)", "NO x", "x"), (r"a|(b)", "a", None),
        (r"a*", "bbb", None), (r"(a)(b)", "xab", "a"), (r"(?P<x>\d)", "a1", "1"), ("line.*two", "line\ntwo", None),
    ],
)  # fmt: skip
def test_what_a_pattern_finds_is_what_re2_finds(pattern, text, found):
    assert first_found(pa.array([text, None, text]), pattern).to_pylist() == [found, None, found]


def test_no_pattern_takes_longer_than_its_text():
    """It would not end in the lifetime of the tests with an engine that tries all ways back."""
    texts = pa.array([f"{'a' * 60}! {at}" for at in range(2000)])
    rule = ColumnRule(sources=("X",), steps=(Match(r"^(a+)+$"), Replace(((r"^(a|a)*$", "b"),))))
    assert first_found(texts, r"^(a+)+$").null_count == 2000
    assert shaped(rule, texts.to_pylist(), Kind.TEXT).arrays[0].null_count == 2000


@pytest.mark.parametrize("pattern", ["(", r"(?=a)", r"(a)\1", "[z-a]"])
def test_a_pattern_that_can_not_be_used_is_named_with_its_place(pattern):
    with pytest.raises(BadExpression, match=r"columns.a.pattern: .*RE2"):
        check_pattern(pattern, "columns.a.pattern")
    with pytest.raises(BadExpression, match=r"columns.a.replace"):
        check_pattern("a(b)", "columns.a.replace", r"\2")

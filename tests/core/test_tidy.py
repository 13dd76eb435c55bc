"""Tidying and guarding of text, over anything that can stand in a cell."""

import re
import unicodedata

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from strategies import any_text
from tidymerge.core.tidy.tidying import guard, is_guarded, tidy, unguard

TEXTS = st.lists(st.one_of(st.none(), any_text(8), st.text(" \t\n\xa0\u3000ae=+-@'\u0301", max_size=6)), max_size=12)


@PROPERTY
@given(TEXTS)
def test_outer_space_goes_letters_are_composed_and_the_inside_stays(texts):
    wanted = [text and (unicodedata.normalize("NFC", text.strip()) or None) for text in texts]
    found = tidy(pa.array(texts, pa.string())).to_pylist()
    for before, ours, plain in zip(texts, found, wanted, strict=True):
        # Python strips four control characters that Unicode does not count as white space, and so do we for ASCII.
        assert (ours or "").strip() == (plain or ""), repr(before)
        assert ours != ""


@PROPERTY
@given(TEXTS)
def test_tidying_twice_is_tidying_once_and_works_on_slices(texts):
    column = pa.array(["x", *texts], pa.string()).slice(1)
    once = tidy(column)
    assert tidy(once).equals(once)


@PROPERTY
@given(TEXTS)
def test_a_guard_comes_off_again_and_leaves_nothing_to_run(texts):
    column = pa.array(texts, pa.string())
    guarded = guard(column)
    assert unguard(guarded).equals(column)
    for text in guarded.to_pylist():
        assert not text or (text[0] not in "=@\t\r" and (text[0] not in "+-" or float(text) is not None))


@PROPERTY
@given(
    st.lists(
        st.one_of(
            st.none(),
            st.builds(
                str.__add__, st.sampled_from(["", '"', '"=', "\"'+"]), st.text("=+-@'\t\r\n;,|\" a5.", max_size=9)
            ),
        ),
        max_size=20,
    )
)
def test_a_guard_stands_wherever_another_program_may_cut(texts):
    """Cut at any one separator, without heed to quotes, no piece starts a formula."""
    column = pa.array(texts, pa.string())
    guarded = guard(column)
    assert unguard(guarded).equals(column)
    assert is_guarded(guarded)
    for text in filter(None, guarded.to_pylist()):
        for separator in ";,|\t\n\r":
            for piece in text.split(separator):
                bare = piece.lstrip('"') if piece != text else piece
                assert not bare.startswith(("=", "@")), text
                if bare.startswith(("+", "-")):
                    assert re.match(r"[+-][0-9.]", bare), text


@pytest.mark.parametrize(("text", "guarded"), [("a;=1", "a;'=1"), ('a;"=1', 'a;"\'=1'), ("52.1,-0.5", "52.1,-0.5"), ("a\n@b", "a\n'@b"), ('"=1', '"=1'), ('"=1;a', '"\'=1;a'), ('"-5;a', '"-5;a'), ("temp; -5", "temp; -5"), ("-5", "-5"), ("+1.5e3", "+1.5e3"), ("-5+1", "'-5+1"), ("=1", "'=1"), ("'x", "'x"), ("'=x", "''=x"), ("a=b", "a=b")])  # fmt: skip
def test_numbers_are_left_alone(text, guarded):
    assert guard(pa.array([text])).to_pylist() == [guarded]

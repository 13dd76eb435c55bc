"""Hypothesis strategies that the tests share: keys, cells and whole sheets as people send them."""

from hypothesis import strategies as st

SIGNS = st.one_of(st.integers(0, 0xD7FF), st.integers(0xE000, 0x10FFFF)).map(chr)  # no table of Unicode is built for it


def any_text(most: int) -> st.SearchStrategy[str]:
    """Texts of any signs at all."""
    return st.lists(SIGNS, max_size=most).map("".join)


CODES = st.sampled_from(["L01", "L02", "l01", "L1", "É7", "e7"])
NUMBERS = st.sampled_from(["1", "2", "3", "10"])
SPACES = st.sampled_from(["", " ", "\N{NO-BREAK SPACE}", "\t"])
HONEY = st.sampled_from(["", "0", "0.00", "12.5", "12.50", "-3", "12.505", "about 9", "1000000", "1e3", ".5"])
DATES = st.sampled_from(["", "2026-05-01", "2026-05-02", "2026-02-30", "01/05/2026", "2026-05-01 00:00:00"])
NOTES = st.one_of(
    st.sampled_from(["", "calm", "too long a note"]), st.text("aé=' \N{COMBINING ACUTE ACCENT}", max_size=6)
)


def padded(cells: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    """Cells with spaces around them that nobody sees."""
    return st.builds(lambda before, cell, after: before + cell + after, SPACES, cells, SPACES)


SHEET_ROWS = st.lists(
    st.tuples(padded(st.one_of(st.just(""), CODES)), padded(st.one_of(st.just(""), NUMBERS)), HONEY, DATES, NOTES),
    max_size=14,
)
TABLE_ROWS = st.lists(
    st.tuples(
        CODES,
        NUMBERS.map(int),
        st.sampled_from([None, 0, 12.5, "12.500", "n/a", 3.25]),
        st.sampled_from([None, "2026-05-01", "2026-05-03"]),
        st.sampled_from([None, "calm", "é"]),
        st.sampled_from([None, b"\x00\xff", 7, "kept"]),
    ),
    max_size=10,
    unique_by=lambda row: (row[0], row[1]),
)

"""Finding the row that holds the column names, under title rows and notes."""

from collections.abc import Iterable, Sequence

from tidymerge.core.naming.mapping import fold
from tidymerge.errors import NoHeader

ROWS_SEARCHED = 30
_NEARLY_AS_WIDE = 0.75  # a name may be missing where no cell below is


def find_header(head: Sequence[Sequence[str]], names: Iterable[str]) -> int:
    """The index of the row that holds most of `names` (folded); the first of equals.

    `head` is the top of the sheet as text. Raises NoHeader when no row holds any of them.
    """
    wanted = {fold(name) for name in names}
    scores = [len({fold(cell) for cell in row if cell.strip()} & wanted) for row in head]
    if not any(scores):
        raise NoHeader(
            f"None of the first {len(head)} rows holds a name of the target's columns. "
            "If the names differ, say which columns belong together, or in which row the column names are.",
            give=((("columns", "COLUMN=…"),), (("header_row", "NUMBER"),)),
        )
    return scores.index(max(scores))


def likely_header(head: Sequence[Sequence[str]], names: Iterable[str]) -> tuple[int, bool]:
    """The row that holds most of `names`, or else the one that looks like a header; and whether it only looks so."""
    try:
        return find_header(head, names), False
    except NoHeader:
        return guess_header(head), True


def guess_header(head: Sequence[Sequence[str]]) -> int:
    """The likeliest header where no target tells the names: the first row with about as many distinct texts as any."""
    scores = [_width(row) for row in head]
    enough = max(scores, default=0) * _NEARLY_AS_WIDE
    return next((at for at, score in enumerate(scores) if score >= enough), 0)


def _width(row: Sequence[str]) -> int:
    cells = [cell.strip() for cell in row if cell.strip()]
    words = [cell for cell in cells if not cell.replace(".", "").replace("-", "").isdigit()]
    return 2 * len(set(words)) - len(cells)

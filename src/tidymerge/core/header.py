"""Finding the row that holds the column names, under title rows and notes."""

from collections.abc import Iterable, Sequence

from tidymerge.core.mapping import fold
from tidymerge.errors import NoHeader

ROWS_SEARCHED = 30


def find_header(head: Sequence[Sequence[str]], names: Iterable[str]) -> int:
    """The index of the row that holds most of `names` (folded); the first of equals.

    `head` is the top of the sheet as text. Raises NoHeader when no row holds any of them.
    """
    wanted = {fold(name) for name in names}
    scores = [len({fold(cell) for cell in row if cell.strip()} & wanted) for row in head]
    if not any(scores):
        raise NoHeader(
            f"None of the first {len(head)} rows holds a name of the target's columns. "
            "If the names differ, say which columns belong together with --map, "
            "or give the row of the column names with --header-row."
        )
    return scores.index(max(scores))


def guess_header(head: Sequence[Sequence[str]]) -> int:
    """The likeliest header where no target tells the names: the first of the widest rows of distinct texts."""
    scores = [_width(row) for row in head]
    return scores.index(max(scores)) if scores else 0


def _width(row: Sequence[str]) -> int:
    cells = [cell.strip() for cell in row if cell.strip()]
    words = [cell for cell in cells if not cell.replace(".", "").replace("-", "").isdigit()]
    return 2 * len(set(words)) - len(cells)

"""Formulas that name the rows of a sheet by place, and so do not see rows that come below.

Source: ECMA-376, part 1, 18.3.1.40 (formulas), 18.17.2.3 (references).
"""

import re
from collections.abc import Iterable
from html import unescape

from tidymerge.core.naming.letters import column_index
from tidymerge.formats.sheet.book import Book

_CELL = re.compile(rb'<(?:\w+:)?c\b[^>]*?\br="([A-Z]+[0-9]+)"[^>]*>\s*<(?:\w+:)?f\b[^>]*>([^<]+)</')
_RANGE = re.compile(
    r"(?:(?:'((?:[^']|'')+)'|([^\W\d][\w.]*))!)?\$?([A-Z]{1,3})\$?([0-9]+):\$?([A-Z]{1,3})\$?([0-9]+)(?![0-9(])"
)


def blind_spots(book: Book, columns: Iterable[int], last: int) -> list[str]:
    """The formulas with a range over one of the columns that ends in the row `last`: place and text of each."""
    wanted = set(columns)
    found = []
    for sheet, part in book.sheets.items():
        for place, text in _CELL.findall(book.package.read(part)):
            formula = unescape(text.decode("utf-8", "replace"))
            if any(_ends_there(one, sheet, book.sheet, wanted, last) for one in _RANGE.finditer(formula)):
                found.append(f"{sheet}!{place.decode()} ={formula}")
    return found


def _ends_there(found: re.Match[str], own: str, wanted: str, columns: set[int], last: int) -> bool:
    sheet = (found[1] or found[2] or own).replace("''", "'")
    left, right = column_index(found[3]), column_index(found[5])
    covers = any(left <= column <= right for column in columns)
    return sheet.casefold() == wanted.casefold() and int(found[4]) < last == int(found[6]) and covers

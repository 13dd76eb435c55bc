"""What in a workbook names the cells of a column: formulas, names, charts, rules of formats and of what may be typed.

Source: ECMA-376, part 1, 18.17.2.3 (references), 18.5.1.2 (tables' own references).
"""

import re
from collections.abc import Iterator
from xml.etree import ElementTree as ET

from tidymerge.core.naming.letters import column_index
from tidymerge.formats.sheet.book import Book
from tidymerge.formats.sheet.package import local

_SHEET = r"(?:(?:'((?:[^']|'')+)'|([^\W\d][\w.]*))!)?"
_CELLS = re.compile(rf"(?<![\w.$'!]){_SHEET}\$?([A-Z]{{1,3}})\$?([0-9]+)(?::\$?([A-Z]{{1,3}})\$?([0-9]+))?(?![\w(.!])")
_COLUMNS = re.compile(rf"(?<![\w.$'!]){_SHEET}\$?([A-Z]{{1,3}}):\$?([A-Z]{{1,3}})(?![\w(.!])")
_TEXTS = re.compile(r'"[^"]*"')
_RULES = {"conditionalFormatting": "a conditional format", "dataValidation": "a rule of what may be typed"}
_LARGE = ("sharedStrings.xml", "styles.xml")  # parts that hold no formulas


def naming(book: Book, column: int, name: str, rows: tuple[int, int]) -> list[str]:
    """What names cells of a column in some rows, each in words with its place."""
    found = []
    for place, own, text in _formulas(book):
        if _names(text, own, book, column, rows) or _names_in_table(text, own, book, name):
            found.append(f"{place} (={text})")
    return found


def _formulas(book: Book) -> Iterator[tuple[str, str, str]]:
    """All formulas: where each stands, on which sheet, and its text."""
    sheets = {part: sheet for sheet, part in book.sheets.items()}
    for part in book.package.names:
        if not part.endswith(".xml") or part.endswith(_LARGE):
            continue
        root = book.package.tree(part)
        if part in sheets:
            yield from ((f"{place} of {sheets[part]}", sheets[part], text) for place, text in _of_sheet(root))
        elif part == book.package.main:
            names = [(one.get("name", ""), one.text or "") for one in root.iter() if local(one.tag) == "definedName"]
            # Names that begin so are the spreadsheet's own, such as a filter's range.
            yield from ((f"the name {name}", "", text) for name, text in names if not name.startswith("_xlnm."))
        elif "/charts/" in part:
            yield from (("a chart", "", one.text or "") for one in root.iter() if local(one.tag) == "f")


def _of_sheet(root: ET.Element) -> Iterator[tuple[str, str]]:
    for one in root.iter():
        kind = local(one.tag)
        if kind == "c":
            for inner in one:
                if local(inner.tag) == "f" and inner.text:
                    yield f"the formula in {one.get('r')}", inner.text
        elif kind in _RULES:
            for inner in one.iter():
                if local(inner.tag) in ("formula", "formula1", "formula2") and inner.text:
                    yield _RULES[kind], inner.text


def _names(formula: str, own: str, book: Book, column: int, rows: tuple[int, int]) -> bool:
    """Whether a formula on the sheet `own` names a cell of the column."""
    text = _TEXTS.sub("", formula)
    for found in _CELLS.finditer(text):
        left, right = column_index(found[3]), column_index(found[5] or found[3])
        top, bottom = int(found[4]), int(found[6] or found[4])
        if _there(found, own, book) and left <= column <= right and top <= rows[1] and rows[0] <= bottom:
            return True
    return any(
        _there(found, own, book) and column_index(found[3]) <= column <= column_index(found[4])
        for found in _COLUMNS.finditer(text)
    )


def _there(found: re.Match[str], own: str, book: Book) -> bool:
    sheet = (found[1] or found[2] or own).replace("''", "'")
    return sheet.casefold() == book.sheet.casefold()


def _names_in_table(formula: str, own: str, book: Book, name: str) -> bool:
    """Whether a formula names the column by its name, as in Hives[Notes] or, in the table itself, [@Notes]."""
    if book.table is None or f"{name}]".casefold() not in formula.casefold():
        return False
    return own == book.sheet or book.table.name.casefold() in formula.casefold()

"""The sender's copy: the rows as they came, with what became of each.

Colours differ in lightness too, and words say the same.
"""

from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct
from openpyxl import Workbook, load_workbook
from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE
from openpyxl.comments import Comment
from openpyxl.packaging.custom import StringProperty
from openpyxl.styles import Font, PatternFill
from openpyxl.utils import get_column_letter
from openpyxl.worksheet.worksheet import Worksheet

from tidymerge.core.explain.marks import Marks, status
from tidymerge.core.naming.letters import column_names
from tidymerge.core.tidy.cells import as_array, differs
from tidymerge.core.tidy.corrected import GUARDED, MARKS
from tidymerge.core.tidy.tidying import guard
from tidymerge.errors import BadOption
from tidymerge.model.changes import Outcome
from tidymerge.on_disk import Placed, put
from tidymerge.reports.ours import SIGN
from tidymerge.reports.text_file import write_csv

# Of the row's own columns, and stronger of the cell that changed or is wrong. Made for this; apart in grey as well.
_ROW = {
    Outcome.INSERTED: "DDF1EA",
    Outcome.UPDATED: "E6EEFB",
    Outcome.REMOVED: "EFE6F6",
    Outcome.SKIPPED: "EEF0F2",
    Outcome.REJECTED: "FBE6DD",
}
_CHANGED_CELL, _REJECTED_CELL = "B4CDF3", "F0A98C"
_MEANINGS = (
    (Outcome.INSERTED, "a new record was made of the row"),
    (Outcome.UPDATED, "a record had the key and other values; a note on each changed cell has the value before"),
    (Outcome.REMOVED, "the row says that its record goes"),
    (Outcome.UNCHANGED, "the record held the same values already"),
    (Outcome.SKIPPED, "left out on purpose"),
    (Outcome.REJECTED, "something is wrong: correct the cell and send the row again"),
)
_MOST_ROWS = 1_048_576  # of a sheet: ECMA-376
_WIDTHS = (13, 60, 30, 18, 20)
Own = Mapping[str, list[str | None]]
_NOTES = 20_000  # more would make the file too slow to open


class Marked(Struct, frozen=True):
    """Rows with their marks: the cells as text, the sheet and the row of its column names.

    `called` is the table that they are about, where a sheet has marks of several.
    """

    marks: Marks
    cells: pa.Table
    sheet: str | None
    header_row: int
    called: str = ""

    def own(self, started: datetime, *, preview: bool) -> dict[str, list[str | None]]:
        """Our columns, in the order of MARKS, by their titles."""
        words = [status(outcome, preview=preview) for outcome in self.marks.outcomes.tolist()]
        texts = [as_array(self.marks.texts[name]).to_pylist() for name in ("why", "changed", "key")]
        columns = [words, *texts, [f"{started:%Y-%m-%d %H:%M:%S} UTC"] * len(words)]
        titles = [f"{self.called}: {title}" if self.called else title for title in MARKS]
        return dict(zip(titles, columns, strict=True))


def write_marked(
    path: Path, marked: Sequence[Marked], original: Path | None, started: datetime, *, preview: bool
) -> tuple[Placed, str | None]:
    """Write the copy, in the form of its ending; the file, and what is worth knowing about it, if anything.

    `original` is the workbook that the rows came in, if it is one that can be copied with all of its looks; several
    tables' rows need one. Raises BadOption.
    """
    note = None
    columns = [one.own(started, preview=preview) for one in marked]

    def write(draft: Path) -> None:
        nonlocal note
        if path.suffix.lower() == ".xlsx":
            note = _write_workbook(draft, path, marked, columns, original)
        else:
            _write_csv(draft, marked[0].cells, columns[0])

    try:
        return put(path, write), note
    except OSError as error:
        raise BadOption(f"The marked copy can't be written to {path}: {error.strerror or error}.") from None


def _write_csv(path: Path, cells: pa.Table, own: Own) -> None:
    plain = [as_array(column) for column in cells.columns] + [pa.array(values, pa.string()) for values in own.values()]
    guarded = [guard(texts) for texts in plain]
    touched = np.logical_or.reduce([differs(one, other) for one, other in zip(plain, guarded, strict=True)])
    columns = [texts.to_pylist() for texts in (*guarded, pa.array(np.where(touched, "yes", "")))]
    names = [*guard(pa.array(cells.column_names, pa.string())).to_pylist(), *own, GUARDED]
    write_csv(path, names, zip(*columns, strict=True))


def _write_workbook(
    draft: Path, path: Path, marked: Sequence[Marked], columns: Sequence[Own], original: Path | None
) -> str | None:
    if original is not None and all(one.sheet is not None for one in marked):
        book = load_workbook(original, keep_vba=False)
        noted = [
            _mark(book[one.sheet], one, one.header_row, one.marks.rows.tolist(), own)
            for one, own in zip(marked, columns, strict=True)
        ]
    else:
        (one,), (own,) = marked, columns
        if one.cells.num_rows >= _MOST_ROWS:
            raise BadOption(
                f"{path} can't hold {one.cells.num_rows:,} rows, as a sheet has {_MOST_ROWS:,}: write a .csv."
            )
        book = Workbook()
        sheet = book.active
        sheet.title = "Rows"
        noted = [_mark(sheet, one, 1, _fill(sheet, one.cells), own)]
        sheet.freeze_panes = sheet.cell(2, 1)
    _legend(book)
    _sign(book)
    book.save(draft)
    if any(count < sum(not c.rejected for c in one.marks.cells) for count, one in zip(noted, marked, strict=True)):
        return f"{path} has notes with earlier values on the first {_NOTES:,} changed cells only."
    return None


def _mark(sheet: Worksheet, marked: Marked, header_row: int, numbers: list[int], own: Own) -> int:
    """Mark the rows of a sheet, which stand at `numbers`; how many cells have a note."""
    place = dict(zip(marked.marks.rows.tolist(), numbers, strict=True))
    left = sheet.max_column + 1
    _fill_own(sheet, header_row, left, numbers, own, marked.marks)
    noted = _mark_cells(sheet, header_row, place, marked.marks)
    _filter(sheet, header_row, left + len(MARKS) - 1)
    return noted


def _fill(sheet: Worksheet, cells: pa.Table) -> list[int]:
    """The rows in a sheet of their own, all as text; where each stands."""
    for at, name in enumerate(cells.column_names, start=1):
        _put(sheet, 1, at, name).font = Font(bold=True)
        for row, text in enumerate(as_array(cells.column(at - 1)).to_pylist(), start=2):
            if text is not None:
                _put(sheet, row, at, text)
    return list(range(2, cells.num_rows + 2))


def _put(sheet: Worksheet, row: int, column: int, text: str) -> Any:
    """A text in a cell, which is never taken for a formula."""
    cell = sheet.cell(row, column)
    cell.value = ILLEGAL_CHARACTERS_RE.sub("\N{REPLACEMENT CHARACTER}", text)
    cell.data_type = "s"
    if text[:1] in "=+-@\t\r'":
        cell.quotePrefix = True
    return cell


def _fill_own(sheet: Worksheet, header_row: int, left: int, numbers: list[int], own: Own, marks: Marks) -> None:
    fills = {outcome: PatternFill("solid", fgColor=colour) for outcome, colour in _ROW.items()}
    bold = Font(bold=True)
    for at, (title, width) in enumerate(zip(own, _WIDTHS, strict=True)):
        _put(sheet, header_row, left + at, title).font = bold
        sheet.column_dimensions[get_column_letter(left + at)].width = width
    for index, number in enumerate(numbers):
        fill = fills.get(Outcome(marks.outcomes[index]))
        for at, values in enumerate(own.values()):
            text = values[index]
            cell = _put(sheet, number, left + at, text) if text else sheet.cell(number, left + at)
            if fill is not None:
                cell.fill = fill


def _mark_cells(sheet: Worksheet, header_row: int, place: dict[int, int], marks: Marks) -> int:
    """Colour the changed and the wrong cells, with the earlier value in a note; how many have one."""
    names = column_names(["" if cell.value is None else str(cell.value) for cell in sheet[header_row]])
    columns = {name: at for at, name in enumerate(names, start=1)}
    changed, wrong = (PatternFill("solid", fgColor=colour) for colour in (_CHANGED_CELL, _REJECTED_CELL))
    noted = 0
    for mark in marks.cells:
        if mark.column not in columns:
            continue
        cell = sheet.cell(place[mark.row], columns[mark.column])
        cell.fill = wrong if mark.rejected else changed
        if not mark.rejected and noted < _NOTES:
            cell.comment = Comment(f"before: {ILLEGAL_CHARACTERS_RE.sub('', mark.before or '')}", "Tidy Merge")
            noted += 1
    return noted


def _filter(sheet: Worksheet, header_row: int, right: int) -> None:
    """A filter on all columns, so on the status too; a table of the sheet's own has one already, which is kept."""
    if any(_covers(table.ref, header_row) for table in sheet.tables.values()):
        return
    sheet.auto_filter.ref = f"A{header_row}:{get_column_letter(right)}{max(sheet.max_row, header_row + 1)}"


def _covers(ref: str, row: int) -> bool:
    top, _, bottom = ref.partition(":")
    first, last = (int("".join(sign for sign in corner if sign.isdigit())) for corner in (top, bottom or top))
    return first <= row <= last


def _sign(book: Workbook) -> None:
    """Let the file say that it is a marked copy, so that the next one may take its place."""
    if SIGN not in book.custom_doc_props.names:
        book.custom_doc_props.append(StringProperty(SIGN, "marked copy"))


def _legend(book: Workbook) -> None:
    """A sheet that says what the words and colours mean."""
    title, number = "Legend", 1
    while title in book.sheetnames:
        number += 1
        title = f"Legend {number}"
    sheet = book.create_sheet(title)
    sheet.column_dimensions["A"].width, sheet.column_dimensions["B"].width = 18, 90
    _put(sheet, 1, 1, "What the marks mean").font = Font(bold=True)
    for row, (outcome, meaning) in enumerate(_MEANINGS, start=3):
        cell = _put(sheet, row, 1, outcome.name.lower())
        if outcome in _ROW:
            cell.fill = PatternFill("solid", fgColor=_ROW[outcome])
        _put(sheet, row, 2, meaning)
    for row, (words, colour, meaning) in enumerate(
        (
            ("a changed cell", _CHANGED_CELL, "the load wrote this value; the note has the one before"),
            ("a wrong cell", _REJECTED_CELL, f"the column {MARKS[1]!r} says what was expected"),
        ),
        start=4 + len(_MEANINGS),
    ):
        _put(sheet, row, 1, words).fill = PatternFill("solid", fgColor=colour)
        _put(sheet, row, 2, meaning)

"""The sender's copy: the rows as they came, with what became of each.

Colours differ in lightness too, and words say the same.
"""

from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
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
_NOTES = 20_000  # more would make the file too slow to open


def write_marked(
    path: Path, marks: Marks, cells: pa.Table, header: tuple[str | None, int], original: Path | None,
    started: datetime, *, preview: bool,
) -> tuple[Placed, str | None]:  # fmt: skip
    """Write the copy, in the form of its ending; the file, and what is worth knowing about it, if anything.

    `cells` are the incoming cells as text, `header` the sheet and the row of its column names, `original` the workbook
    that they came in, if it is one that can be copied with all of its looks. Raises BadOption.
    """
    own = _own_columns(marks, started, preview=preview)
    note = None

    def write(draft: Path) -> None:
        nonlocal note
        if path.suffix.lower() == ".xlsx":
            note = _write_workbook(draft, path, marks, cells, own, header, original)
        else:
            _write_csv(draft, cells, own)

    try:
        return put(path, write), note
    except OSError as error:
        raise BadOption(f"The marked copy can't be written to {path}: {error.strerror or error}.") from None


def _own_columns(marks: Marks, started: datetime, *, preview: bool) -> list[list[str | None]]:
    """Our columns, in the order of MARKS."""
    words = [status(outcome, preview=preview) for outcome in marks.outcomes.tolist()]
    texts = [as_array(marks.texts[name]).to_pylist() for name in ("why", "changed", "key")]
    return [words, *texts, [f"{started:%Y-%m-%d %H:%M:%S} UTC"] * len(words)]


def _write_csv(path: Path, cells: pa.Table, own: list[list[str | None]]) -> None:
    plain = [as_array(column) for column in cells.columns] + [pa.array(values, pa.string()) for values in own]
    guarded = [guard(texts) for texts in plain]
    touched = np.logical_or.reduce([differs(one, other) for one, other in zip(plain, guarded, strict=True)])
    columns = [texts.to_pylist() for texts in (*guarded, pa.array(np.where(touched, "yes", "")))]
    names = [*guard(pa.array(cells.column_names, pa.string())).to_pylist(), *MARKS, GUARDED]
    write_csv(path, names, zip(*columns, strict=True))


def _write_workbook(
    draft: Path, path: Path, marks: Marks, cells: pa.Table, own: list[list[str | None]], header: tuple[str | None, int],
    original: Path | None,
) -> str | None:  # fmt: skip
    name, header_row = header
    numbers = marks.rows.tolist()
    if original is not None and name is not None:
        book = load_workbook(original, keep_vba=False)
        sheet = book[name]
    else:
        if len(numbers) >= _MOST_ROWS:
            raise BadOption(f"{path} can't hold {len(numbers):,} rows, as a sheet has {_MOST_ROWS:,}: write a .csv.")
        book = Workbook()
        sheet, header_row = book.active, 1
        sheet.title = "Rows"
        numbers = _fill(sheet, cells)
    place = dict(zip(marks.rows.tolist(), numbers, strict=True))
    left = sheet.max_column + 1
    _fill_own(sheet, header_row, left, numbers, own, marks)
    noted = _mark_cells(sheet, header_row, place, marks)
    _filter(sheet, header_row, left + len(MARKS) - 1)
    if original is None:
        sheet.freeze_panes = sheet.cell(header_row + 1, 1)
    _legend(book)
    _sign(book)
    book.save(draft)
    if noted < sum(not cell.rejected for cell in marks.cells):
        return f"{path} has notes with earlier values on the first {_NOTES:,} changed cells only."
    return None


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


def _fill_own(
    sheet: Worksheet, header_row: int, left: int, numbers: list[int], own: list[list[str | None]], marks: Marks
) -> None:
    fills = {outcome: PatternFill("solid", fgColor=colour) for outcome, colour in _ROW.items()}
    bold = Font(bold=True)
    for at, (title, width) in enumerate(zip(MARKS, _WIDTHS, strict=True)):
        _put(sheet, header_row, left + at, title).font = bold
        sheet.column_dimensions[get_column_letter(left + at)].width = width
    for index, number in enumerate(numbers):
        fill = fills.get(Outcome(marks.outcomes[index]))
        for at, values in enumerate(own):
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

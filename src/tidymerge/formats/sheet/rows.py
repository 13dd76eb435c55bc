"""A sheet of a workbook, or a table in one, as rows that can be written: all else in the workbook stays as it is.

Values are read as incoming sheets are; the cells that change are changed in the sheet's own XML.
"""

from collections.abc import Callable, Collection, Container, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import BinaryIO

import numpy as np
import pyarrow as pa
from msgspec.structs import replace
from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE

from tidymerge.address import Address
from tidymerge.core.infer.told import declared
from tidymerge.core.naming.header import ROWS_SEARCHED, guess_header
from tidymerge.core.naming.letters import column_letter
from tidymerge.core.tidy.cells import valid
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.errors import SourceError, TargetUnreadable, WriteRefused
from tidymerge.formats.content import Edits, Found, NewFile
from tidymerge.formats.sheet.blind_spots import blind_spots
from tidymerge.formats.sheet.book import Book
from tidymerge.formats.sheet.dependents import naming
from tidymerge.formats.sheet.edits import SheetEdits
from tidymerge.formats.sheet.reading import WorkbookSource
from tidymerge.formats.sheet.serials import DATES, FIRST_DAY, kind_of, numbered, readable, serials
from tidymerge.formats.sheet.types import bounded, type_of
from tidymerge.formats.types import NONE_DECLARED, with_declared
from tidymerge.model import ColumnType, IncomingColumn, Indices, Kind, NewColumn, ReadOptions, TargetColumn

_MOST_ROWS, _MOST_SIGNS = 1_048_576, 32_767  # of a sheet, and of a cell


class WorkbookRows:
    """The rows of a sheet. `types` are declared ones; `like` is the same workbook before it was written."""

    marks_text = True
    types_told = True

    def __init__(
        self, address: Address, types: Mapping[str, ColumnType] = NONE_DECLARED, like: "WorkbookRows | None" = None
    ) -> None:
        self._address = address
        file = address.path.resolve()
        self.path: Path = like.path if like else file
        self._types = {name: bounded(found) for name, found in types.items()}
        self._book = Book(file, address.fragment)
        table = self._book.table
        cells = table.reference(max(table.bottom, table.top + 1)) if table else None
        try:
            source = WorkbookSource(Address(file, self._book.sheet), ReadOptions(cells=cells))
            header = 0 if table else guess_header(source.head(ROWS_SEARCHED)) if like is None else like.header - 1
            self._records = source.read(header)
        except SourceError as error:
            raise TargetUnreadable(str(error)) from None
        self.header: int = header + source.above + 1
        names = [column.name for column in self._records.columns]
        if len(set(names)) < len(names):
            raise TargetUnreadable(f"{address} has two columns of the same name; a target's names must differ.")
        at = {name: index for index, name in enumerate(source.names(header), start=source.left)}
        self._at = {name: at[name] for name in names}
        self.name = self._book.name
        self.fragment = address.fragment or self._book.sheet
        self._new: tuple[str, ...] = ()
        self.had_dates: dict[str, Kind] = {} if like is None else like.had_dates
        self._known: dict[int, dict[int, str | None]] = {}
        self.columns: tuple[TargetColumn, ...] = like.columns if like else self._told()

    @property
    def _numbers(self) -> Indices:
        """The row numbers of the records in the sheet."""
        return self._records.row_numbers

    @property
    def _last(self) -> int:
        """The row number of the last record, or of the column names."""
        return int(self._numbers[-1]) if self.rows else self.header

    def _told(self) -> tuple[TargetColumn, ...]:
        """The columns with the types that their cells tell; those made of formulas are not to be loaded."""
        styles = self._styles()
        columns = []
        for column in self._records.columns:
            at = self._at[column.name]
            shown = {self._book.looks.decimals(style) for style in styles.get(at, ())}
            found = TargetColumn(column.name, type_of(column.arrays, shown.pop() if len(shown) == 1 else None))
            columns.append(replace(found, generated=self._last in self._book.formulas.get(at, ())))
        return with_declared(columns, self._types)

    def _styles(self) -> dict[int, set[str | None]]:
        """The styles of each column's cells in some of the rows: the first and the last ones."""
        looked_at = np.unique(np.r_[self._numbers[:100], self._numbers[-100:]])
        found: dict[int, set[str | None]] = {}
        for number in looked_at.tolist():
            for cell in self._book.xml.cells(self._book.xml.row(number) or b""):
                if cell.text is not None and cell.text[0] == "n":
                    found.setdefault(cell.column, set()).add(cell.style)
        return found

    @property
    def rows(self) -> int:
        """How many records there are."""
        return len(self._numbers)

    @property
    def notes(self) -> tuple[str, ...]:
        """That results of formulas are the old ones at first."""
        if not self._book.calculates:
            return ()
        return ("The workbook has formulas: their results are old until a spreadsheet program opens and saves it.",)

    def unseen(self) -> list[str]:
        """The formulas, in any sheet, whose ranges end with the last record."""
        return blind_spots(self._book, self._at.values(), self._last) if self.rows else []

    def find(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Found:
        """The columns of all rows: they are in memory."""
        return self.values(columns)

    def values(self, columns: Sequence[TargetColumn], rows: Indices | None = None) -> Found:
        """The columns of some rows, or of all."""
        wanted = np.arange(self.rows) if rows is None else rows
        exact = [column.name for column in columns if column.type.as_stored]
        texts = self.texts(exact, wanted) if exact else pa.table({})
        found, unreadable = {}, {}
        for column in columns:
            if column.type.as_stored:
                found[column.name] = texts[column.name]
                continue
            parts = [part.take(pa.array(wanted)) for part in self._records.column(column.name).arrays]
            parts = [part for part in parts if part.null_count < len(part)]
            found[column.name] = cast_cells(parts, column.type, len(wanted)).values
            lost = np.logical_or.reduce([valid(part) for part in parts]) if parts else np.zeros(len(wanted), bool)
            lost &= ~valid(found[column.name])
            if lost.any():
                unreadable[column.name] = lost
        return Found(pa.table(found), rows, unreadable)

    def _cells_of(self, number: int) -> dict[int, str | None]:
        """The exact texts of a row's cells, by column."""
        if number not in self._known:
            self._known[number] = {
                cell.column: cell.text for cell in self._book.xml.cells(self._book.xml.row(number) or b"")
            }
        return self._known[number]

    def batches(self, columns: Sequence[TargetColumn]) -> Iterator[Found]:
        """All rows at once."""
        yield self.values(columns, np.arange(self.rows))

    def texts(self, names: Sequence[str], rows: Indices) -> pa.Table:
        """The exact text of some rows."""
        cells = [self._cells_of(number) for number in self._numbers[rows].tolist()]
        return pa.table({name: pa.array([row.get(self._at[name]) for row in cells], pa.string()) for name in names})

    def readable(self, texts: pa.Table) -> pa.Table:
        """Exact texts with dates in place of numbers of days, where the very same number can be made of them."""
        dates = {column.name: column.type.kind for column in self.columns if column.type.kind in DATES}
        return _each(texts, dates, lambda text, name: readable(text, dates[name], base_1904=self._book.base_1904))

    def exact(self, texts: pa.Table) -> pa.Table:
        """What `readable` was made of. A cell stands for itself: what else its column holds does not count.

        A column that had dates gets them back as dates, though it may hold none by now.
        """
        for name in texts.column_names:
            first = next((text for text in texts[name].to_pylist() if text and text[0] == "m"), None)
            if first is not None:
                self.had_dates[name] = kind_of(first)
        return _each(texts, texts.column_names, lambda text, _: numbered(text, base_1904=self._book.base_1904))

    def spelled(self, values: pa.Array, column: TargetColumn) -> pa.Array:
        """New values as exact text."""
        if column.type.as_stored:
            return values
        return serials(values, column.type.kind, base_1904=self._book.base_1904)

    def unwritable(self, texts: pa.Array, rows: Indices | None, column: TargetColumn) -> Mapping[int, str]:
        """Texts that a cell can't hold, cells with formulas, and new rows for which there is no room."""
        found: dict[int, str] = {}
        no_room = self._no_room(len(texts)) if rows is None else None
        if no_room:
            return dict.fromkeys(range(len(texts)), no_room)
        letter = column_letter(self._at[column.name])
        formulas = self._book.formulas.get(self._at[column.name], set())
        for index, text in enumerate(texts.to_pylist()):
            if rows is not None and (number := int(self._numbers[rows[index]])) in formulas:
                found[index] = f"{letter}{number} holds a formula, which a load does not overwrite"
            elif text is None:
                continue
            elif text[0] == "s" and (ILLEGAL_CHARACTERS_RE.search(text) or len(text) > _MOST_SIGNS):
                found[index] = f"a cell can't hold {text[1:60]!r}"
            elif column.type.as_stored:
                continue
            elif text[0] == "n" and column.type.kind in DATES and float(text[1:]) < self._first_day(column):
                found[index] = "a sheet has no dates before 1 March 1900"
        return found

    def _first_day(self, column: TargetColumn) -> float:
        return 0 if column.type.kind is Kind.TIME or self._book.base_1904 else FIRST_DAY

    def _no_room(self, count: int) -> str | None:
        """Why new rows have no place."""
        if self._last + count > _MOST_ROWS:
            return f"a sheet has no more than {_MOST_ROWS:,} rows"
        table = self._book.table
        if table is None:
            return None
        if table.totals:
            return f"the table {table.name} has totals right below: turn them off"
        columns, numbers = range(table.left, table.right + 1), self._book.xml.numbers
        for number in numbers[(numbers > self._last) & (numbers <= self._last + count)].tolist():
            if any(self._cells_of(number).get(column) is not None for column in columns):
                return f"row {number}, below the table {table.name}, is not empty"
        return None

    def depending(self, names: Sequence[str]) -> list[str]:
        """What names the columns' cells; and columns at the right of them, which would move."""
        first, rows = min(self._at[name] for name in names), (self.header, self._last)
        moved = [name for name, at in self._at.items() if at > first and name not in names]
        found = [f"the column {name}, whose cells would move" for name in moved]
        return found + [one for name in names for one in naming(self._book, self._at[name], name, rows)]

    def definition(self, name: str) -> None:
        """A sheet declares no types."""

    def add(self, columns: Sequence[NewColumn]) -> None:
        """Have more columns at the right, blank in all rows. Raises WriteRefused where there is no room."""
        self.columns = (*self.columns, *(TargetColumn(one.name, bounded(declared(one.type))) for one in columns))
        right = 1 + (self._book.table.right if self._book.table else max(self._at.values()))
        for number in self._book.xml.numbers.tolist():
            for at in range(right, right + len(columns)):
                if self.header <= number <= self._last and self._cells_of(number).get(at) is not None:
                    raise WriteRefused(f"There is no room for new columns: {column_letter(at)}{number} is not empty.")
        self._at = self._at | {column.name: right + index for index, column in enumerate(columns)}
        self._new = tuple(column.name for column in columns)
        blank = tuple(IncomingColumn(column.name, (pa.nulls(self.rows, pa.string()),)) for column in columns)
        self._records = replace(self._records, columns=(*self._records.columns, *blank))

    def taken_away(self) -> Iterable[tuple[Path, NewFile]]:
        """The workbook without the sheet; nothing if it has no other sheet."""
        from tidymerge.formats.sheet.sheets import without_sheet  # late: few runs need it

        package, sheet = self._book.package, self._book.sheet
        if set(package.visible()) == {sheet}:
            return ()
        return [(self.path, lambda file: without_sheet(package, sheet, file))]

    def without(self, names: Sequence[str]) -> Iterable[tuple[Path, NewFile]]:
        """The file without some columns, which are the last ones and blank."""
        edits = self._sheet_edits()
        return [(self.path, lambda file: self._book.package.copy(file, edits.without(names)))]

    def _sheet_edits(self, book: Book | None = None) -> SheetEdits:
        columns = [
            replace(column, type=replace(column.type, kind=self.had_dates[column.name]))
            if column.name in self.had_dates and column.type.kind not in DATES
            else column
            for column in self.columns
        ]
        return SheetEdits(book or self._book, columns, self._at, self._numbers, self.header, self._new)

    def joint(self, touched: Indices) -> int:
        """The end."""
        return self.rows

    def edited(self, edits: Edits) -> Iterable[tuple[Path, NewFile]]:
        """The one file."""
        return self.edited_with(edits, ())

    def edited_with(
        self, edits: Edits, others: Sequence[tuple["WorkbookRows", Edits]]
    ) -> Iterable[tuple[Path, NewFile]]:
        """The one file, with the edits of other sheets, too: each is made on top of those before."""

        def write(file: BinaryIO) -> None:
            parts: dict[str, bytes] = {}
            for sheet, own in ((self, edits), *others):
                parts |= sheet.parts(own, parts)
            self._book.package.copy(file, parts)

        return [(self.path, write)]

    def parts(self, edits: Edits, new: Mapping[str, bytes]) -> dict[str, bytes]:
        """The parts of the workbook that are to be different, where those of other sheets are `new` already."""
        return self._sheet_edits(self._book.over(new)).parts(edits)

    @property
    def part(self) -> str:
        """The part of the workbook that holds the sheet."""
        return self._book.part

    def anew(self, edits: Edits) -> Collection[str]:
        """All columns: the file is written whole."""
        return [column.name for column in self.columns]

    def written(self, files: Mapping[Path, Path]) -> "WorkbookRows":
        """The new file, read again."""
        return WorkbookRows(Address(files.get(self.path, self.path), self._address.fragment), self._types, self)


def _each(texts: pa.Table, names: Container[str], work: Callable[[str | None, str], str | None]) -> pa.Table:
    """The texts with some columns worked over."""
    for at, name in enumerate(texts.column_names):
        if name in names:
            worked = pa.array([work(text, name) for text in texts[name].to_pylist()], pa.string())
            texts = texts.set_column(at, name, worked)
    return texts

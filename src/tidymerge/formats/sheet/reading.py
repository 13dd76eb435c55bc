"""Workbooks (XLSX of ECMA-376, ODS of ISO 26300, the binary XLS and XLSB), read by calamine.

Cells have types, formulas their last values.
"""

import io
import re
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct
from python_calamine import CalamineError, CalamineWorkbook, SheetTypeEnum, SheetVisibleEnum

from tidymerge.address import Address
from tidymerge.core.naming.letters import column_index, column_names
from tidymerge.core.naming.mapping import listing
from tidymerge.errors import BadOption, BrokenFile, NoRows, NoSuchSheet
from tidymerge.formats.collecting import uncollected
from tidymerge.formats.sheet.faults import NONE, Faults, checked_part, faults
from tidymerge.formats.sheet.other_faults import other_faults
from tidymerge.formats.table import arrays_of, as_incoming, columns_under
from tidymerge.formats.unpacking import check_unpacked
from tidymerge.model import Flaw, Incoming, ReadOptions, Reason

_TABLELESS = (".ods", ".xls", ".xlsb")


class Area(Struct, frozen=True):
    """A range of cells, counted from 0, both ends in it; None is the end of the sheet."""

    top: int = 0
    left: int = 0
    bottom: int | None = None
    right: int | None = None


WHOLE = Area()


def area(text: str) -> Area:
    """The range that a person writes as B4:H40. Raises BadOption."""
    found = re.fullmatch(r"\$?([A-Za-z]{1,3})\$?([1-9]\d*):\$?([A-Za-z]{1,3})\$?([1-9]\d*)", text.strip())
    if not found:
        raise BadOption(f"Cells are chosen by a range such as B4:H40, not {text!r}.")
    left, right = (column_index(found[at]) for at in (1, 3))
    top, bottom = int(found[2]) - 1, int(found[4]) - 1
    if left > right or top >= bottom:
        raise BadOption(f"The range {text} holds no rows below its column names.")
    return Area(top, left, bottom, right)


class WorkbookSource:
    """One sheet of a workbook (the one named, or the first visible one), a named table, or a range of cells."""

    def __init__(self, address: Address, options: ReadOptions) -> None:
        self._path = address.path
        check_unpacked(address.path)
        try:
            self._workbook = _opened(address.path)
        except (CalamineError, OSError) as error:
            raise BrokenFile(
                f"{address.path} can't be read as a workbook ({error}). "
                "Open it in a spreadsheet program and save it again as .xlsx."
            ) from None
        self._names = [
            sheet.name
            for sheet in self._workbook.sheets_metadata
            if sheet.typ == SheetTypeEnum.WorkSheet and sheet.visible == SheetVisibleEnum.Visible
        ]
        self.sheet: str
        self.sheet, self._area = self._choose(address.fragment)
        if options.cells is not None:
            self._area = area(options.cells)
        self.address = f"{address.path}#{self.sheet}"
        self.notes: tuple[str, ...] = ()
        if address.fragment is None and len(self._names) > 1:
            others = listing([name for name in self._names if name != self.sheet])
            self.notes = (f"Read the first sheet, {self.sheet!r}; the others are {others}.",)
        part, index = checked_part(address.path, self.sheet), self._workbook.sheet_names.index(self.sheet)
        try:
            with ThreadPoolExecutor(1) as pool, uncollected():
                found: Future[Faults] | Future[Faults | None] = (
                    pool.submit(faults, part) if part else pool.submit(other_faults, address.path, self.sheet, index)
                )
                sheet = self._workbook.get_sheet_by_name(self.sheet)
                self._rows: list[list[Any]] = sheet.to_python(skip_empty_area=False)
                told = found.result()
        except CalamineError as error:
            raise BrokenFile(f"The sheet {self.sheet!r} of {address.path} can't be read ({error}).") from None
        self._faults = told or NONE
        if told is None:
            self.notes += ("Whether blank cells are formula errors could not be told in this workbook.",)
        self._merged = sheet.merged_cell_ranges or []
        for (row, column), words in self._faults.errors.items():
            if row < len(self._rows) and column < len(self._rows[row]):
                self._rows[row][column] = words
        self._cut()

    def _choose(self, wanted: str | None) -> tuple[str, Area]:
        known = self._workbook.sheet_names
        if wanted is None:
            if not self._names:
                raise NoRows(f"{self._path} has no visible sheet.")
            return self._names[0], WHOLE
        if wanted in known:
            return wanted, WHOLE
        tables = self._tables()
        for name in tables:
            if name.casefold() == wanted.casefold():
                table = self._workbook.get_table_by_name(name)
                (top, left), (bottom, right) = table.start or (1, 0), table.end or (1, 0)
                return table.sheet, Area(top - 1, left, bottom, right)  # its names stand above its first row
        alike = [name for name in known if name.casefold().strip() == wanted.casefold().strip()]
        if len(alike) == 1:
            return alike[0], WHOLE
        others = f" and the tables {listing(tables)}" if tables else ""
        raise NoSuchSheet(
            f"{self._path} has no sheet {wanted!r}; it has {listing(known)}{others}.", sheet=wanted, known=tuple(known)
        )

    def _tables(self) -> list[str]:
        """The names of the tables inside the workbook's sheets; only those of ECMA-376's XML are known."""
        return [] if self._path.suffix.lower() in _TABLELESS else list(self._workbook.table_names or ())

    def _cut(self) -> None:
        """Keep only the cells of the area; `above` keeps count of the rows left out over it."""
        self.above = self._area.top
        if self._area == WHOLE:
            return
        last = None if self._area.bottom is None else self._area.bottom + 1
        right = None if self._area.right is None else self._area.right + 1
        self._rows = [row[self._area.left : right] for row in self._rows[self.above : last]]

    def sheets(self) -> tuple[tuple[str, int, int], ...]:
        """The visible sheets: name, and rows and columns up to the last cell in use."""
        ends = [self._workbook.get_sheet_by_name(name).end or (-1, -1) for name in self._names]
        return tuple((name, end[0] + 1, end[1] + 1) for name, end in zip(self._names, ends, strict=True))

    def head(self, rows: int) -> list[list[str]]:
        """The first rows of the sheet as text. Raises NoRows."""
        self._check_filled()
        return [[_shown(cell) for cell in row] for row in self._rows[:rows]]

    def _check_filled(self) -> None:
        """Raise NoRows for an empty sheet: there may be others in the workbook."""
        if not self._rows:
            raise NoRows(f"The sheet {self.sheet!r} of {self._path} is empty.")

    def names(self, header_row: int) -> list[str]:
        """The names in a row of the head."""
        return column_names([_shown(cell) for cell in self._rows[header_row]], self._area.left)

    @property
    def left(self) -> int:
        """The first column that is read, 0 for A."""
        return self._area.left

    def read(self, header_row: int) -> Incoming:
        """The rows below the header with the types that the spreadsheet gave them. Raises NoRows."""
        self._check_filled()
        if not 0 <= header_row < len(self._rows):
            raise NoRows(
                f"The sheet {self.sheet!r} has no row {self.above + header_row + 1} to read column names from."
            )
        names = self.names(header_row)
        body = self._rows[header_row + 1 :]
        header = [_shown(cell) for cell in self._rows[header_row]]
        parts = (arrays_of([row[index] for row in body]) for index in range(len(names)))
        columns = columns_under(header, parts, self._area.left)
        header_row += self.above
        numbers = np.arange(len(body), dtype=np.int64) + header_row + 2
        return as_incoming(
            columns,
            numbers,
            self._error_flaws(names, header_row + 1, len(body)),
            address=self.address,
            header_row=header_row + 1,
            sheet=self.sheet,
            notes=self.notes,
            merged=self._merged_down(names, header_row + 1, len(body)),
            uncalculated=self._uncalculated(names, header_row + 1, len(body)),
        )

    def _error_flaws(self, names: Sequence[str], first: int, rows: int) -> list[Flaw]:
        """The cells below the header, `first` being the row under it, that hold a formula error."""
        flaws = []
        for index, name in enumerate(names, start=self._area.left):
            found = sorted(
                (row - first, error)
                for (row, column), error in self._faults.errors.items()
                if column == index and first <= row < first + rows
            )
            if found:
                at = np.array([row for row, _ in found], np.int64)
                texts = pa.array([error for _, error in found], pa.string())
                flaws.append(Flaw(Reason.FORMULA_ERROR, at, "a value", name, texts, (name,)))
        return flaws

    def _merged_down(self, names: Sequence[str], first: int, rows: int) -> dict[str, tuple[int, int]]:
        """For each column whose cells below the header are merged over several rows, the first such rows."""
        down: dict[str, tuple[int, int]] = {}
        for (top, left), (bottom, right) in self._merged:
            for column in range(left - self._area.left, right - self._area.left + 1):
                if bottom > top and first < bottom < first + rows and 0 <= column < len(names):
                    down.setdefault(names[column], (top + 1, bottom + 1))
        return down

    def _uncalculated(self, names: Sequence[str], first: int, rows: int) -> dict[str, int]:
        """How many formulas without a result each column has below the header."""
        places = [column for row, column in self._faults.uncalculated if first <= row < first + rows]
        counts = {name: places.count(index) for index, name in enumerate(names, start=self._area.left)}
        return {name: count for name, count in counts.items() if count}


def _opened(path: Path) -> CalamineWorkbook:
    """The workbook, which is told by its first bytes where its name has another ending."""
    tables = path.suffix.lower() not in _TABLELESS
    if path.suffix.lower() in (".xlsx", ".xlsm", *_TABLELESS):
        return CalamineWorkbook.from_path(str(path), load_tables=tables)
    return CalamineWorkbook.from_filelike(io.BytesIO(path.read_bytes()), load_tables=tables)


def _shown(cell: Any) -> str:
    return f"{cell:g}" if isinstance(cell, float) else str(cell)

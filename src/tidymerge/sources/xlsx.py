"""XLSX workbooks (ECMA-376), read by calamine. Cells come with their types; formulas with their last values."""

from typing import Any

import numpy as np
from python_calamine import CalamineError, CalamineWorkbook, SheetTypeEnum, SheetVisibleEnum

from tidymerge.address import Address
from tidymerge.core.mapping import listing
from tidymerge.errors import BrokenFile, NoRows, NoSuchSheet
from tidymerge.model import Incoming, IncomingColumn
from tidymerge.sources import ReadOptions
from tidymerge.sources.table import as_incoming, column_names, parts_of


class XlsxSource:
    """One sheet of a workbook: the one named, or the first visible one."""

    def __init__(self, address: Address, options: ReadOptions) -> None:  # noqa: ARG002 - the registry's signature
        self._path = address.path
        try:
            self._workbook = CalamineWorkbook.from_path(str(address.path))
        except (CalamineError, OSError) as error:
            raise BrokenFile(
                f"{address.path} can't be read as a workbook ({error}). "
                "Open it in a spreadsheet program and save it again as .xlsx."
            ) from None
        self.sheets = [
            sheet.name
            for sheet in self._workbook.sheets_metadata
            if sheet.typ == SheetTypeEnum.WorkSheet and sheet.visible == SheetVisibleEnum.Visible
        ]
        self.sheet = self._choose(address.part)
        self.address = f"{address.path}#{self.sheet}"
        self.notes: tuple[str, ...] = ()
        if address.part is None and len(self.sheets) > 1:
            others = listing([name for name in self.sheets if name != self.sheet])
            self.notes = (f"Read the first sheet, {self.sheet!r}; the others are {others}.",)
        try:
            self._rows: list[list[Any]] = self._workbook.get_sheet_by_name(self.sheet).to_python(skip_empty_area=False)
        except CalamineError as error:
            raise BrokenFile(f"The sheet {self.sheet!r} of {address.path} can't be read ({error}).") from None
        if not self._rows:
            raise NoRows(f"The sheet {self.sheet!r} of {address.path} is empty.")

    def _choose(self, wanted: str | None) -> str:
        known = self._workbook.sheet_names
        if wanted is None:
            if not self.sheets:
                raise NoRows(f"{self._path} has no visible sheet.")
            return self.sheets[0]
        if wanted in known:
            return wanted
        alike = [name for name in known if name.casefold().strip() == wanted.casefold().strip()]
        if len(alike) == 1:
            return alike[0]
        raise NoSuchSheet(f"{self._path} has no sheet {wanted!r}; it has {listing(known)}.")

    def parts(self) -> tuple[tuple[str, int, int], ...]:
        """The visible sheets: name, and rows and columns up to the last cell in use."""
        ends = [self._workbook.get_sheet_by_name(name).end or (-1, -1) for name in self.sheets]
        return tuple((name, end[0] + 1, end[1] + 1) for name, end in zip(self.sheets, ends, strict=True))

    def head(self, rows: int) -> list[list[str]]:
        """The first rows of the sheet as text."""
        return [[_shown(cell) for cell in row] for row in self._rows[:rows]]

    def read(self, header_row: int) -> Incoming:
        """The rows below the header with the types that the spreadsheet gave them."""
        if header_row >= len(self._rows):
            raise NoRows(f"The sheet {self.sheet!r} has no row {header_row + 1}.")
        names = column_names([_shown(cell) for cell in self._rows[header_row]])
        body = self._rows[header_row + 1 :]
        columns = [IncomingColumn(name, parts_of([row[index] for row in body])) for index, name in enumerate(names)]
        numbers = np.arange(len(body), dtype=np.int64) + header_row + 2
        return as_incoming(
            columns, numbers, address=self.address, header_row=header_row + 1, sheet=self.sheet, notes=self.notes
        )


def _shown(cell: Any) -> str:
    return f"{cell:g}" if isinstance(cell, float) else str(cell)

"""A sheet as a target beside the other sheets of its workbook: all that a run loads into them is written at once."""

from collections.abc import Mapping
from functools import partial
from pathlib import Path

import pyarrow as pa
from msgspec.structs import replace

from tidymerge.address import Address
from tidymerge.core.infer.told import declared
from tidymerge.errors import BadOption
from tidymerge.formats.content import Edits
from tidymerge.formats.sheet.reading import WorkbookSource
from tidymerge.formats.sheet.rows import WorkbookRows
from tidymerge.model import ReadOptions, TableShape
from tidymerge.model.changes import ChangeSet, Written
from tidymerge.ports.target import NO_TYPES
from tidymerge.targets.files import FileTarget


class SheetTarget(FileTarget):
    """The rows of a sheet, or of a table in one."""

    def __init__(self, address: Address, types: Mapping[str, str] = NO_TYPES, *, write: bool, create: bool) -> None:
        known = {name: declared(text) for name, text in types.items()}
        super().__init__(address, partial(WorkbookRows, types=known), write=write, create=create)
        self._all = [self]

    def tables(self) -> tuple[tuple[str, int, int], ...]:
        """The sheets that can be seen: name, and rows and columns up to the last cell in use."""
        return WorkbookSource(replace(self._address, fragment=None), ReadOptions()).sheets()

    def sibling(self, table: str) -> tuple[TableShape, pa.Table]:
        """Another sheet of the workbook, to look up in."""
        rows = WorkbookRows(replace(self._address, fragment=table))
        return TableShape(rows.name, rows.columns, types_told=True), rows.values(rows.columns).values

    def beside(self, table: str, *, create: bool = False, types: Mapping[str, str] = NO_TYPES) -> "SheetTarget":
        """Another sheet, which is written together with this one. Raises BadOption."""
        if create:
            raise BadOption(f"{table}: a sheet that is not there yet is made by a run of its own.")
        other = SheetTarget(replace(self._address, fragment=table), types, write=self._write, create=False)
        other._file = other._read(other._address)
        other._fragment = other._file.fragment
        for known in self._all:
            if known.rows.part == other.rows.part:
                if known.address == other.address:
                    return known
                raise BadOption(
                    f"{known.address} and {other.address} are in one sheet: load them by runs of their own."
                )
        other._swap, other._all = self._swap, self._all
        self._all.append(other)
        return other

    def write(self, changes: ChangeSet) -> Written:
        """Take the changes over; those of all sheets are written together when one of them is first read back."""
        for one in self._all:
            one.forget()
        return super().write(changes)

    @property
    def rows(self) -> WorkbookRows:
        """The sheet as it was when it was opened."""
        assert isinstance(self._file, WorkbookRows)  # noqa: S101 - so it is read
        return self._file

    @property
    def edits(self) -> tuple[WorkbookRows, Edits] | None:
        """The sheet, and what is to be different in it, if anything is."""
        return (self.rows, self._edits) if self._changes else None

    def _new_files(self) -> Mapping[Path, Path]:
        """The new workbook, with what is to be different in any of its sheets."""
        others = [edits for one in self._all if one is not self and (edits := one.edits) is not None]
        return self._swap.put_all(self.rows.edited_with(self._edits, others))

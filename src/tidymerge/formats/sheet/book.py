"""A workbook as a target: its package, the sheet and the table that are meant, and what its cells look like."""

from collections.abc import Iterator, Mapping
from copy import copy
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from tidymerge.core.naming.letters import column_letter
from tidymerge.core.naming.mapping import listing
from tidymerge.errors import NoSuchTable, WriteRefused
from tidymerge.formats.sheet.looks import Looks
from tidymerge.formats.sheet.package import Package, local
from tidymerge.formats.sheet.xml import SheetXml, Strings, rows_in


class Table(Struct, frozen=True):
    """A named table in a sheet: its part, the range with the names in its first row, and whether totals follow."""

    part: str
    name: str
    left: int
    top: int
    right: int
    bottom: int
    totals: bool

    def reference(self, bottom: int, wider: int = 0) -> str:
        """The range, ending in another row, and so many columns further to the right."""
        return f"{column_letter(self.left)}{self.top}:{column_letter(self.right + wider)}{bottom}"


class Book:
    """The workbook at a path, and in it the sheet or table of the name `wanted`, or the first visible sheet.

    The only table of a sheet stands for the sheet. Raises TargetUnreadable and NoSuchTable.
    """

    def __init__(self, path: Path, wanted: str | None) -> None:
        self.package = Package(path)
        self._path = path
        self.sheets = self.package.sheets()
        self.sheet, self.table = self._choose(wanted)
        self.part = self.sheets[self.sheet]

    def over(self, new: Mapping[str, bytes]) -> "Book":
        """The same, while other sheets of the workbook have new parts already. Raises WriteRefused for its own."""
        if self.part in new:
            raise WriteRefused(f"{self.sheet} is written twice in one run: load its tables by runs of their own.")
        book = copy(self)
        book.package = self.package.over(new)
        for name in ("looks", "calculates"):  # they depend on parts that sheets share
            book.__dict__.pop(name, None)
        return book

    def _choose(self, wanted: str | None) -> tuple[str, Table | None]:
        if wanted is None:
            wanted = next(iter(self.package.sheets(visible=True)), next(iter(self.sheets), ""))
        alike = [name for name in self.sheets if name.casefold().strip() == wanted.casefold().strip()]
        if wanted in self.sheets or len(alike) == 1:
            sheet = wanted if wanted in self.sheets else alike[0]
            tables = list(self._tables(sheet))
            return sheet, tables[0] if len(tables) == 1 else None
        found = [(sheet, table) for sheet in self.sheets for table in self._tables(sheet)]
        for sheet, table in found:
            if table.name.casefold() == wanted.casefold():
                return sheet, table
        tables_too = f" and the tables {listing([table.name for _, table in found])}" if found else ""
        raise NoSuchTable(
            f"{self._path} has no sheet {wanted!r}; it has {listing(list(self.sheets))}{tables_too}.",
            table=wanted,
            known=tuple(self.sheets),
        )

    def _tables(self, sheet: str) -> Iterator[Table]:
        for part in self.package.related(self.sheets[sheet], "table"):
            root = self.package.tree(part)
            area = rows_in(root.get("ref", ""))
            if area is not None and root.get("headerRowCount", "1") != "0":
                left, top, right, bottom = area
                totals = int(root.get("totalsRowCount", "0"))
                name = root.get("displayName") or root.get("name") or ""
                yield Table(part, name, left, top, right, bottom - totals, totals > 0)

    @property
    def name(self) -> str:
        """The table's name, or the sheet's."""
        return self.table.name if self.table else self.sheet

    @cached_property
    def xml(self) -> SheetXml:
        """The sheet's XML."""
        shared = self.package.related(self.package.main, "sharedStrings")
        strings = Strings(self.package.read(shared[0]) if shared else None)
        return SheetXml(self.package.read(self.part), strings, f"The sheet {self.sheet} of {self._path}")

    @cached_property
    def looks(self) -> Looks:
        """The styles of the cells."""
        return Looks(self.package)

    @cached_property
    def formulas(self) -> dict[int, set[int]]:
        """The rows of the sheet that hold a formula, by column."""
        return self.xml.formulas()

    @cached_property
    def calculates(self) -> bool:
        """Whether there are formulas, as far as that can be told from the sheet and the list of them."""
        return bool(self.formulas) or bool(self.package.related(self.package.main, "calcChain"))

    @cached_property
    def base_1904(self) -> bool:
        """Whether days are counted from 1904 on (18.2.28)."""
        found = (one for one in self.package.tree(self.package.main).iter() if local(one.tag) == "workbookPr")
        return any(one.get("date1904") in ("1", "true", "on") for one in found)

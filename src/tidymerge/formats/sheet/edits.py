"""Edits to the rows of a sheet, as parts of the workbook: the sheet itself, and what tells where its rows end."""

import re
from collections.abc import Iterator, Mapping, Sequence

from lxml import etree
from openpyxl.formula.tokenizer import TokenizerError
from openpyxl.formula.translate import Translator

from tidymerge.core.naming.letters import column_letter
from tidymerge.errors import WriteRefused
from tidymerge.formats.content import Edits
from tidymerge.formats.sheet.book import Book, Table
from tidymerge.formats.sheet.parts import elements, named, tree, written
from tidymerge.formats.sheet.serials import DATES
from tidymerge.formats.sheet.xml import Cell, decoded, grown, unescaped
from tidymerge.model import Indices, TargetColumn


class SheetEdits:
    """Writes edits into a sheet: `numbers` are its records' rows, `at` its columns' places, `header` the names' row.

    The last columns may be `new`, not yet in the sheet.
    """

    def __init__(
        self,
        book: Book,
        columns: Sequence[TargetColumn],
        at: Mapping[str, int],
        numbers: Indices,
        header: int,
        new: Sequence[str] = (),
    ) -> None:
        self._new = new
        self._there = [column for name, column in at.items() if name not in new]
        self._book = book
        self._xml = book.xml
        self._kinds = {at[column.name]: column.type.kind for column in columns if column.name in at}
        self._dated: dict[int, str | None] = {}
        self._columns = columns
        self._at = at
        self._numbers = numbers
        self._header = header
        self._last = int(numbers[-1]) if len(numbers) else header

    def parts(self, edits: Edits) -> dict[str, bytes]:
        """The parts that are to be different."""
        leaving = set(self._numbers[edits.leaving].tolist())
        rows = {number: self._emptied(number) for number in leaving}
        for row, cells in zip(self._numbers[edits.rows].tolist(), edits.cells.to_pylist(), strict=True):
            xml = self._xml.row(row) or b""
            old = {cell.column: cell.text for cell in self._xml.cells(xml)}
            new = {self._at[name]: text for name, text in cells.items() if text != old.get(self._at[name])}
            rows[row] = self._with(row, xml, new)
        if self._new:
            rows[self._header] = self._with_names()
        staying = [number for number in self._numbers.tolist() if number not in leaving]
        end = staying[-1] if staying else self._header
        first = self._last + 1 if self._last not in leaving else end + 1
        for number, cells in enumerate(edits.added.to_pylist(), start=first):
            at = {self._at[name]: text for name, text in cells.items()}
            rows[number] = self._added(number, rows.get(number, self._xml.row(number)), at)
        end = first + edits.added.num_rows - 1 if edits.added.num_rows else end
        return self._sheet(rows, end, len(self._new)) | self._book.looks.edited() | self._around(end, self._new)

    def without(self, names: Sequence[str]) -> dict[str, bytes]:
        """The parts without some columns, which are the last ones and hold nothing but their names."""
        gone = dict.fromkeys((self._at[name] for name in names), b"")
        rows = {}
        for number in [self._header, *self._numbers.tolist()]:
            row = self._xml.row(number) or b""
            there = {column: b"" for column in gone if any(cell.column == column for cell in self._xml.cells(row))}
            if there:
                rows[number] = self._xml.with_cells(row, there)
        return self._sheet(rows, self._last, -len(names)) | self._around(self._last, (), names)

    def _sheet(self, rows: Mapping[int, bytes], end: int, wider: int) -> dict[str, bytes]:
        before, body, after = self._xml.edited(rows)
        before, after = self._fitted(before, after, end, wider)
        return {self._book.part: before + body + after}

    def _with_names(self) -> bytes:
        """The row of the names, with those of new columns in the style of the last one."""
        row = self._xml.row(self._header) or b""
        style = next((cell.style for cell in self._xml.cells(row) if cell.column == max(self._there)), None)
        cells = {
            self._at[name]: self._xml.cell_xml(self._at[name], self._header, style, f"s{name}") for name in self._new
        }
        return self._xml.with_cells(row, cells)

    def _with(self, number: int, row: bytes, cells: Mapping[int, str | None]) -> bytes:
        """A row with other values in some columns, in the style that they have."""
        styles = {cell.column: cell.style for cell in self._xml.cells(row)}
        new = {
            column: self._xml.cell_xml(column, number, self._style(column, styles.get(column), text), text)
            for column, text in cells.items()
        }
        return self._xml.with_cells(row, new)

    def _style(self, column: int, style: str | None, text: str | None) -> str | None:
        """The style for a value: dates are to be seen as dates."""
        kind = self._kinds.get(column)
        if text is None or text[0] != "n" or kind not in DATES or self._book.looks.is_date(style):
            return style
        if column not in self._dated:
            self._dated[column] = next(self._date_styles(column), None)
        return self._dated[column] or self._book.looks.with_format(style, kind)

    def _date_styles(self, column: int) -> Iterator[str]:
        """The styles of a column's cells, in its first rows, that show dates."""
        for number in self._numbers[:100].tolist():
            for cell in self._xml.cells(self._xml.row(number) or b""):
                if cell.column == column and cell.style is not None and self._book.looks.is_date(cell.style):
                    yield cell.style

    def _added(self, number: int, row: bytes | None, cells: Mapping[int, str | None]) -> bytes:
        """A new row, which takes its looks, and the formulas of columns made of them, from the last one."""
        above = self._xml.row(self._last) if len(self._numbers) else None
        like = {cell.column: cell for cell in self._xml.cells(above or b"")}
        row = row or self._xml.new_row(number, above)
        made = {self._at[column.name] for column in self._columns if column.generated}
        new = {}
        for column, text in cells.items():
            style = self._style(column, like[column].style if column in like else None, text)
            formula = self._formula(like[column], number) if column in made and column in like else None
            new[column] = self._xml.cell_xml(column, number, style, text, formula)
        return self._xml.with_cells(row, new)

    def _formula(self, cell: Cell, number: int) -> str | None:
        """The formula of a cell in the last row, moved to another row. Shared ones are taken from where they stand."""
        pre = self._xml.prefix.decode()
        found = re.search(rf"<{pre}f([^>]*?)(?:/>|>(.*?)</{pre}f>)", cell.text or "", re.DOTALL)
        if found is None:
            return None
        text, at = found[2] or "", self._last
        group = re.search(r"\bsi=\"(\d+)\"", found[1])
        if not text and group:
            shared = rf"<{pre}f[^>]*\bsi=\"{group[1]}\"[^>]*[^/]>(.*?)</{pre}f>"
            pattern = rf"<{pre}c\s[^>]*?r=\"[A-Z]+(\d+)\"[^>]*>\s*{shared}"
            master = re.search(pattern.encode(), self._xml.data, re.DOTALL)
            text, at = (master[2].decode(), int(master[1])) if master else ("", at)
        letter = column_letter(cell.column)
        if not text:
            return None
        try:
            moved: str = Translator(f"={unescaped(text)}", f"{letter}{at}").translate_formula(f"{letter}{number}")
        except TokenizerError:  # a formula that no program could work out
            return None
        return moved[1:]

    def _emptied(self, number: int) -> bytes:
        """A row without the cells of the record, or nothing if that leaves nothing. Raises WriteRefused."""
        row = self._xml.row(number) or b""
        if re.search(rb"<%bf[^>]*\bt=\"shared\"[^>]*\bref=" % self._xml.prefix, row):
            raise WriteRefused(f"Row {number} holds a formula that other rows share, so it can't be taken away.")
        own, there = set(self._at.values()), list(self._xml.cells(row))
        if all(cell.column in own or cell.text is None for cell in there):
            return b""
        return self._xml.with_cells(row, {cell.column: b"" for cell in there if cell.column in own})

    def _fitted(self, before: bytes, after: bytes, end: int, wider: int) -> tuple[bytes, bytes]:
        """What stands before and after the rows, with ranges that end with the last record ending with the new last."""
        root = tree(before + after, f"The sheet {self._book.sheet}")
        for names, attribute, more in (
            (("dimension", "autoFilter"), "ref", wider),
            (("conditionalFormatting", "dataValidation"), "sqref", 0),
        ):
            for element in elements(root, *names):
                if element.get(attribute):
                    element.set(attribute, grown(element.get(attribute), self._there, self._last, end, more))
        for element in elements(root, "sqref"):
            element.text = grown(element.text or "", self._there, self._last, end)
        opening, closing = (b"<%b%bsheetData>" % (mark, self._xml.prefix) for mark in (b"", b"/"))
        head, _, tail = written(root).partition(b"<%bsheetData/>" % self._xml.prefix)
        return head + opening, closing + tail

    def _around(self, end: int, new: Sequence[str], gone: Sequence[str] = ()) -> dict[str, bytes]:
        """The other parts that tell where the rows end, which columns there are, or what formulas."""
        parts: dict[str, bytes] = {}
        if self._book.table is not None and (end != self._last or new or gone):
            parts[self._book.table.part] = self._table(self._book.table, end, new, gone)
        main = self._book.package.main
        root = tree(self._book.package.read(main), "The main part of the workbook")
        changed = self._fit_filter(root, end, len(new) - len(gone))
        if self._book.calculates:
            _calculate_on_opening(root)
        if end != self._last and self._book.formulas:
            parts |= self._book.package.without("calcChain")[1]
        if changed or self._book.calculates:
            parts[main] = written(root)
        return parts

    def _table(self, table: Table, end: int, new: Sequence[str], gone: Sequence[str]) -> bytes:
        """The part of a table with another range, and with other columns at its right."""
        bottom = end if end > table.bottom or self._last == table.bottom else table.bottom
        root = tree(self._book.package.read(table.part), f"The table {table.name}")
        if new or gone:
            _change_columns(root, new, gone)
        wider = len(new) - len(gone)
        ref, longer = table.reference(table.bottom), table.reference(max(bottom, table.top + 1), wider)
        for element in root.iter("{*}*"):
            if element.get("ref") == ref:
                element.set("ref", longer)
        return written(root)

    def _fit_filter(self, root: etree._Element, end: int, wider: int) -> bool:
        """Let the hidden name of the sheet's filter, which has its range, end in another row; whether there is one."""
        index = list(self._book.package.visible()).index(self._book.sheet)
        right = max(self._there)
        old, new = (f"${column_letter(at)}${row}" for at, row in ((right, self._last), (right + wider, end)))
        found = False
        for element in elements(root, "definedName"):
            own = (element.get("name"), element.get("localSheetId")) == ("_xlnm._FilterDatabase", str(index))
            if own and (element.text or "").endswith(old) and old != new:
                element.text = (element.text or "").removesuffix(old) + new
                found = True
        return found


def _change_columns(root: etree._Element, new: Sequence[str], gone: Sequence[str]) -> None:
    """Give a table more columns at its right, or take some away."""
    listed = next(elements(root, "tableColumns"))
    columns = list(elements(listed, "tableColumn"))
    highest = max(int(column.get("id", "0")) for column in columns)
    for column in columns:
        if decoded(column.get("name", "")).replace("\r\n", "\n") in gone:
            listed.remove(column)
    for number, name in enumerate(new, start=highest + 1):
        etree.SubElement(listed, named(root, "tableColumn"), id=str(number), name=name.replace("\n", "_x000a_"))
    listed.set("count", str(len(listed)))


def _calculate_on_opening(root: etree._Element) -> None:
    """Say that formulas are to be calculated when the workbook is opened (18.2.2)."""
    found = next(elements(root, "calcPr"), None)
    if found is None:
        found = etree.Element(named(root, "calcPr"))
        before = elements(root, "sheets", "functionGroups", "externalReferences", "definedNames")
        list(before)[-1].addnext(found)
    found.set("fullCalcOnLoad", "1")

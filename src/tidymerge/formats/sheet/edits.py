"""Edits to the rows of a sheet, as parts of the workbook: the sheet itself, and what tells where its rows end."""

import re
from collections.abc import Iterator, Mapping, Sequence
from xml.sax.saxutils import quoteattr

from openpyxl.formula.tokenizer import TokenizerError
from openpyxl.formula.translate import Translator

from tidymerge.core.naming.letters import column_letter
from tidymerge.errors import WriteRefused
from tidymerge.formats.content import Edits
from tidymerge.formats.sheet.book import Book, Table
from tidymerge.formats.sheet.serials import DATES
from tidymerge.formats.sheet.xml import Cell, attributes, decoded, grown, unescaped
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
        return {self._book.part: self._fitted(before, end, wider) + body + self._fitted(after, end, wider)}

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

    def _fitted(self, xml: bytes, end: int, wider: int) -> bytes:
        """What stands before or after the rows, with ranges that end with the last record ending with the new last."""
        for pattern, more in (
            (rb"(<(?:\w+:)?(?:dimension|autoFilter)\b[^>]*\bref=\")([^\"]*)(\")", wider),
            (rb"(<(?:\w+:)?(?:conditionalFormatting|dataValidation)\b[^>]*\bsqref=\")([^\"]*)(\")", 0),
            (rb"(<(?:\w+:)?sqref>)([^<]*)(</)", 0),
        ):

            def longer(found: re.Match[bytes], more: int = more) -> bytes:
                return found[1] + grown(found[2].decode(), self._there, self._last, end, more).encode() + found[3]

            xml = re.sub(pattern, longer, xml)
        return xml

    def _around(self, end: int, new: Sequence[str], gone: Sequence[str] = ()) -> dict[str, bytes]:
        """The other parts that tell where the rows end, which columns there are, or what formulas."""
        parts: dict[str, bytes] = {}
        if self._book.table is not None and (end != self._last or new or gone):
            parts[self._book.table.part] = self._table(self._book.table, end, new, gone)
        main = self._book.package.main
        data = self._book.package.read(main)
        data = self._filter_name(data, end, len(new) - len(gone))
        if self._book.calculates:
            data = _calculated_on_opening(data)
        if end != self._last and self._book.formulas:
            parts |= self._book.package.without("calcChain")[1]
        if data != self._book.package.read(main):
            parts[main] = data
        return parts

    def _table(self, table: Table, end: int, new: Sequence[str], gone: Sequence[str]) -> bytes:
        """The part of a table with another range, and with other columns at its right."""
        bottom = end if end > table.bottom or self._last == table.bottom else table.bottom
        data = self._book.package.read(table.part)
        if new or gone:
            data = _with_columns(data, new, gone)
        wider = len(new) - len(gone)
        ref, longer = table.reference(table.bottom), table.reference(max(bottom, table.top + 1), wider)
        return data.replace(f'ref="{ref}"'.encode(), f'ref="{longer}"'.encode())

    def _filter_name(self, data: bytes, end: int, wider: int) -> bytes:
        """The workbook with the hidden name of the sheet's filter, which has its range, ending in another row."""
        index = self._book.package.index(self._book.sheet)
        tag = rb"<(?:\w+:)?definedName\b(?=[^>]*_xlnm\._FilterDatabase)(?=[^>]*localSheetId=\"%d\")[^>]*>" % index
        right = max(self._there)
        old, new = (f"${column_letter(at)}${row}" for at, row in ((right, self._last), (right + wider, end)))
        return re.sub(rb"(%b[^<]*)%b(</)" % (tag, re.escape(old.encode())), rb"\g<1>%b\g<2>" % new.encode(), data)


def _with_columns(data: bytes, new: Sequence[str], gone: Sequence[str]) -> bytes:
    """A table's part with more columns at its right, or without some."""
    pattern = rb"<((?:\w+:)?)tableColumn(\s[^>]*?)(?:/>|>.*?</\1tableColumn>)"
    found = [(one, attributes(one[2])) for one in re.finditer(pattern, data, re.DOTALL)]
    prefix, highest = found[0][0][1], max(int(named["id"]) for _, named in found)
    kept = [one[0] for one, named in found if decoded(named["name"]).replace("\r\n", "\n") not in gone]
    for number, name in enumerate(new, start=highest + 1):
        called = quoteattr(name.replace("\n", "_x000a_"))
        kept.append(b"<" + prefix + f'tableColumn id="{number}" name={called}/>'.encode())
    opening = b'<%btableColumns count="%d">' % (prefix, len(kept))
    start, end = found[0][0].start(), found[-1][0].end()
    head = re.sub(rb"<(?:\w+:)?tableColumns\b[^>]*>\s*$", lambda _: opening, data[:start])
    return head + b"".join(kept) + data[end:]


def _calculated_on_opening(data: bytes) -> bytes:
    """The workbook's part, saying that formulas are to be calculated when it is opened (18.2.2)."""
    found = re.search(rb"<((?:\w+:)?)calcPr\b[^>]*?/?>", data)
    if found:
        tag = re.sub(rb"\sfullCalcOnLoad=\"[^\"]*\"", b"", found[0])
        tag = re.sub(rb"calcPr\b", b'calcPr fullCalcOnLoad="1"', tag, count=1)
        return data[: found.start()] + tag + data[found.end() :]
    before = b"sheets|functionGroups|externalReferences|definedNames"
    ends = list(re.finditer(rb"</((?:\w+:)?)(?:%b)>|<(?:\w+:)?(?:%b)\s*/>" % (before, before), data))
    at = ends[-1].end()
    return data[:at] + b'<%bcalcPr fullCalcOnLoad="1"/>' % (ends[0][1] or b"") + data[at:]

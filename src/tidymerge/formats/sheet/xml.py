"""The rows and cells of a sheet as they stand in its XML (ECMA-376, 18.3), so that all others stay to the byte.

A cell's exact text starts with a letter for its kind: n a number, s a text, r a text with fonts of its own (as XML),
b true or false, e an error, d a date as text, f a formula. (In columns of dates, numbers travel as dates, with an m:
serials.py.)
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from xml.parsers import expat
from xml.sax.saxutils import escape

import numpy as np
from msgspec import Struct

from tidymerge.core.naming.letters import column_index, column_letter
from tidymerge.errors import TargetUnreadable
from tidymerge.model import Indices

_ENTITY = re.compile(r"&(#x[0-9A-Fa-f]+|#[0-9]+|amp|lt|gt|quot|apos);")
_NAMED = {"amp": "&", "lt": "<", "gt": ">", "quot": '"', "apos": "'"}
_ESCAPED = re.compile(r"_x([0-9A-Fa-f]{4})_")  # 22.4.2.4: signs that XML can't hold
_ATTRIBUTE = re.compile(rb"([\w:.]+)\s*=\s*(?:\"([^\"]*)\"|'([^']*)')")
_REFERENCE = re.compile(r"([A-Z]+)([0-9]+)")


def check(data: bytes, place: str) -> None:
    """Raise TargetUnreadable unless the XML is well formed, in UTF-8, and without what only full parsing can tell."""
    try:
        expat.ParserCreate().Parse(data, True)
    except expat.ExpatError as error:
        raise TargetUnreadable(f"{place} is not well-formed XML ({error}).") from None
    odd = [mark for mark in (b"<![CDATA[", b"<!--", b"<!DOCTYPE") if mark in data]
    if odd or data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        raise TargetUnreadable(f"{place} is written in an unusual way: save it once with a spreadsheet program.")


def unescaped(text: str) -> str:
    """The text that XML stands for."""

    def sign(found: re.Match[str]) -> str:
        name = found[1]
        if name[0] != "#":
            return _NAMED[name]
        return chr(int(f"0{name[1:]}", base=0) if name[1] == "x" else int(name[1:]))

    return decoded(_ENTITY.sub(sign, text))


def decoded(text: str) -> str:
    """A text in which signs that XML can't hold are spelled by their number."""
    return _ESCAPED.sub(lambda found: chr(int(found[1], 16)), text)


def escaped(text: str) -> str:
    """A text as XML."""
    return escape(spelled(text))


def spelled(text: str) -> str:
    """A text in which what XML would not keep, or would be taken for such a sign, is spelled by its number."""
    return _ESCAPED.sub(r"_x005F_x\1_", text).replace("\r", "_x000D_")


def attributes(tag: bytes) -> dict[str, str]:
    """The attributes in the inside of a start tag."""
    return {
        found[1].decode(): _ENTITY.sub(lambda one: unescaped(one[0]), (found[2] or found[3] or b"").decode())
        for found in _ATTRIBUTE.finditer(tag)
    }


def number(value: float) -> str:
    """The shortest text of a number."""
    return repr(float(value)).removesuffix(".0")


class Cell(Struct, frozen=True):
    """A cell: its column (0 for A), its style, its exact text (null where blank), and where it stands in its row."""

    column: int
    style: str | None
    text: str | None
    start: int
    end: int


class Strings:
    """The texts that cells share, as exact texts."""

    def __init__(self, data: bytes | None) -> None:
        self._data = data

    @cached_property
    def _texts(self) -> list[str]:
        if self._data is None:
            return []
        check(self._data, "The list of texts of the workbook")
        found = re.search(rb"<((?:\w+:)?)sst\b", self._data)
        self.prefix = found[1] if found else b""
        items = re.finditer(rb"<%bsi\s*(?:/>|>(.*?)</%bsi>)" % (self.prefix, self.prefix), self._data, re.DOTALL)
        return [rich_or_plain(item[1] or b"", self.prefix) for item in items]

    def __getitem__(self, index: int) -> str:
        try:
            return self._texts[index]
        except IndexError:
            raise TargetUnreadable("A cell refers to a text that the workbook does not have.") from None


def rich_or_plain(inner: bytes, prefix: bytes) -> str:
    """The exact text of what is inside of a string element."""
    if re.search(rb"<%br[\s>]" % prefix, inner):
        return "r" + inner.decode()
    texts = re.findall(rb"<%bt(?:\s[^>]*)?>(.*?)</%bt>" % (prefix, prefix), inner, re.DOTALL)
    return "s" + unescaped(b"".join(texts[:1]).decode())


class SheetXml:
    """A sheet's XML, cut into rows. Raises TargetUnreadable."""

    def __init__(self, data: bytes, strings: Strings, place: str) -> None:
        check(data, place)
        self.data = data
        self._strings = strings
        opening = re.search(rb"<((?:\w+:)?)sheetData\s*>", data)
        if opening is None:
            raise TargetUnreadable(f"{place} has no rows.")
        self.prefix = opening[1]
        self.body = opening.end()
        self.body_end = data.index(b"</%bsheetData" % self.prefix, self.body)
        numbers, starts, last = [], [], 0
        tags = re.compile(rb"<%brow(?=[\s/>])([^>]*)>" % self.prefix)
        for tag in tags.finditer(data, self.body, self.body_end):
            found = re.search(rb"(?:^|\s)r\s*=\s*[\"']([0-9]+)", tag[1])
            last = int(found[1]) if found else last + 1
            numbers.append(last)
            starts.append(tag.start())
        self.numbers: Indices = np.array(numbers, np.int64)
        self._bounds = np.array([*starts, self.body_end], np.int64)
        if (np.diff(self.numbers) <= 0).any():
            raise TargetUnreadable(f"{place} has rows out of order: save it once with a spreadsheet program.")
        self._cell = re.compile(
            rb"<%bc(?=[\s/>])([^>]*?)(?:/>|>(.*?)</%bc\s*>)" % (self.prefix, self.prefix), re.DOTALL
        )

    def row(self, number: int) -> bytes | None:
        """The XML of a row, if it is there."""
        at = int(np.searchsorted(self.numbers, number))
        if at == len(self.numbers) or self.numbers[at] != number:
            return None
        return self.data[self._bounds[at] : self._bounds[at + 1]]

    def cells(self, row: bytes) -> Iterator[Cell]:
        """The cells of a row."""
        column = -1
        for found in self._cell.finditer(row):
            named = attributes(found[1])
            reference = _REFERENCE.match(named.get("r", ""))
            column = column_index(reference[1]) if reference else column + 1
            yield Cell(
                column, named.get("s"), self._exact(named.get("t", "n"), found[2] or b""), found.start(), found.end()
            )

    def _exact(self, kind: str, inner: bytes) -> str | None:
        if re.search(rb"<%bf[\s/>]" % self.prefix, inner):
            return "f" + inner.decode()
        if kind == "inlineStr":
            found = re.search(rb"<%bis\s*>(.*)</%bis" % (self.prefix, self.prefix), inner, re.DOTALL)
            text = rich_or_plain(found[1], self.prefix) if found else "s"
            return text if text != "s" else None
        held = re.search(rb"<%bv(?:\s[^>]*)?>(.*?)</" % self.prefix, inner, re.DOTALL)
        if held is None or not held[1]:
            return None
        value = held[1].decode()
        match kind:
            case "s":
                shared = self._strings[int(value)]
                return shared if shared != "s" else None
            case "str":
                return "s" + unescaped(value)
            case "n":
                return "n" + number(float(value))
            case _:
                return kind[0] + unescaped(value)

    def cell_xml(self, column: int, row: int, style: str | None, text: str | None, formula: str | None = None) -> bytes:
        """A cell of an exact text, or of a formula; nothing where it would be blank and without a style."""
        pre = self.prefix.decode()
        looks = f' s="{style}"' if style is not None else ""
        start = f'<{pre}c r="{column_letter(column)}{row}"{looks}'
        if formula is not None:
            return f"{start}><{pre}f>{escape(formula)}</{pre}f></{pre}c>".encode()
        if text is None:
            return f"{start}/>".encode() if looks else b""
        kind, value = text[0], text[1:]
        if kind == "n":
            return f"{start}><{pre}v>{value}</{pre}v></{pre}c>".encode()
        if kind in "sr":
            space = ' xml:space="preserve"' if value != value.strip() or "\n" in value else ""
            inner = value if kind == "r" else f"<{pre}t{space}>{escaped(value)}</{pre}t>"
            return f'{start} t="inlineStr"><{pre}is>{inner}</{pre}is></{pre}c>'.encode()
        return f'{start} t="{kind}"><{pre}v>{escaped(value)}</{pre}v></{pre}c>'.encode()

    def with_cells(self, row: bytes, cells: Mapping[int, bytes]) -> bytes:
        """The row with other cells in some columns."""
        opening = re.match(rb"<%brow[^>]*>" % self.prefix, row)
        assert opening is not None  # noqa: S101 - rows are cut where they start
        tag, at = opening[0], opening.end()
        if tag.endswith(b"/>"):
            tag, row = tag[:-2] + b">", row[:at] + b"</%brow>" % self.prefix + row[at:]
        there = list(self.cells(row))
        if set(cells) - {cell.column for cell in there}:  # the columns that the row says to span may be too few
            tag = re.sub(rb"\s+spans\s*=\s*(\"[^\"]*\"|'[^']*')", b"", tag)
        pieces, last, wanted = [tag], there[-1].end if there else at, sorted(cells, reverse=True)
        for cell in there:
            while wanted and wanted[-1] < cell.column:
                pieces += [row[at : cell.start], cells[wanted.pop()]]
                at = cell.start
            if wanted and wanted[-1] == cell.column:
                pieces += [row[at : cell.start], cells[wanted.pop()]]
                at = cell.end
        return b"".join([*pieces, row[at:last], *(cells[column] for column in reversed(wanted)), row[last:]])

    def new_row(self, number: int, above: bytes | None) -> bytes:
        """An empty row that looks like the one above."""
        opening = re.match(rb"<%brow([^>]*?)/?>" % self.prefix, above or b"")
        looks = attributes(opening[1]) if opening else {}
        kept = "".join(
            f' {name}="{escape(value)}"'
            for name, value in looks.items()
            if name not in ("r", "spans", "hidden", "collapsed")
        )
        pre = self.prefix.decode()
        return f'<{pre}row r="{number}"{kept}></{pre}row>'.encode()

    def edited(self, rows: Mapping[int, bytes]) -> tuple[bytes, bytes, bytes]:
        """The XML before the rows, the rows with some of them other ones or new, and the XML after them."""
        pieces, at = [], self.body
        for number in sorted(rows):
            place = int(np.searchsorted(self.numbers, number))
            start = int(self._bounds[place])
            pieces += [self.data[at:start], rows[number]]
            there = place < len(self.numbers) and self.numbers[place] == number
            at = int(self._bounds[place + 1]) if there else start
        pieces.append(self.data[at : self.body_end])
        return self.data[: self.body], b"".join(pieces), self.data[self.body_end :]

    def formulas(self) -> dict[int, set[int]]:
        """The rows that hold a formula, by column."""
        found: dict[int, set[int]] = {}
        for cell in re.finditer(rb"<%bc\s([^>]*?)>\s*<%bf[\s/>]" % (self.prefix, self.prefix), self.data):
            reference = _REFERENCE.match(attributes(cell[1]).get("r", ""))
            if reference is None:
                raise TargetUnreadable("The sheet has cells without a place: save it once with a spreadsheet program.")
            found.setdefault(column_index(reference[1]), set()).add(int(reference[2]))
        return found


def rows_in(reference: str) -> tuple[int, int, int, int] | None:
    """Left, top, right and bottom of a range such as A4:F20, columns from 0 and rows from 1."""
    found = re.fullmatch(r"\$?([A-Z]+)\$?([0-9]+)(?::\$?([A-Z]+)\$?([0-9]+))?", reference)
    if not found:
        return None
    left, top = column_index(found[1]), int(found[2])
    return left, top, column_index(found[3]) if found[3] else left, int(found[4]) if found[4] else top


def grown(reference: str, columns: Sequence[int], old: int, new: int, wider: int = 0) -> str:
    """Ranges, parted by spaces, in which those over some of the columns that end in row `old` end in row `new`.

    They also end `wider` columns further to the right, if they end with the last of the columns.
    """
    found = []
    for one in reference.split():
        area = rows_in(one)
        if area and area[3] == old and area[1] <= new and set(columns) & set(range(area[0], area[2] + 1)):
            left, top, right, _ = area
            right += wider if right == max(columns) else 0
            one = f"{column_letter(left)}{top}:{column_letter(right)}{new}"  # noqa: PLW2901
        found.append(one)
    return " ".join(found)

"""Formula errors in workbooks of other formats than ECMA-376's: they too look blank to whoever only reads values.

Sources: ISO/IEC 26300 (ODS); the open specifications MS-XLS, 2.4 (BIFF records), and MS-XLSB, 2.4 (binary records).
"""

import re
import struct
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from posixpath import join, normpath
from xml.parsers import expat

from tidymerge.errors import MissingPackage
from tidymerge.formats.sheet.faults import NONE, Faults

Errors = dict[tuple[int, int], str]
_NAMES = {0x00: "#NULL!", 0x07: "#DIV/0!", 0x0F: "#VALUE!", 0x17: "#REF!", 0x1D: "#NAME?", 0x24: "#NUM!", 0x2A: "#N/A"}
_BEGIN, _END, _SHEET, _BOOLEAN_OR_ERROR, _FORMULA = 0x0809, 0x000A, 0x0085, 0x0205, 0x0006  # records of BIFF
_IS_ERROR = 2  # the kind of a formula's value
_ROW, _ERROR_CELLS, _BUNDLE = 0, (3, 11), 156  # BrtRowHdr; BrtCellError and BrtFmlaError; BrtBundleSh
_MOST = 1_000_000  # errors that are told: a repeated cell may stand for as many as a sheet has
_TABLE, _TEXT = (f"urn:oasis:names:tc:opendocument:xmlns:{name}:1.0" for name in ("table", "text"))
_KIND = "urn:org:documentfoundation:names:experimental:calc:xmlns:calcext:1.0 value-type"
_UNTOLD = (OSError, KeyError, IndexError, ValueError, struct.error, zipfile.BadZipFile, zlib.error, expat.ExpatError)
_CELLS = {f"{_TABLE} table-cell", f"{_TABLE} covered-table-cell"}


def other_faults(path: Path, sheet: str, index: int) -> Faults | None:
    """The errors in a sheet, the one of that name and number; None where they can't be told. Raises MissingPackage."""
    find = {".ods": _of_ods, ".xls": _of_xls, ".xlsb": _of_xlsb}.get(path.suffix.lower())
    if find is None:
        return None
    try:
        errors = find(path, sheet, index)
    except _UNTOLD:
        return None  # what reads the cells is less particular
    return Faults(errors) if errors else NONE


def _named(code: int) -> str:
    return _NAMES.get(code, "#ERROR")


class _Ods:
    """Where the cells of one table of an OpenDocument file stand that hold errors."""

    def __init__(self, sheet: str) -> None:
        self._sheet = sheet
        self._inside = False
        self._row = self._column = -1
        self._rows = self._columns = 1
        self._error: str | None = None
        self._in_text = False
        self.errors: Errors = {}

    def start(self, name: str, about: dict[str, str]) -> None:
        """An element begins."""
        if name == f"{_TABLE} table":
            self._inside = about.get(f"{_TABLE} name") == self._sheet
            self._row, self._rows = -1, 1
        elif self._inside and name == f"{_TABLE} table-row":
            self._row += self._rows
            self._rows = int(about.get(f"{_TABLE} number-rows-repeated", 1))
            self._column, self._columns = -1, 1
        elif self._inside and name in _CELLS:
            self._column += self._columns
            self._columns = int(about.get(f"{_TABLE} number-columns-repeated", 1))
            self._error = "" if about.get(_KIND) == "error" else None
        self._in_text = name == f"{_TEXT} p"

    def text(self, signs: str) -> None:
        """Text of an element."""
        if self._error is not None and self._in_text:
            self._error += signs

    def end(self, name: str) -> None:
        """An element ends."""
        if name in _CELLS and self._inside and self._error is not None:
            for row in range(self._row, self._row + self._rows):
                for column in range(self._column, self._column + self._columns):
                    if len(self.errors) < _MOST:
                        self.errors[row, column] = self._error or "#ERROR"
            self._error = None


def _of_ods(path: Path, sheet: str, _index: int) -> Errors:
    with zipfile.ZipFile(path) as package:
        data = package.read("content.xml")
    if b'value-type="error"' not in data:
        return {}
    found, parser = _Ods(sheet), expat.ParserCreate(namespace_separator=" ")
    parser.StartElementHandler, parser.EndElementHandler = found.start, found.end
    parser.CharacterDataHandler = found.text
    parser.Parse(data, True)
    return found.errors


def _of_xls(path: Path, _sheet: str, index: int) -> Errors:
    try:
        from olefile import OleFileIO
    except ImportError:
        raise MissingPackage(
            "Workbooks in the old binary format are read with a package that is not installed: pip install "
            "'tidymerge[xls]'. Or save it as .xlsx.",
            package="olefile",
        ) from None
    with OleFileIO(str(path)) as file:
        data = file.openstream("Workbook" if file.exists("Workbook") else "Book").read()
    sheets = [body for kind, body in _records(data, 0) if kind == _SHEET]
    errors: Errors = {}
    for kind, body in _records(data, struct.unpack_from("<I", sheets[index])[0]):
        if kind == _BOOLEAN_OR_ERROR and body[7]:
            errors[struct.unpack_from("<HH", body)] = _named(body[6])
        elif kind == _FORMULA and body[12:14] == b"\xff\xff" and body[6] == _IS_ERROR:
            errors[struct.unpack_from("<HH", body)] = _named(body[8])
    return errors


def _records(data: bytes, at: int) -> Iterator[tuple[int, bytes]]:
    """The records of one substream of a BIFF stream, up to its end; what is inside of it, as a chart is, goes along."""
    depth = 0
    while at + 4 <= len(data):
        kind, size = struct.unpack_from("<HH", data, at)
        depth += (kind == _BEGIN) - (kind == _END)
        if depth == 1:
            yield kind, data[at + 4 : at + 4 + size]
        at += 4 + size
        if not depth:
            return


def _of_xlsb(path: Path, sheet: str, index: int) -> Errors:
    with zipfile.ZipFile(path) as package:
        bundles = [body for kind, body in _parts(package.read("xl/workbook.bin")) if kind == _BUNDLE]
        relation, end = _wide(bundles[index], 8)
        if _wide(bundles[index], end)[0] != sheet:
            raise KeyError(sheet)
        relations = package.read("xl/_rels/workbook.bin.rels").decode()
        about = next((one for one in re.findall(r"<Relationship\b[^>]*>", relations) if f'Id="{relation}"' in one), "")
        target = re.search(r'Target="([^"]+)"', about)
        place = target[1] if target else ""
        data = package.read(place.lstrip("/") if place.startswith("/") else normpath(join("xl", place)))
    errors: Errors = {}
    row = 0
    for kind, body in _parts(data):
        if kind == _ROW:
            (row,) = struct.unpack_from("<I", body)
        elif kind in _ERROR_CELLS:
            errors[row, struct.unpack_from("<I", body)[0]] = _named(body[8])
    return errors


def _wide(body: bytes, at: int) -> tuple[str, int]:
    """A text, and where what follows it begins."""
    (length,) = struct.unpack_from("<I", body, at)
    end = at + 4 + 2 * length
    return body[at + 4 : end].decode("utf-16-le"), end


def _parts(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The records of a binary part: a type of one or two bytes, a size of up to four, seven bits in each."""
    at = 0
    while at < len(data):
        kind, at = _number(data, at, 2)
        size, at = _number(data, at, 4)
        yield kind, data[at : at + size]
        at += size


def _number(data: bytes, at: int, most: int) -> tuple[int, int]:
    """A number of at most so many bytes, the lowest bits first, and where the next one begins."""
    value = 0
    for place in range(most):
        byte = data[at + place]
        value |= (byte & 0x7F) << 7 * place
        if not byte & 0x80:
            return value, at + place + 1
    return value, at + most

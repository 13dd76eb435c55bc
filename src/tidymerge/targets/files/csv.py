"""A CSV or TSV file that can be written anew: lines that don't change stay to the byte."""

import codecs
import csv
import io
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.address import Address
from tidymerge.core.cells import as_array, mask_of, valid
from tidymerge.core.decide import differs
from tidymerge.errors import NoRows, SourceError, TargetUnreadable, WriteRefused
from tidymerge.model import ColumnType, Indices, TargetColumn
from tidymerge.ports import Irregular
from tidymerge.sources import ReadOptions
from tidymerge.sources.csv import CsvSource, regular
from tidymerge.targets.files.content import Edits, Found, NewFile
from tidymerge.targets.files.types import NONE_DECLARED, column_of, spelled_like, typed, with_declared

_NEWLINE = 0x0A


def _encoding(data: bytes) -> str | None:
    """The encoding of a file that is not UTF-8 and has no mark: Windows' western one, which most such files have."""
    if data.startswith((codecs.BOM_UTF8, codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return None
    for encoding in ("utf-8", "cp1252"):
        try:
            data.decode(encoding)
        except UnicodeDecodeError:
            continue
        return encoding
    return "latin-1"


class CsvFile:
    """The text file at an address, read whole: its columns, and each cell as text, null where blank.

    Column names are in its first line. Raises TargetUnreadable where not every line is one row, so that it can't be
    told where a row stands. `types` are declared ones; with `like`, the file is read in that one's dialect.
    """

    marks_text = False
    part = None
    notes: tuple[str, ...] = ()

    def __init__(
        self, address: Address, types: Mapping[str, ColumnType] = NONE_DECLARED, like: "CsvFile | None" = None
    ) -> None:
        try:
            data = address.path.read_bytes()
            options = ReadOptions(encoding=_encoding(data)) if like is None else like.dialect
            self._source = CsvSource(address, options, data)
            start, names = self._source.header(0)
            arrays = self._cells(start, len(names))
        except OSError as error:
            raise TargetUnreadable(f"{address.path} can't be read: {error.strerror or error}.") from None
        except Irregular:
            raise TargetUnreadable(
                f"{address.path} has blank lines, or lines with more or fewer cells than column names: mend it first."
            ) from None
        except NoRows as error:
            raise TargetUnreadable(f"{error} A target needs a line of column names.") from None
        except SourceError as error:
            raise TargetUnreadable(str(error)) from None
        if len(set(names)) < len(names):
            raise TargetUnreadable(f"{address.path} has two columns of the same name; a target's names must differ.")
        self.name = address.path.name
        self._path = address.path.resolve()
        self._types = types
        self._texts = pa.table(dict(zip(names, arrays, strict=True)))
        told = (column_of(name, array) for name, array in zip(names, arrays, strict=True))
        self.columns: tuple[TargetColumn, ...] = like.columns if like else with_declared(told, types, str(address))
        self._bounds = self._find_lines(start, len(arrays[0]))
        head = self._source.data[:start]
        self._newline = b"\r\n" if head.endswith(b"\r\n") else b"\n"
        self._all_quoted = head.count(self._source.quote.encode()) >= 2 * len(names)

    def _cells(self, start: int, columns: int) -> list[pa.Array]:
        """The cells below the names, a column an array. Raises Irregular where not every line is one row."""
        delimiter, quote = self._source.delimiter, self._source.quote
        try:
            return regular(memoryview(self._source.data)[start:], columns, delimiter, quote)
        except Irregular:  # or with blank lines inside of cells, which the slower reader knows from those between rows
            text = io.StringIO(self._source.data[start:].decode().rstrip("\r\n"), newline="")
            try:
                rows = list(csv.reader(text, delimiter=delimiter, quotechar=quote, strict=True))
            except csv.Error:
                raise Irregular from None
            if any(len(row) != columns for row in rows):
                raise Irregular from None
            return [pa.array([row[at] or None for row in rows], pa.string()) for at in range(columns)]

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return int(self._texts.num_rows)

    def find(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Found:
        """The columns of all rows: they are in memory."""
        return self.values(columns)

    def values(self, columns: Sequence[TargetColumn], rows: Indices | None = None) -> Found:
        """The columns of some rows, or of all."""
        found, unreadable = {}, {}
        for column in columns:
            texts = as_array(
                self._texts[column.name] if rows is None else self._texts[column.name].take(pa.array(rows))
            )
            found[column.name] = typed(texts, column)
            lost = valid(texts) & ~valid(found[column.name])
            if lost.any():
                unreadable[column.name] = lost
        return Found(pa.table(found), rows, unreadable)

    def batches(self, columns: Sequence[TargetColumn]) -> Iterator[Found]:
        """All rows at once."""
        yield self.values(columns, np.arange(self.rows))

    def texts(self, names: Sequence[str], rows: Indices) -> pa.Table:
        """The cells of some rows as they are."""
        return self._texts.select(names).take(pa.array(rows))

    def spelled(self, values: pa.Array, column: TargetColumn) -> pa.Array:
        """New values as the file spells its own."""
        return spelled_like(values, column, self._texts[column.name])

    @property
    def dialect(self) -> ReadOptions:
        """How the file is written."""
        return ReadOptions(self._source.delimiter, self._source.quote, self._source.encoding)

    def _find_lines(self, start: int, rows: int) -> Indices:
        """Where each row's line starts, and where the last one ends."""
        data = np.frombuffer(self._source.data, np.uint8)[start:]
        ends = data == _NEWLINE
        quotes = data == ord(self._source.quote)
        if quotes.any():
            ends &= np.cumsum(quotes) % 2 == 0
        found = np.r_[0, np.flatnonzero(ends) + 1][: rows + 1]
        if len(found) <= rows:
            found = np.r_[found, len(data)]
        if len(found) != rows + 1:
            raise TargetUnreadable(
                "The file's lines don't end as text files' do (line feed, or carriage return and line feed)."
            )
        bounds: Indices = found + start
        return bounds

    def unwritable(self, texts: pa.Array, rows: Indices | None, column: TargetColumn) -> Mapping[int, str]:
        """The texts with signs that the file's encoding does not have, or with a zero byte."""
        bad = mask_of(pc.match_substring(texts, "\0"))
        if self._source.encoding != "utf-8":
            for index, text in enumerate(texts.to_pylist()):
                try:
                    (text or "").encode(self._source.encoding)
                except UnicodeEncodeError:
                    bad[index] = True
        return {index: f"the file can't hold {texts[index].as_py()!r}" for index in np.flatnonzero(bad).tolist()}

    def joint(self, touched: Indices) -> int:
        """The end."""
        return self.rows

    def edited(self, edits: Edits) -> Iterable[tuple[Path, NewFile]]:
        """The one file."""
        return [(self._path, lambda file: _write(file, self._edited(edits)))]

    def written(self, files: Mapping[Path, Path]) -> "CsvFile":
        """The new file, read in the same dialect."""
        return CsvFile(Address(files.get(self._path, self._path)), self._types, self)

    def _edited(self, edits: Edits) -> bytes:
        """The file as it is to be. Whether its last line is ended stays as it is."""
        data, bounds = self._source.data, self._bounds
        end = int(bounds[-1])
        pieces = [data[: bounds[0]]]
        lines = dict(zip(edits.rows.tolist(), self._with_cells(edits), strict=True))
        at = 0
        for row in np.union1d(edits.rows, edits.leaving).tolist():
            pieces.append(data[bounds[at] : bounds[row]])
            if row in lines:
                pieces.append(lines[row])
            at = row + 1
        pieces.append(data[bounds[at] : end])
        body = b"".join(pieces)
        added = self._lines(edits.added)
        if added:
            joint = b"" if body.endswith(b"\n") else self._newline
            body = b"".join((body, joint, self._newline.join(added), self._newline))
        if not data.endswith(b"\n"):
            body = body.removesuffix(b"\r\n" if body.endswith(b"\r\n") else b"\n")
        return self._encoded(body + data[end:])

    def _encoded(self, data: bytes) -> bytes:
        if self._source.encoding == "utf-8":
            return self._source.mark + data
        try:
            return self._source.mark + data.decode().encode(self._source.encoding)
        except UnicodeEncodeError as error:
            raise WriteRefused(
                f"A text can't be written as {self._source.encoding}: {error.object[error.start : error.end]!r}."
            ) from None

    def _with_cells(self, edits: Edits) -> Iterator[bytes]:
        """The lines of the edited rows, in which the cells that don't change stay to the byte."""
        new = {
            self._texts.column_names.index(name): self._quoted(edits.cells[name]) for name in edits.cells.column_names
        }
        old = self._texts.select(edits.cells.column_names).take(pa.array(edits.rows))
        changed = [differs(as_array(old[name]), as_array(edits.cells[name])).tolist() for name in old.column_names]
        delimiter, quote = self._source.delimiter.encode(), re.escape(self._source.quote.encode())
        cuts = re.compile(b"%b(?:[^%b]|%b%b)*%b|%b" % (*(quote,) * 5, re.escape(delimiter)), re.DOTALL)
        for index, row in enumerate(edits.rows.tolist()):
            line = self._source.data[self._bounds[row] : self._bounds[row + 1]]
            closing = b"\r\n" if line.endswith(b"\r\n") else b"\n"
            body = line.removesuffix(closing)
            at = [cut.start() for cut in cuts.finditer(body) if cut[0] == delimiter]
            cells = [body[low:high] for low, high in zip([0, *(one + 1 for one in at)], [*at, len(body)], strict=True)]
            for (column, texts), mask in zip(new.items(), changed, strict=True):
                if mask[index]:
                    cells[column] = texts[index]
            yield delimiter.join(cells) + closing

    def _lines(self, cells: pa.Table) -> list[bytes]:
        """New rows in the file's own dialect, without line ends."""
        delimiter = self._source.delimiter.encode()
        columns = [self._quoted(cells[name]) for name in self._texts.column_names]
        return [delimiter.join(row) for row in zip(*columns, strict=True)]

    def _quoted(self, cells: pa.ChunkedArray) -> list[bytes]:
        """Cells, quoted where they need it, or all if the file quotes all."""
        texts, quote = as_array(cells), self._source.quote
        wrapped = pc.binary_join_element_wise("", pc.replace_substring(texts, quote, quote * 2), "", quote)
        special = "|".join("\\" + sign for sign in (self._source.delimiter, quote)) + r"|[\r\n]|^\s|\s$"
        quoted = wrapped if self._all_quoted else pc.if_else(pc.match_substring_regex(texts, special), wrapped, texts)
        found: list[bytes] = pc.cast(quoted.fill_null(""), pa.binary()).to_pylist()
        return found


def _write(file: BinaryIO, data: bytes) -> None:
    file.write(data)

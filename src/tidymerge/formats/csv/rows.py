"""A CSV or TSV file that can be written anew: lines that don't change stay to the byte."""

import csv
import io
import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import pairwise
from pathlib import Path
from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.address import Address
from tidymerge.core.infer.told import declared
from tidymerge.core.tidy.cells import as_array, differs, mask_of, valid
from tidymerge.core.tidy.tidying import is_guarded
from tidymerge.errors import NoRows, SourceError, TargetUnreadable, WriteRefused
from tidymerge.formats.content import Edits, Found, NewFile
from tidymerge.formats.csv.reading import CsvSource, regular
from tidymerge.formats.types import NONE_DECLARED, Manner, column_of, manner_of, spelled_like, typed, with_declared
from tidymerge.model import ColumnType, Indices, NewColumn, ReadOptions, TargetColumn
from tidymerge.ports.source import Irregular

_NEWLINE = 0x0A


class CsvFile:
    """The text file at an address, read whole: its columns, and each cell as text, null where blank.

    Column names are in its first line. Raises TargetUnreadable where not every line is one row, so that it can't be
    told where a row stands. `types` are declared ones; with `like`, the file is read in that one's dialect.
    """

    marks_text = False
    types_told = True
    fragment = None
    notes: tuple[str, ...] = ()

    def __init__(
        self, address: Address, types: Mapping[str, ColumnType] = NONE_DECLARED, like: "CsvFile | None" = None
    ) -> None:
        try:
            data = address.path.read_bytes()
            options = ReadOptions() if like is None else like.dialect
            self._source = CsvSource(address, options, data)
            self._data = self._source.data
            start, names = self._source.header(0)
            arrays = self._cells(start, len(names))
        except OSError as error:
            raise TargetUnreadable(f"{address.path} can't be read: {error.strerror or error}.") from None
        except Irregular:
            raise TargetUnreadable(
                f"{address.path} has blank lines, or lines with more or fewer cells than names: correct it first."
            ) from None
        except NoRows as error:
            raise TargetUnreadable(f"{error} A target needs a line of column names.") from None
        except SourceError as error:
            raise TargetUnreadable(str(error)) from None
        if len(set(names)) < len(names):
            raise TargetUnreadable(f"{address.path} has two columns of the same name; a target's names must differ.")
        self.name = address.path.name
        self.path: Path = like.path if like else address.path.resolve()
        self._types = types
        self._texts = pa.table(dict(zip(names, arrays, strict=True)))
        told = (column_of(name, array) for name, array in zip(names, arrays, strict=True))
        self.columns: tuple[TargetColumn, ...] = like.columns if like else with_declared(told, types)
        self.guarded: dict[str, bool] = like.guarded if like else {}
        self._manners: dict[str, Manner] = {}
        self._names = tuple(names)  # as the file has them, without new columns
        self._bounds = self._find_lines(start, len(arrays[0]))
        self._exact = self._with_empty_texts()
        head = self._data[:start]
        self._newline = b"\r\n" if head.endswith(b"\r\n") else b"\n"
        self._all_quoted = head.count(self._source.quote.encode()) >= 2 * len(names)

    def _cells(self, start: int, columns: int) -> list[pa.Array]:
        """The cells below the names, a column an array. Raises Irregular where not every line is one row."""
        delimiter, quote = self._source.delimiter, self._source.quote
        try:
            return regular(memoryview(self._data)[start:], columns, delimiter, quote)
        except Irregular:  # or with blank lines inside of cells, which the slower reader knows from those between rows
            text = io.StringIO(self._data[start:].decode().rstrip("\r\n"), newline="")
            try:
                rows = list(csv.reader(text, delimiter=delimiter, quotechar=quote, strict=True))
            except csv.Error:
                raise Irregular from None
            if any(len(row) != columns for row in rows):
                raise Irregular from None
            return [pa.array([row[at] or None for row in rows], pa.string()) for at in range(columns)]

    def _with_empty_texts(self) -> pa.Table:
        """The cells as they are: a blank in quotes is an empty text and no null, so that an undo puts it back."""
        quote, exact = self._source.quote.encode(), self._texts
        empty = re.compile(rb"(?<=[%b\n])%b(?=[%b\r\n]|\Z)" % (self._delimiter, quote * 2, self._delimiter))
        # Looking for the quotes alone is many times as fast, and most files have no such two.
        there = self._data.find(quote * 2, int(self._bounds[0])) >= 0
        places = [one.start() for one in empty.finditer(self._data, int(self._bounds[0]) - 1)] if there else []
        found: dict[int, list[int]] = {}
        for row in np.unique(np.searchsorted(self._bounds, places, side="right") - 1).tolist():
            line = self._data[self._bounds[row] : self._bounds[row + 1]].rstrip(b"\r\n")
            for column, cell in enumerate(self._cut(line)):
                if cell == quote * 2:
                    found.setdefault(column, []).append(row)
        for column, rows in found.items():
            mask = np.zeros(self.rows, bool)
            mask[rows] = True
            name = exact.column_names[column]
            exact = exact.set_column(column, name, pc.if_else(pa.array(mask), "", as_array(exact[name])))
        return exact

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return int(self._texts.num_rows)

    def unseen(self) -> list[str]:
        """Nothing: there are no formulas."""
        return []

    def find(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Found:
        """The columns of all rows: they are in memory."""
        return self.values(columns)

    def values(self, columns: Sequence[TargetColumn], rows: Indices | None = None) -> Found:
        """The columns of some rows, or of all."""
        found, unreadable = {}, {}
        for column in columns:
            cells = self._exact if column.type.as_stored else self._texts
            texts = as_array(cells[column.name] if rows is None else cells[column.name].take(pa.array(rows)))
            found[column.name] = typed(texts, column, guarded=self._is_guarded(column.name))
            lost = valid(texts) & ~valid(found[column.name])
            if lost.any():
                unreadable[column.name] = lost
        return Found(pa.table(found), rows, unreadable)

    def batches(self, columns: Sequence[TargetColumn]) -> Iterator[Found]:
        """All rows at once."""
        yield self.values(columns, np.arange(self.rows))

    def texts(self, names: Sequence[str], rows: Indices) -> pa.Table:
        """The cells of some rows as they are."""
        return self._exact.select(names).take(pa.array(rows))

    def readable(self, texts: pa.Table) -> pa.Table:
        """Exact texts as they are: people can read them."""
        return texts

    def exact(self, texts: pa.Table) -> pa.Table:
        """Exact texts as they are."""
        return texts

    def spelled(self, values: pa.Array, column: TargetColumn) -> pa.Array:
        """New values as the file spells its own."""
        if column.name not in self._manners:
            self._manners[column.name] = manner_of(self._texts[column.name], column)
        return spelled_like(values, column, self._manners[column.name], guarded=self._is_guarded(column.name))

    def _is_guarded(self, name: str) -> bool:
        """Whether texts get an apostrophe before what a spreadsheet would run: not where others of the column don't."""
        if name not in self.guarded:
            self.guarded[name] = is_guarded(as_array(self._texts[name]))
        return self.guarded[name]

    @property
    def dialect(self) -> ReadOptions:
        """How the file is written."""
        return ReadOptions(self._source.delimiter, self._source.quote, self._source.encoding)

    def _find_lines(self, start: int, rows: int) -> Indices:
        """Where each row's line starts, and where the last one ends."""
        data = np.frombuffer(self._data, np.uint8)[start:]
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

    def depending(self, names: Sequence[str]) -> list[str]:
        """Nothing: there are no formulas."""
        return []

    def definition(self, name: str) -> None:
        """A text file declares no types."""

    def add(self, columns: Sequence[NewColumn]) -> None:
        """Have more columns at the end, blank in all rows."""
        self.columns = (*self.columns, *(TargetColumn(one.name, declared(one.type)) for one in columns))
        for column in columns:
            self._texts = self._texts.append_column(column.name, pa.nulls(self.rows, pa.string()))
            self._exact = self._exact.append_column(column.name, pa.nulls(self.rows, pa.string()))

    def without(self, names: Sequence[str]) -> Iterable[tuple[Path, NewFile]]:
        """The file without some columns; the other cells stay to the byte."""
        kept = [at for at, name in enumerate(self._names) if name not in names]
        lines = ((self._cut(line), closing) for line, closing in self._lines_as_they_are())
        delimiter = self._delimiter
        data = b"".join(delimiter.join([cells[at] for at in kept]) + closing for cells, closing in lines)
        tail = self._data[int(self._bounds[-1]) :]
        return [(self.path, lambda file: _write(file, self._encoded(data + tail)))]

    def taken_away(self) -> Iterable[tuple[Path, NewFile]]:
        """All of the file goes."""
        return ()

    def _lines_as_they_are(self) -> Iterator[tuple[bytes, bytes]]:
        """The line of names, then those of the rows, each with how it ends."""
        data, bounds = self._data, [0, *self._bounds.tolist()]
        for low, high in pairwise(bounds):
            line = data[low:high]
            closing = b"\r\n" if line.endswith(b"\r\n") else b"\n" if line.endswith(b"\n") else b""
            yield line.removesuffix(closing), closing

    @cached_property
    def _delimiter(self) -> bytes:
        return self._source.delimiter.encode()

    @cached_property
    def _cuts(self) -> re.Pattern[bytes]:
        quote = re.escape(self._source.quote.encode())
        return re.compile(b"%b(?:[^%b]|%b%b)*%b|%b" % (*(quote,) * 5, re.escape(self._delimiter)), re.DOTALL)

    def _cut(self, line: bytes) -> list[bytes]:
        """The cells of a line as they stand there."""
        at = [cut.start() for cut in self._cuts.finditer(line) if cut[0] == self._delimiter]
        return [line[low:high] for low, high in zip([0, *(one + 1 for one in at)], [*at, len(line)], strict=True)]

    def joint(self, touched: Indices) -> int:
        """The end."""
        return self.rows

    def edited(self, edits: Edits) -> Iterable[tuple[Path, NewFile]]:
        """The one file."""
        return [(self.path, lambda file: _write(file, self._edited(edits)))]

    def anew(self, edits: Edits) -> Collection[str]:
        """All columns: the file is written whole."""
        return [column.name for column in self.columns]

    def written(self, files: Mapping[Path, Path]) -> "CsvFile":
        """The new file, read in the same dialect."""
        return CsvFile(Address(files.get(self.path, self.path)), self._types, self)

    def _edited(self, edits: Edits) -> bytes:
        """The file as it is to be. Whether its last line is ended stays as it is."""
        self._widen()
        data, bounds = self._data, self._bounds
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

    def _widen(self) -> None:
        """Put the new columns into each line of the data."""
        names = [name for name in self._texts.column_names if name not in self._names]
        if not names:
            return
        titles = self._quoted(pa.chunked_array([pa.array(names, pa.string())]))
        blank = self._quoted(pa.chunked_array([pa.nulls(len(names), pa.string())]))
        more = [self._delimiter.join([b"", *cells]) for cells in (titles, blank)]
        lines = list(self._lines_as_they_are())
        ends = [line + more[index > 0] + closing for index, (line, closing) in enumerate(lines)]
        self._names = tuple(self._texts.column_names)
        self._data = b"".join(ends) + self._data[int(self._bounds[-1]) :]
        self._bounds = np.cumsum([len(line) for line in ends])

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
        old = self._exact.select(edits.cells.column_names).take(pa.array(edits.rows))
        changed = [differs(as_array(old[name]), as_array(edits.cells[name])).tolist() for name in old.column_names]
        for index, row in enumerate(edits.rows.tolist()):
            line = self._data[self._bounds[row] : self._bounds[row + 1]]
            closing = b"\r\n" if line.endswith(b"\r\n") else b"\n"
            cells = self._cut(line.removesuffix(closing))
            for (column, texts), mask in zip(new.items(), changed, strict=True):
                if mask[index]:
                    cells[column] = texts[index]
            yield self._delimiter.join(cells) + closing

    def _lines(self, cells: pa.Table) -> list[bytes]:
        """New rows in the file's own dialect, without line ends."""
        columns = [self._quoted(cells[name]) for name in self._texts.column_names]
        return [self._delimiter.join(row) for row in zip(*columns, strict=True)]

    def _quoted(self, cells: pa.ChunkedArray) -> list[bytes]:
        """Cells, quoted where they need it, or all if the file quotes all."""
        texts, quote = as_array(cells), self._source.quote
        wrapped = pc.binary_join_element_wise("", pc.replace_substring(texts, quote, quote * 2), "", quote)
        special = "|".join("\\" + sign for sign in (self._source.delimiter, quote)) + r"|[\r\n]|^\s|\s$|^$"
        quoted = wrapped if self._all_quoted else pc.if_else(pc.match_substring_regex(texts, special), wrapped, texts)
        found: list[bytes] = pc.cast(quoted.fill_null(""), pa.binary()).to_pylist()
        return found


def _write(file: BinaryIO, data: bytes) -> None:
    file.write(data)

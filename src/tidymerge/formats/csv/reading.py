"""CSV and TSV (RFC 4180): delimiter, quote and encoding are found unless they are given.

A regular file is parsed by Arrow. Where records are ragged, or blank lines would shift the row
numbers, the standard library's parser reads it again, slower but row by row.
"""

import csv
import io
import re
import sys
from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.csv as arrow_csv

from tidymerge.address import Address
from tidymerge.core.tidy.cells import as_array
from tidymerge.errors import BadOption, BrokenFile, NoRows, NoSuchFile
from tidymerge.formats.csv.encoding import decoded
from tidymerge.formats.files import COMPRESSED, ending_of
from tidymerge.formats.table import as_incoming, columns_under, wrong_length
from tidymerge.formats.unpacking import all_of, unpacked
from tidymerge.model import Flaw, Incoming, Indices, ReadOptions
from tidymerge.ports.source import Irregular

csv.field_size_limit(sys.maxsize)  # the module's own limit is 128 KB a cell
_SAMPLE = 256 * 1024
_DELIMITERS = ",;\t|"
_BLANK_LINES = (b"\n\n", b"\n\r\n", b"\r\r")


class CsvSource:
    """A delimited text file, or standard input; `data` stands for its bytes where only the first are wanted."""

    def __init__(self, address: Address, options: ReadOptions, data: bytes | None = None) -> None:
        self.address = "standard input" if str(address.path) == "-" else str(address)
        self.sheet: str | None = None
        self.above = 0
        self.notes: tuple[str, ...] = ()
        text = decoded(_read(address) if data is None else data, options.encoding, self.address)
        self._data = text.data
        self.encoding, self.mark = text.encoding, text.mark
        self.assumed = text.encoding if text.assumed else None
        if text.assumed:
            self.notes += (
                f"Read as {text.encoding} text, as it is not UTF-8; if letters look wrong, name the encoding.",
            )
        if not self._data.strip():
            raise NoRows(f"{self.address} is empty.")
        if b"\0" in self._data[:_SAMPLE]:
            raise BrokenFile(f"{self.address} is not a text file: it holds zero bytes. Was it saved in another format?")
        self.quote = options.quote or _find_quote(self._data[:_SAMPLE])
        if self.quote != '"' and options.quote is None:
            self.notes += (
                f"Cells are taken to be quoted with {self.quote}, as in the first line; if not, name the quote sign.",
            )
        _check_sign("quote", self.quote)
        tab = ending_of(address) in (".tsv", ".tab")
        self.delimiter = options.delimiter or ("\t" if tab else None) or self._find_delimiter()
        _check_sign("delimiter", self.delimiter)

    @property
    def data(self) -> bytes:
        """The text as UTF-8, without a byte-order mark."""
        return self._data

    def _find_delimiter(self) -> str:
        """The delimiter that cuts the most of the first records into equally many cells."""
        best, most = ",", 0
        for delimiter in _DELIMITERS:
            widths = [len(row) for row in self._sample(delimiter, 200) if row]
            common = max(set(widths), key=widths.count, default=1)
            score = widths.count(common) * (common - 1)
            if score > most:
                best, most = delimiter, score
        return best

    def _sample(self, delimiter: str, rows: int) -> list[list[str]]:
        text = self._data[:_SAMPLE].decode(errors="ignore")
        reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, quotechar=self.quote)
        try:
            return [row for _, row in zip(range(rows), reader, strict=False)]
        except csv.Error:
            return []

    def sheets(self) -> tuple[tuple[str, int, int], ...]:
        """None: a text file is one table."""
        return ()

    def head(self, rows: int) -> list[list[str]]:
        """The first rows, blank lines included."""
        return self._sample(self.delimiter, rows)

    def read(self, header_row: int) -> Incoming:
        """The rows below the header; ragged ones come with a flaw."""
        try:
            return self._read_regular(header_row)
        except Irregular:
            return self._read_singly(header_row)

    def _read_regular(self, header_row: int) -> Incoming:
        start, header = self.header(header_row)
        arrays = regular(memoryview(self._data)[start:], len(header), self.delimiter, self.quote)
        numbers = np.arange(len(arrays[0]), dtype=np.int64) + header_row + 2
        return self._incoming(arrays, header, numbers, header_row)

    def header(self, header_row: int) -> tuple[int, list[str]]:
        """Where the rows below the header start, in bytes, and the header's cells."""
        text = io.StringIO(self._data[:_SAMPLE].decode(errors="ignore"), newline="")
        reader = csv.reader(text, delimiter=self.delimiter, quotechar=self.quote)
        for number, row in enumerate(reader):
            if number == header_row:
                lines = self._data[:_SAMPLE].splitlines(keepends=True)[: reader.line_num]
                return sum(map(len, lines)), row
        raise NoRows(f"{self.address} has no row {header_row + 1}.")

    def _read_singly(self, header_row: int) -> Incoming:
        header: list[str] = []
        rows: list[list[str]] = []
        numbers: list[int] = []
        short: list[tuple[int, int]] = []
        for index, row in enumerate(self._strict_rows()):
            if index == header_row:
                header = row
            elif index > header_row and row:
                if len(row) != len(header):
                    short.append((len(rows), len(row)))
                rows.append((row + [""] * len(header))[: len(header)])
                numbers.append(index + 1)
        cells = list(zip(*rows, strict=True)) or [()] * len(header)
        arrays = [pa.array(column, pa.string()) for column in cells]
        places = np.array([place for place, _ in short], np.int64)
        counts = np.array([count for _, count in short], np.int64)
        flaws = wrong_length(places, counts, len(header))
        return self._incoming(arrays, header, np.array(numbers, np.int64), header_row, flaws)

    def _strict_rows(self) -> Iterator[list[str]]:
        text = io.TextIOWrapper(io.BytesIO(self._data), "utf-8", newline="")
        reader = csv.reader(text, delimiter=self.delimiter, quotechar=self.quote, strict=True)
        started = 1
        try:
            for row in reader:
                yield row
                started = reader.line_num + 1
        except csv.Error as error:
            raise BrokenFile(
                f"{self.address} is badly quoted: the record that starts on line {started} ({error}). "
                f"A {self.quote} inside a quoted cell must be doubled, and every quote closed."
            ) from None

    def _incoming(
        self,
        arrays: Sequence[pa.Array],
        header: Sequence[str],
        numbers: Indices,
        header_row: int,
        flaws: Sequence[Flaw] = (),
    ) -> Incoming:
        columns = columns_under(header, [(array,) for array in arrays])
        return as_incoming(
            columns,
            numbers,
            flaws,
            address=self.address,
            header_row=header_row + 1,
            sheet=None,
            notes=self.notes,
            assumed=self.assumed,
        )


def regular(body: memoryview, columns: int, delimiter: str, quote: str) -> list[pa.Array]:
    """The cells of records below the header, a column an array. Raises Irregular where not every line is one row."""
    data = body.obj if isinstance(body.obj, bytes) else bytes(body)
    start = len(data) - len(body)
    end = len(data.rstrip())
    blank_line = any(data.find(blank, start, end) >= 0 for blank in _BLANK_LINES)
    blank_line |= data[start : start + 1] in (b"\n", b"\r") and end > start
    if blank_line or data.count(quote.encode(), start) % 2:
        raise Irregular
    if end <= start:
        return [pa.nulls(0, pa.string())] * columns
    keys = [str(index) for index in range(columns)]

    def ragged(_: object) -> str:
        return "error"

    try:
        table = arrow_csv.read_csv(
            pa.py_buffer(body),
            arrow_csv.ReadOptions(column_names=keys, block_size=8 << 20),
            arrow_csv.ParseOptions(
                delimiter=delimiter,
                quote_char=quote,
                newlines_in_values=data.find(quote.encode(), start) >= 0,
                ignore_empty_lines=False,
                invalid_row_handler=ragged,
            ),
            arrow_csv.ConvertOptions(
                column_types=dict.fromkeys(keys, pa.string()), null_values=[""], strings_can_be_null=True
            ),
        )
    except (pa.ArrowInvalid, Irregular):
        raise Irregular from None
    return [as_array(column) for column in table.columns]


def _read(address: Address) -> bytes:
    try:
        if str(address.path) == "-":
            return all_of(sys.stdin.buffer, "standard input")
        if address.path.suffix.lower() in COMPRESSED:
            with unpacked(address.path) as stream:
                return all_of(stream, str(address.path))
        return address.path.read_bytes()
    except OSError as error:
        raise NoSuchFile(f"{address.path} can't be read: {error.strerror or error}.") from None


def _check_sign(name: str, sign: str) -> None:
    if len(sign) != 1 or not sign.isascii() or sign in "\r\n":
        raise BadOption(f"The {name} must be one ASCII character, not {sign!r}.")


def _find_quote(sample: bytes) -> str:
    """Double quotes; single ones only where every name in the first line has them, and most lines too, in pairs."""
    if re.search(rb'(?:^|[,;\t|])"', sample, re.MULTILINE):
        return '"'
    lines = [line for line in sample.splitlines() if line.strip()]
    within = [line for line in lines if re.search(rb"(?:^|[,;\t|])'[^']*'(?=$|[,;\t|])", line)]
    named = bool(lines) and re.fullmatch(rb"'[^']+'(?:[,;\t|]'[^']+')*", lines[0]) is not None
    return "'" if named and len(lines) > 1 and 2 * len(within) > len(lines) and not sample.count(b"'") % 2 else '"'

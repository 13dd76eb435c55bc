"""Large CSV files, a block at a time: for what is regular UTF-8 text, which is what programs write."""

from collections.abc import Iterator

import numpy as np

from tidymerge.address import STANDARD_INPUT, Address
from tidymerge.errors import BrokenFile
from tidymerge.formats.csv.reading import CsvSource, regular
from tidymerge.formats.files import COMPRESSED
from tidymerge.formats.table import as_incoming, columns_under
from tidymerge.model import Incoming, ReadOptions
from tidymerge.settings import large_file, longest_line

_SAMPLE = 1 << 20
_BLOCK = 32 << 20
_BOM = b"\xef\xbb\xbf"


def open_csv(address: Address, options: ReadOptions) -> "CsvSource | CsvBlocks":
    """A CSV file, in blocks if it is large and plain."""
    plain = str(address.path) != STANDARD_INPUT and address.path.suffix.lower() not in COMPRESSED
    if not plain or options.encoding is not None or address.path.stat().st_size <= large_file():
        return CsvSource(address, options)
    with address.path.open("rb") as file:
        sample = file.read(_SAMPLE)
    sample = sample[: sample.rfind(b"\n") + 1]
    if not sample:
        raise BrokenFile(f"{address} has no line end in its first {_SAMPLE:,} bytes: it is no text file of rows.")
    try:
        sample.decode("utf-8")
    except UnicodeDecodeError:
        return CsvSource(address, options)
    return CsvBlocks(address, options, sample) if sample else CsvSource(address, options)


class CsvBlocks:
    """A large CSV file. `batches` raises Irregular as soon as a block is not regular; `read` copes with it."""

    def __init__(self, address: Address, options: ReadOptions, sample: bytes) -> None:
        self._first = CsvSource(address, options, sample)
        self._path, self._options, self._place = address.path, options, address
        self._mark = len(_BOM) if sample.startswith(_BOM) else 0
        self.address = self._first.address
        self.sheet: str | None = None
        self.above = 0
        self.notes: tuple[str, ...] = ()
        self.rows_expected = address.path.stat().st_size * sample.count(b"\n") // len(sample)

    def sheets(self) -> tuple[tuple[str, int, int], ...]:
        """None: a text file is one table."""
        return ()

    def head(self, rows: int) -> list[list[str]]:
        """The first rows, blank lines included."""
        return self._first.head(rows)

    def read(self, header_row: int) -> Incoming:
        """All rows below the header."""
        return CsvSource(self._place, self._options).read(header_row)

    def sample(self, header_row: int) -> Incoming:
        """The first rows. Raises Irregular."""
        return next(self.batches(header_row))

    def batches(self, header_row: int) -> Iterator[Incoming]:
        """The rows below the header, some at a time. Raises Irregular."""
        start, header = self._first.header(header_row)
        number = header_row + 2
        for block in self._blocks(start + self._mark):
            arrays = regular(memoryview(block), len(header), self._first.delimiter, self._first.quote)
            numbers = np.arange(number, number + len(arrays[0]), dtype=np.int64)
            number += len(arrays[0])
            columns = columns_under(header, [(array,) for array in arrays])
            yield as_incoming(
                columns, numbers, all_columns=True, address=self.address, header_row=header_row + 1, sheet=None
            )

    def _blocks(self, start: int) -> Iterator[bytes]:
        """The file from `start`, cut where a record ends: at a line end that stands outside quotes."""
        quote = self._first.quote.encode()
        with self._path.open("rb") as file:
            file.seek(start)
            rest = b""
            while piece := file.read(_BLOCK):
                block = rest + piece
                cut = block.rfind(b"\n")
                while cut >= 0 and block.count(quote, 0, cut) % 2:
                    cut = block.rfind(b"\n", 0, cut)
                rest = block[cut + 1 :]
                if len(rest) > longest_line():
                    raise BrokenFile(
                        f"{self.address} has a line of more than {longest_line():,} bytes. Is a quote never closed? "
                        "If the line is as long as that, let TIDYMERGE_LONGEST_LINE say more."
                    )
                if cut >= 0:
                    yield block[: cut + 1]
            if rest:
                yield rest

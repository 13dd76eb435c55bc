"""The rows of a result as columns, straight from the wire.

In the text protocol a row is a packet (three bytes of length, a number, the payload), and the payload holds for
each column its text after its length: one byte below 0xFB, 0xFB for null, more bytes for longer texts. See
https://mariadb.com/kb/en/resultset-row/. Only the packets' boundaries are found one by one; the rest goes
column by column over all rows.
"""

from collections.abc import Iterator
from struct import Struct

import numpy as np
import pyarrow as pa

from tidymerge.model import Indices

_HEADER = 4
_LARGEST = 0xFFFFFF  # a payload of this length goes on in the next packet
_NULL, _TWO, _THREE, _EIGHT = 0xFB, 0xFC, 0xFD, 0xFE
_END, _ERROR = 0xFE, 0xFF
_head = Struct("<I").unpack_from  # the length, and above it the number
_END_SIZE = 9  # a payload that starts with 0xFE and is shorter ends the rows


class Rows:
    """Row packets as they arrive: fed with bytes, it finds the whole rows, until the packet that ends them.

    `size` counts the bytes of whole rows at hand; `last` is the payload that ended the rows (an end or an
    error), once it has arrived.
    """

    def __init__(self) -> None:
        self._data = bytearray()
        self._starts: list[int] = []
        self.size = 0
        self.last: bytes | None = None

    def feed(self, piece: bytes) -> None:
        """Take the next bytes of the result. Raises OverflowError for a row of more than one packet."""
        self._data += piece
        data, at, end, starts = self._data, self.size, len(self._data), self._starts
        start = at + _HEADER
        while start <= end:
            size = _head(data, at)[0] & _LARGEST
            if start + size > end:
                break
            if size and data[start] >= _END and (data[start] == _ERROR or size < _END_SIZE):
                self.last = bytes(data[start : start + size])
                break
            if size == _LARGEST:
                raise OverflowError
            starts.append(start)
            at = start + size
            start = at + _HEADER
        self.size = at

    def taken(self) -> tuple[np.ndarray, Indices]:
        """The bytes of the whole rows at hand, and where in them the payload of each starts; they are then gone."""
        data, starts = bytes(self._data[: self.size]), np.array(self._starts, np.int64)
        del self._data[: self.size]
        self._starts, self.size = [], 0
        return np.frombuffer(data, np.uint8), starts


def columns_of(data: np.ndarray, starts: Indices, count: int) -> Iterator[pa.Array]:
    """The columns of the rows whose payloads start at `starts`, as bytes."""
    at, rows, buffer = starts, len(starts), pa.py_buffer(data)
    every_other = np.arange(0, 2 * rows, 2)
    for _ in range(count):
        lengths, headers, null = _lengths(data, at)
        # An array of the texts and of what lies between them, of which Arrow takes the texts.
        offsets = np.empty(2 * rows, np.int32)
        offsets[0::2] = begins = at + headers
        offsets[1::2] = at = begins + lengths
        both = pa.Array.from_buffers(pa.binary(), max(2 * rows - 1, 0), [None, pa.py_buffer(offsets), buffer])
        yield both.take(pa.array(every_other, mask=null if null.any() else None))


def _lengths(data: np.ndarray, at: Indices) -> tuple[Indices, Indices, np.ndarray]:
    """The length of each text at `at`, how many bytes say so, and where it is null."""
    first = data[at]
    lengths, headers, null = first.astype(np.int64), np.ones(len(at), np.int64), first == _NULL
    lengths[null] = 0
    for mark, size in ((_TWO, 2), (_THREE, 3), (_EIGHT, 8)):
        rows = np.flatnonzero(first == mark)
        if len(rows):
            lengths[rows] = sum(data[at[rows] + 1 + index].astype(np.int64) << 8 * index for index in range(size))
            headers[rows] = 1 + size
    return lengths, headers, null

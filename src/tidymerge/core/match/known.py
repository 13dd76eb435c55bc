"""What rows say, as short codes, by which rows are known again that were loaded before."""

import hashlib
from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.match.match import ordinals
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.tidy.convert import as_text, tidy_arrays
from tidymerge.model import Incoming, IncomingColumn, Mask

CODE = pa.binary(16)
_BYTES = 16


class Known(Struct, frozen=True):
    """The rows that were loaded before, by their code, and how often each was; `why` says so of a row.

    `columns` are the incoming columns whose cells count.
    """

    codes: pa.Array
    times: np.ndarray
    why: str
    columns: tuple[str, ...] = ()

    @classmethod
    def of(cls, runs: Sequence[pa.Array], why: str) -> "Known":
        """The rows of some runs."""
        counted = pc.value_counts(pa.concat_arrays([pa.array([], CODE), *runs]))
        return cls(counted.field("values"), counted.field("counts").to_numpy(), why)

    def among(self, incoming: Incoming, skipped: Mask) -> Mask:
        """The rows that were loaded before. Of rows that say the same, as many as were: the first ones."""
        rows = len(incoming.row_numbers)
        if not len(self.codes) or not rows:
            return np.zeros(rows, bool)
        codes = row_codes(incoming, self.columns)
        same = codes.dictionary_encode().indices.to_numpy(zero_copy_only=False).astype(np.int64)
        at = pc.index_in(codes, self.codes).fill_null(-1).to_numpy(zero_copy_only=False)
        before = np.append(self.times, 0)[at]
        known: Mask = ~skipped & (ordinals(np.where(skipped, -1, same)) < before)
        return known


def row_codes(incoming: Incoming, columns: Sequence[str]) -> pa.Array:
    """A code of 128 bits for each row: the same where the columns, by name, have the same cells, tidied.

    Each cell has a hash (BLAKE2b, RFC 7693) of its column and text; the code is their sum, so that the order of columns
    makes no difference.
    """
    total = np.zeros((len(incoming.row_numbers), 2), np.uint64)
    for name in columns:
        parts = tuple(tidy_arrays(incoming.column(name).arrays))
        if not parts:
            continue
        coded = as_array(as_text(IncomingColumn("", parts))).dictionary_encode()
        salt = hashlib.blake2b(name.encode(), digest_size=_BYTES).digest()
        hashes = b"".join(
            hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=_BYTES, key=salt).digest()
            for text in coded.dictionary.to_pylist()
        )
        both = np.vstack([np.frombuffer(hashes, np.uint64).reshape(-1, 2), np.zeros((1, 2), np.uint64)])
        total += both[coded.indices.fill_null(-1).to_numpy(zero_copy_only=False)]
    return pa.FixedSizeBinaryArray.from_buffers(CODE, len(total), [None, pa.py_buffer(np.ascontiguousarray(total))])

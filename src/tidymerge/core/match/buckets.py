"""Dividing rows by key: equal keys land in one bucket, on every machine, whatever database they are for."""

import zlib

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import as_array

BUCKETS = 64
_MULTIPLIER = np.uint64(0x9E3779B97F4A7C15)  # 2^64 over the golden ratio: spreads neighbours (Knuth, volume 3, 6.4)


def buckets_of(keys: pa.Table) -> npt.NDArray[np.uint8]:
    """The bucket of each row of key values. Letter case (ASCII) and spaces at the end make no difference."""
    mixed = np.zeros(keys.num_rows, np.uint64)
    for name in keys.column_names:
        mixed = (mixed ^ _hashed(as_array(keys[name]))) * _MULTIPLIER
    bucket: npt.NDArray[np.uint8] = (mixed >> np.uint64(58)).astype(np.uint8)
    return bucket


def _hashed(values: pa.Array) -> npt.NDArray[np.uint64]:
    """A number for each value; 0 for null."""
    if pa.types.is_int64(values.type):
        numbers: npt.NDArray[np.uint64] = values.fill_null(0).to_numpy(zero_copy_only=False).astype(np.uint64)
        return numbers
    coded = spelled(values).dictionary_encode()
    folded = pc.ascii_rtrim(pc.ascii_lower(coded.dictionary), " ")
    hashes = np.array([zlib.crc32(text.encode()) for text in folded.to_pylist()] + [0], np.uint64)
    found: npt.NDArray[np.uint64] = hashes[coded.indices.fill_null(len(folded)).to_numpy(zero_copy_only=False)]
    return found


def spelled(values: pa.Array) -> pa.Array:
    """One spelling for each value: decimals and seconds without trailing zeros, all else as Arrow writes it."""
    if pa.types.is_binary(values.type):
        return pa.array([None if value is None else value.hex() for value in values.to_pylist()], pa.string())
    texts = pc.cast(values, pa.string())
    if (pa.types.is_decimal(values.type) and values.type.scale > 0) or pa.types.is_time(values.type):
        texts = pc.ascii_rtrim(pc.ascii_rtrim(texts, "0"), ".")
    return texts

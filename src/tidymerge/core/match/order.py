"""The order in which new records are written: parents before their children, equal statements together."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.match.match import KeyCodes, code_rows, match
from tidymerge.model import ForeignKey, Indices, Mask, TableShape

_DEEPEST = 1000  # generations; a longer chain is a circle, which no order helps


def generations(values: pa.Table, shape: TableShape) -> Indices:
    """For each new record how many of the others come before it: 0 if its parent is not among them."""
    found = np.zeros(values.num_rows, np.int64)
    for key in shape.foreign_keys:
        if key.table != shape.name or not {*key.columns, *key.referred} <= set(values.column_names):
            continue
        parent = _parents(values, key.columns, key.referred)
        for _ in range(_DEEPEST):
            later = np.maximum(found, np.where(parent >= 0, found[parent] + 1, 0))
            if (later == found).all():
                break
            found = later
    return found


def _parents(values: pa.Table, columns: tuple[str, ...], referred: tuple[str, ...], *, itself: bool = False) -> Indices:
    """For each record the one among them that it refers to, or -1; that may be `itself`, if this counts."""
    pairs = [(values[here], values[there]) for here, there in zip(columns, referred, strict=True)]
    parent = _matched(pairs, values.num_rows)
    if (parent < 0).any():  # a database may take other spellings for equal; which ones, it alone knows
        loose = _matched([(_loosely(here), _loosely(there)) for here, there in pairs], values.num_rows)
        parent = np.where(parent < 0, loose, parent)
    if not itself:
        parent[parent == np.arange(values.num_rows)] = -1
    return parent


def _matched(pairs: Sequence[tuple[pa.ChunkedArray, pa.ChunkedArray]], rows: int) -> Indices:
    codes, size = code_rows([pa.chunked_array([*here.chunks, *there.chunks]) for here, there in pairs])
    return match(KeyCodes(codes[:rows], codes[rows:], size)).record


def _loosely(values: pa.ChunkedArray) -> pa.ChunkedArray:
    """Texts without letter case, accents and spaces at their ends: it is only for the order of writing."""
    if not pa.types.is_string(values.type):
        return values
    bare = pc.replace_substring_regex(pc.utf8_normalize(values, "NFKD"), r"\p{Mn}+", "")
    return pc.utf8_rtrim_whitespace(pc.utf8_lower(bare))


def is_circle(values: pa.Table, key: ForeignKey, *, or_itself: bool = False) -> Mask:
    """Which records are their own ancestors, or have such ones, by a key that refers to their own table.

    With `or_itself` also those that are their own parents.
    """
    parent = _parents(values, key.columns, key.referred, itself=or_itself)
    for _ in range(max(len(parent).bit_length(), 1)):  # twice as many generations up each time
        parent = np.where(parent >= 0, parent[parent], -1)
    circle: Mask = parent >= 0
    return circle

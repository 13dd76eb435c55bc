"""Turning an array of cells into a typed array, with the cells that can't be turned pointed out."""

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.model import Indices, Mask, Reason


class BadCells(Struct, frozen=True):
    """Rows whose cell can't be turned into the type, why, and what was expected."""

    rows: Indices
    reason: Reason
    expected: str


def bad_cells(rows: Indices, reason: Reason, expected: str) -> tuple[BadCells, ...]:
    """The rows at fault, if there are any."""
    return (BadCells(rows, reason, expected),) if len(rows) else ()


class Cast(Struct, frozen=True):
    """`values` has the target's Arrow type and is null where the cell was blank or bad."""

    values: pa.Array
    bad: tuple[BadCells, ...] = ()
    rounded: int = 0


class Wrong(Struct, frozen=True):
    """The verdict on one text: it is not a value of the type."""

    reason: Reason
    expected: str


class TextRule(Struct, frozen=True):
    """How text becomes a value of one type.

    `plain` is an RE2 pattern for texts that Arrow's own cast reads exactly as we do; `alphabet`
    holds the only bytes they can have, so that a column of nothing else skips the pattern, if none of
    its texts has more bytes than `longest` (Arrow's decimals wrap around without an error);
    `one` reads any other text by itself, and is asked once a distinct text.
    """

    arrow: pa.DataType
    one: Callable[[str], Any]
    plain: str | None = None
    alphabet: bytes = b""
    longest: int = 2**31


def cast_text(cells: pa.Array, rule: TextRule) -> Cast:
    """Cast an array of strings. Regular columns cost one pass of Arrow; only odd texts are read singly."""
    if rule.plain is None:
        return _cast_singly(cells, rule, np.flatnonzero(valid(cells)))
    if only_bytes(cells, rule.alphabet) and longest_text(cells) <= rule.longest:
        try:
            return Cast(pc.cast(cells, rule.arrow))
        except pa.ArrowInvalid:
            pass
    plain = mask_of(pc.match_substring_regex(cells, f"^(?:{rule.plain})$"))
    try:
        values = pc.cast(keep(cells, plain), rule.arrow)
    except pa.ArrowInvalid:  # such as 2026-02-30: regular to look at, but no such day
        values, plain = pa.nulls(len(cells), rule.arrow), np.zeros(len(cells), bool)
    odd = _cast_singly(cells, rule, np.flatnonzero(valid(cells) & ~plain))
    return Cast(pc.coalesce(values, odd.values), odd.bad)


def _cast_singly(cells: pa.Array, rule: TextRule, rows: Indices) -> Cast:
    """Read the texts in `rows` with `rule.one`, once for each distinct text."""
    coded = cells.take(pa.array(rows)).dictionary_encode()
    read = [rule.one(text) for text in coded.dictionary.to_pylist()]
    wrong = {code: verdict for code, verdict in enumerate(read) if isinstance(verdict, Wrong)}
    distinct = pa.array([None if code in wrong else value for code, value in enumerate(read)], rule.arrow)
    codes = coded.indices.to_numpy(zero_copy_only=False).astype(np.int64)
    by_verdict: dict[Wrong, list[int]] = {}
    for code, verdict in wrong.items():
        by_verdict.setdefault(verdict, []).append(code)
    bad = tuple(
        BadCells(rows[np.isin(codes, members)], verdict.reason, verdict.expected)
        for verdict, members in by_verdict.items()
    )
    return Cast(spread(distinct.take(coded.indices), rows, len(cells)), bad)


def spread(values: pa.Array, rows: Indices, length: int) -> pa.Array:
    """An array of `length` with `values` at `rows` and null elsewhere."""
    if len(rows) == length:
        return values
    where = np.full(length, -1, np.int64)
    where[rows] = np.arange(len(rows))
    return values.take(pa.array(where, mask=where < 0))


def keep(cells: pa.Array, mask: Mask) -> pa.Array:
    """The cells where `mask` holds, null elsewhere."""
    return pc.if_else(pa.array(mask), cells, pa.scalar(None, cells.type))


def without(cast: Cast, fits: pa.Array, reason: Reason, expected: str) -> Cast:
    """The cast with the values that don't fit as bad cells."""
    over = valid(cast.values) & ~mask_of(fits)
    if not over.any():
        return cast
    return Cast(keep(cast.values, ~over), (*cast.bad, *bad_cells(np.flatnonzero(over), reason, expected)), cast.rounded)


def shown(values: pa.Array) -> pa.Array:
    """Typed values as people read them: bytes as hexadecimal digits."""
    if pa.types.is_binary(values.type):
        return pa.array([None if value is None else value.hex() for value in values.to_pylist()], pa.string())
    texts = pc.cast(values, pa.string())
    return pc.replace_substring_regex(texts, r"\.?0+$", "") if pa.types.is_time(values.type) else texts


def valid(cells: pa.Array) -> Mask:
    """Where `cells` holds a value."""
    if cells.null_count == 0:
        return np.ones(len(cells), bool)
    return mask_of(cells.is_valid())


def mask_of(booleans: pa.Array) -> Mask:
    """A NumPy mask of an Arrow boolean array; null counts as false."""
    if booleans.null_count:
        booleans = booleans.fill_null(False)
    mask: Mask = booleans.to_numpy(zero_copy_only=False)
    return mask


def text_bytes(cells: pa.Array) -> np.ndarray:
    """The bytes of all texts of a string array, back to back, without a copy."""
    buffers = cells.buffers()
    if len(cells) == 0 or buffers[2] is None:
        return np.zeros(0, np.uint8)
    offsets = text_offsets(cells)
    return np.frombuffer(buffers[2], np.uint8)[offsets[0] : offsets[-1]]


def text_offsets(cells: pa.Array) -> np.ndarray:
    """Where each text of a string array starts in its buffer, and where the last one ends."""
    return np.frombuffer(cells.buffers()[1], np.int32, count=len(cells) + 1, offset=4 * cells.offset)


def longest_text(cells: pa.Array) -> int:
    """How many bytes the longest text of a string array has."""
    return int(np.diff(text_offsets(cells)).max()) if len(cells) else 0


def only_bytes(cells: pa.Array, alphabet: bytes) -> bool:
    """Whether the texts are made of the bytes of `alphabet` alone."""
    allowed = np.zeros(256, bool)
    allowed[list(alphabet)] = True
    return bool(allowed[text_bytes(cells)].all())


def as_array(column: pa.ChunkedArray | pa.Array) -> pa.Array:
    """One contiguous array of a column. Arrow would copy one that is contiguous already."""
    if not isinstance(column, pa.ChunkedArray):
        return column
    return column.chunk(0) if column.num_chunks == 1 else column.combine_chunks()


def by_distinct(texts: pa.Array, work: Callable[[str], object], kind: pa.DataType) -> pa.Array:
    """`work` for each distinct text, spread over the rows that have it."""
    coded = texts.dictionary_encode()
    return pa.array([work(text) for text in coded.dictionary.to_pylist()], kind).take(coded.indices)


def any_of(masks: Iterable[Mask], length: int) -> Mask:
    """Where any of some masks is true."""
    found: Mask = np.logical_or.reduce([np.zeros(length, bool), *masks])
    return found


def differs(one: pa.Array, other: pa.Array) -> Mask:
    """Where two arrays of one type differ, null being equal to null alone."""
    same = mask_of(pc.equal(one, other))
    return ~(same | (~valid(one) & ~valid(other)))


def mask_at(rows: Indices, length: int) -> Mask:
    """A mask of that length, true at some rows."""
    mask = np.zeros(length, bool)
    mask[rows] = True
    return mask

"""Finding the record that each incoming row means.

Every key column of both sides becomes one run of integer codes, equal where the target says the
values are equal; the codes of a composite key are folded into one. Then a match is an array look-up.
"""

from collections.abc import Callable, Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.model import EqualTexts, Fold, Indices, TargetColumn
from tidymerge.model.changes import Matches


class KeyCodes(Struct, frozen=True):
    """One code a row, equal for equal keys, -1 where a key column is blank. Codes are below `size`."""

    incoming: Indices
    existing: Indices
    size: int


# For each of a column's distinct texts a number, equal for those that are equal to the database.
Equal = Callable[[TargetColumn, pa.Array], pa.Array]


def folded_alike(column: TargetColumn, texts: pa.Array) -> pa.Array:
    """The numbers where nothing but the texts themselves counts."""
    return fold_text(texts, column.fold).dictionary_encode().indices


def by_number(equal: Mapping[str, EqualTexts]) -> Equal:
    """The numbers where a database was asked before."""
    return lambda column, texts: equal[column.name].numbers_of(texts)


def texts_to_tell(tables: Sequence[pa.Table], key: Sequence[TargetColumn]) -> dict[str, pa.Array]:
    """By column the distinct texts in some tables of which only the database knows which are equal."""
    found = {}
    for column in key:
        if column.fold is Fold.DATABASE:
            texts = pa.concat_arrays([as_array(table[column.name]) for table in tables])
            if pa.types.is_string(texts.type):
                found[column.name] = texts.dictionary_encode().dictionary
    return found


def code_keys(
    incoming: pa.Table, existing: pa.Table, key: Sequence[TargetColumn], equal: Equal = folded_alike
) -> KeyCodes:
    """Code the keys of both tables together, in the order of the columns in `key`.

    `equal` is asked about columns whose equality only the database knows.
    """
    both = [
        _comparable(as_array(incoming[column.name]), as_array(existing[column.name]), column, equal) for column in key
    ]
    codes, size = code_rows([pa.chunked_array(list(pair)) for pair in both])
    return KeyCodes(codes[: incoming.num_rows], codes[incoming.num_rows :], size)


def _comparable(one: pa.Array, other: pa.Array, column: TargetColumn, equal: Equal) -> tuple[pa.Array, pa.Array]:
    """Both sides in a form in which equal means equal to the database."""
    if column.fold is not Fold.DATABASE or not pa.types.is_string(one.type):
        return fold_text(one, column.fold), fold_text(other, column.fold)
    coded = pa.concat_arrays([one, other]).dictionary_encode()
    codes = pc.cast(equal(column, coded.dictionary), pa.int64()).take(coded.indices)
    return codes[: len(one)], codes[len(one) :]


def fold_text(values: pa.Array, fold: Fold) -> pa.Array:
    """Values as the target compares them; only text is folded."""
    if not pa.types.is_string(values.type) or fold in (Fold.NOTHING, Fold.DATABASE):
        return values
    return pc.ascii_lower(values) if fold is Fold.ASCII_CASE else pc.ascii_rtrim(values, " ")


def code_rows(columns: Sequence[pa.ChunkedArray]) -> tuple[Indices, int]:
    """One integer code a row over several columns: equal rows, equal codes; -1 where any is null."""
    length = len(columns[0])
    room = 4 * length + 1_000_000  # how large a code may grow before it is made dense again
    codes, size = np.zeros(length, np.int64), 1
    blank = np.zeros(length, bool)
    for column in columns:
        part, part_size = _code_column(column, room)
        blank |= part < 0
        if size * part_size > 2**62:
            codes, size = _dense(codes)
        codes = codes * part_size + part
        size *= part_size
    if size > room:
        codes, size = _dense(codes)
    codes[blank] = -1
    return codes, size


def _code_column(column: pa.ChunkedArray, room: int) -> tuple[Indices, int]:
    """Codes from 0 for one column, -1 where null. Integers in a narrow range are their own codes."""
    if pa.types.is_int64(column.type) and column.null_count < len(column):
        bounds = pc.min_max(column)
        low, high = bounds["min"].as_py(), bounds["max"].as_py()
        if high - low < room:
            numbers = as_array(column)
            codes: Indices = np.where(valid(numbers), numbers.fill_null(low).to_numpy(zero_copy_only=False) - low, -1)
            return codes, high - low + 1
    coded = as_array(column).dictionary_encode()
    codes = coded.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
    return codes, max(len(coded.dictionary), 1)


def _dense(codes: Indices) -> tuple[Indices, int]:
    coded = pa.array(codes).dictionary_encode()
    return coded.indices.to_numpy(zero_copy_only=False).astype(np.int64), max(len(coded.dictionary), 1)


def match(codes: KeyCodes) -> Matches:
    """For each incoming row the record of the same key, and how many records have it."""
    known = codes.existing >= 0
    slots = np.full(codes.size, -1, np.int64)
    slots[codes.existing[known]] = np.flatnonzero(known)
    counts = np.bincount(codes.existing[known], minlength=codes.size)
    keyed = codes.incoming >= 0
    record = np.where(keyed, slots[codes.incoming], -1)
    times = np.where(keyed, counts[codes.incoming], 0)
    return Matches(record, times)


def match_contents(some: pa.Table, all_records: pa.Table) -> Matches:
    """For each row of exact texts a record that holds the same, where each record is taken once.

    Records without a key are found so: equal ones are as good as each other. A null equals a null.
    """
    marked = [
        pa.chunked_array([_null_marked(as_array(table[name])) for table in (some, all_records)])
        for name in some.column_names
    ]
    codes, _ = code_rows(marked)
    both = codes[: some.num_rows], codes[some.num_rows :]
    # A code, and how many of it come after on that side: of equal records, the last ones are taken.
    turns = [ordinals(side[::-1])[::-1] for side in both]
    most = max(int(turn.max(initial=0)) for turn in turns) + 1
    taken = np.concatenate([side * most + turn for side, turn in zip(both, turns, strict=True)])
    paired, size = code_rows([pa.chunked_array([pa.array(taken)])])
    return match(KeyCodes(paired[: some.num_rows], paired[some.num_rows :], size))


def _null_marked(texts: pa.Array) -> pa.Array:
    """Texts, of which a null is told apart from every text, and from nothing else."""
    return pc.coalesce(pc.binary_join_element_wise("=", texts, ""), pa.scalar(""))


def all_matches(codes: KeyCodes, rows: Indices) -> tuple[Indices, Indices]:
    """Every pair of one of `rows` and a record of its key: the rows, repeated, and the records."""
    order = np.argsort(codes.existing, kind="stable")
    ordered = codes.existing[order]
    first = np.searchsorted(ordered, codes.incoming[rows], "left")
    counts = np.searchsorted(ordered, codes.incoming[rows], "right") - first
    within = np.arange(int(counts.sum())) - np.repeat(np.cumsum(counts) - counts, counts)
    return np.repeat(rows, counts), order[np.repeat(first, counts) + within]


def repeats(codes: Indices, size: int) -> Indices:
    """The rows whose code stands on more than one row, ordered by code, then by row.

    row     0  1  2  3  4
    code    7  3  7 -1  3      -1: a blank key, which repeats nothing
    repeats 1  4  0  2         code 3 on rows 1 and 4, code 7 on rows 0 and 2
    """
    keyed = codes >= 0
    counts = np.bincount(codes[keyed], minlength=size)
    rows = np.flatnonzero(keyed & (counts[codes] > 1))
    return rows[np.argsort(codes[rows], kind="stable")]


def ordinals(codes: Indices) -> Indices:
    """For each row how many rows of the same code stand before it; 0 where the code is -1."""
    order = np.argsort(codes, kind="stable")
    ordered = codes[order]
    starts = np.flatnonzero(np.r_[True, ordered[1:] != ordered[:-1]]) if len(codes) else np.zeros(0, np.int64)
    within = np.arange(len(codes)) - np.repeat(starts, np.diff(np.r_[starts, len(codes)]))
    found = np.zeros(len(codes), np.int64)
    found[order] = np.where(ordered >= 0, within, 0)
    return found


def present(table: pa.Table) -> np.ndarray:
    """Where every column of the table holds a value."""
    mask = np.ones(table.num_rows, bool)
    for name in table.column_names:
        mask &= valid(as_array(table[name]))
    return mask

"""Deciding, for every incoming row, what becomes of it; nothing that is not decided here is written."""

from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import as_array, mask_of, valid
from tidymerge.core.convert import Converted
from tidymerge.core.match import KeyCodes, code_rows, repeats
from tidymerge.model import ChangeSet, Existing, Flaw, Indices, Mask, Matches, Outcome, Pairing, Reason, TableShape


def decide(
    converted: Converted,
    existing: Existing,
    codes: KeyCodes,
    matches: Matches,
    pairing: Pairing,
    shape: TableShape,
) -> ChangeSet:
    """Give every incoming row its outcome and every touched record its values.

    A blank is "nothing said": it never changes a value. Source: section 6 of the design.
    """
    rows = converted.values.num_rows
    flaws = [*blank_keys(converted, pairing), *converted.flaws]
    repeated, spare = same_key_twice(converted.values, codes, pairing, marked(flaws, rows))
    flaws += [*repeated, *several_records(converted.values, matches, pairing)]
    live = ~marked(flaws, rows)
    live[spare] = False
    fresh = live & (matches.times == 0)
    flaws += missing_values(converted.values, fresh, pairing, shape)
    fresh &= ~marked(flaws, rows)

    outcomes = np.full(rows, Outcome.UNCHANGED, np.uint8)
    outcomes[marked(flaws, rows)] = Outcome.REJECTED
    outcomes[spare] = Outcome.SKIPPED
    outcomes[fresh] = Outcome.INSERTED
    known = np.flatnonzero(live & (matches.times == 1))
    changed = compare(converted.values, known, existing.values, matches.record[known], pairing)
    touched = np.logical_or.reduce(list(changed.values())) if changed else np.zeros(len(known), bool)
    outcomes[known[touched]] = Outcome.UPDATED
    updated = known[touched]
    return _change_set(
        converted.values,
        existing.values,
        outcomes,
        tuple(flaws),
        pairing,
        updated,
        matches.record[updated],
        {name: mask[touched] for name, mask in changed.items()},
    )


def marked(flaws: Sequence[Flaw], rows: int) -> Mask:
    """Which of `rows` rows have a flaw."""
    mask = np.zeros(rows, bool)
    for flaw in flaws:
        mask[flaw.rows] = True
    return mask


def blank_keys(converted: Converted, pairing: Pairing) -> list[Flaw]:
    """Rows with a blank in a key column; a key cell that holds something wrong has its own flaw."""
    found = []
    for pair in pairing.pairs:
        if pair.target.name in pairing.key:
            blank = ~valid(as_array(converted.values[pair.target.name]))
            for flaw in converted.flaws:
                if flaw.column in (None, pair.incoming):
                    blank[flaw.rows] = False
            if blank.any():
                found.append(
                    Flaw(Reason.BLANK_KEY, np.flatnonzero(blank), "a value in every key column", pair.incoming)
                )
    return found


def same_key_twice(values: pa.Table, codes: KeyCodes, pairing: Pairing, flawed: Mask) -> tuple[list[Flaw], Indices]:
    """Rows that share a key: equal rows count once (the rest are returned as spare), others are all flawed."""
    rows = repeats(codes.incoming, codes.size)
    if not len(rows):
        return [], rows
    contents = _contents(values.take(pa.array(rows)).drop_columns(list(pairing.key)))
    contents[flawed[rows]] = -1 - np.flatnonzero(flawed[rows])  # a flawed row equals no other
    keys = codes.incoming[rows]
    starts = np.flatnonzero(np.r_[True, keys[1:] != keys[:-1]])
    sizes = np.diff(np.r_[starts, len(rows)])
    alike = np.minimum.reduceat(contents, starts) == np.maximum.reduceat(contents, starts)
    first = np.zeros(len(rows), bool)
    first[starts] = True
    all_alike = np.repeat(alike, sizes)
    differing = np.sort(rows[~all_alike])
    flaws = []
    if len(differing):
        wanted = "one row for each key, or rows that say the same"
        shown = key_text(values.take(pa.array(differing)), pairing.key)
        flaws = [Flaw(Reason.SAME_KEY_TWICE, differing, wanted, key_name(pairing), shown)]
    return flaws, rows[all_alike & ~first]


def _contents(table: pa.Table) -> Indices:
    """One code a row for its whole contents, where a blank equals a blank."""
    if not table.num_columns:
        return np.zeros(table.num_rows, np.int64)
    columns = []
    for name in table.column_names:
        column = as_array(table[name])
        coded = column.dictionary_encode(null_encoding="encode").indices if column.null_count else column
        columns.append(pa.chunked_array([coded]))
    return code_rows(columns)[0]


def several_records(values: pa.Table, matches: Matches, pairing: Pairing) -> list[Flaw]:
    """Rows whose key several records have: which one is meant can't be known."""
    flaws = []
    for times in np.unique(matches.times[matches.times > 1]):
        rows = np.flatnonzero(matches.times == times)
        shown = key_text(values.take(pa.array(rows)), pairing.key)
        wanted = f"one record with this key; the target has {times}"
        flaws.append(Flaw(Reason.SEVERAL_RECORDS, rows, wanted, key_name(pairing), shown))
    return flaws


def missing_values(values: pa.Table, fresh: Mask, pairing: Pairing, shape: TableShape) -> list[Flaw]:
    """New records without a value that the target demands (not null, and no default)."""
    sources = {pair.target.name: pair.incoming for pair in pairing.pairs}
    flaws = []
    for column in shape.columns:
        if column.nullable or column.has_default or column.generated or not fresh.any():
            continue
        if column.name in sources:
            rows = np.flatnonzero(fresh & ~valid(as_array(values[column.name])))
            wanted = f"a value: {column.name} may not be empty in a new record"
        else:
            rows = np.flatnonzero(fresh)
            wanted = f"a value for {column.name}: a new record needs one, and no incoming column feeds it"
        if len(rows):
            flaws.append(Flaw(Reason.BLANK_NOT_ALLOWED, rows, wanted, sources.get(column.name)))
    return flaws


def compare(values: pa.Table, rows: Indices, existing: pa.Table, records: Indices, pairing: Pairing) -> dict[str, Mask]:
    """For each loaded column that is no key: which of `rows` differ from their record. Blanks say nothing."""
    everything = len(rows) == values.num_rows
    take, at = pa.array(rows), pa.array(records)
    changed = {}
    for column in pairing.columns:
        if column.name not in pairing.key:
            new = as_array(values[column.name])
            new = new if everything else new.take(take)
            changed[column.name] = differs(new, as_array(existing[column.name]).take(at)) & valid(new)
    return changed


def differs(one: pa.Array, other: pa.Array) -> Mask:
    """Where two arrays of one type differ, null being equal to null alone."""
    same = mask_of(pc.equal(one, other))
    return ~(same | (~valid(one) & ~valid(other)))


def _change_set(
    values: pa.Table,
    existing: pa.Table,
    outcomes: np.ndarray,
    flaws: tuple[Flaw, ...],
    pairing: Pairing,
    updated: Indices,
    records: Indices,
    changed: Mapping[str, Mask],
) -> ChangeSet:
    shapes = _shapes(changed, len(updated))
    order = np.lexsort((records, shapes))
    updated, records, shapes = updated[order], records[order], shapes[order]
    changed = {name: mask[order] for name, mask in changed.items()}
    inserted = np.flatnonzero(outcomes == Outcome.INSERTED)
    before = existing.select(values.column_names).take(pa.array(records))
    new, fresh = values.take(pa.array(updated)), values.take(pa.array(inserted))
    after = {}
    for name in values.column_names:
        old = as_array(before[name])
        kept = pc.if_else(pa.array(changed[name]), as_array(new[name]), old) if name in changed else old
        after[name] = pa.concat_arrays([kept, as_array(fresh[name])])
    return ChangeSet(
        outcomes, flaws, pairing.key, np.r_[updated, inserted], records, pa.table(after), before, changed, shapes
    )


def _shapes(changed: Mapping[str, Mask], length: int) -> Indices:
    """One number for each set of changed columns, so that every set can be written by one statement."""
    shapes = np.zeros(length, np.int64)
    for index, mask in enumerate(changed.values(), start=1):
        shapes = shapes * 2 + mask
        if index % 60 == 0:
            shapes = np.unique(shapes, return_inverse=True)[1].astype(np.int64)
    return shapes


def reject(changes: ChangeSet, found: Sequence[Flaw]) -> ChangeSet:
    """The change set without the rows in `found` (indices into the incoming rows), which are rejected."""
    bad = marked(found, len(changes.outcomes))
    outcomes = changes.outcomes.copy()
    outcomes[bad] = Outcome.REJECTED
    stays = ~bad[changes.incoming]
    updates = stays[: changes.updates]
    return ChangeSet(
        outcomes,
        (*changes.flaws, *found),
        changes.key,
        changes.incoming[stays],
        changes.existing[updates],
        changes.after.filter(pa.array(stays)),
        changes.before.filter(pa.array(updates)),
        {name: mask[updates] for name, mask in changes.changed.items()},
        changes.shapes[updates],
    )


def key_text(values: pa.Table, key: Sequence[str]) -> pa.Array:
    """The keys of the rows for people: 'L01 / 7'."""
    parts = [pc.cast(as_array(values[name]), pa.string()).fill_null("") for name in key]
    return parts[0] if len(parts) == 1 else pc.binary_join_element_wise(*parts, " / ")


def key_name(pairing: Pairing) -> str:
    """The incoming names of the key columns for people: 'Apiary / Hive no'."""
    sources = {pair.target.name: pair.incoming for pair in pairing.pairs}
    return " / ".join(sources[name] for name in pairing.key)

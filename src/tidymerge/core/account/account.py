"""Accounting: the tally, its proof, the reasons, and the fingerprint of what was decided."""

import hashlib
from collections import Counter
from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.match.buckets import buckets_of, spelled
from tidymerge.core.tidy.cells import as_array, text_bytes, text_offsets, valid
from tidymerge.errors import ProofFailed
from tidymerge.model import NO_ROW, Indices
from tidymerge.model.changes import ChangeSet, Outcome, Tally

FINGERPRINT_LENGTH = 16  # hexadecimal digits shown and compared: 64 bits of SHA-256


def tally(parts: Sequence[ChangeSet]) -> Tally:
    """Count the outcomes of the incoming rows, over all parts of a load."""
    counts = np.zeros(len(Outcome), np.int64)
    for changes in parts:
        counts += np.bincount(changes.outcomes, minlength=len(Outcome))
    return Tally(
        inserted=int(counts[Outcome.INSERTED]),
        updated=int(counts[Outcome.UPDATED]),
        unchanged=int(counts[Outcome.UNCHANGED]),
        skipped=int(counts[Outcome.SKIPPED]),
        rejected=int(counts[Outcome.REJECTED]),
        removed=int(counts[Outcome.REMOVED]),
        absent=sum(len(changes.outcomes) - changes.rows for changes in parts),
    )


def total(tallies: Sequence[Tally]) -> Tally:
    """The counts of several tables."""
    return Tally(**{name: sum(getattr(one, name) for one in tallies) for name in Tally.__struct_fields__})


def joint(marks: Sequence[tuple[str, str]]) -> str:
    """One fingerprint for several tables, of the names and fingerprints of each. The order does not matter."""
    digest = hashlib.sha256()
    for table, mark in sorted(marks):
        _feed_text(digest, [table, mark])
    return digest.hexdigest()[:FINGERPRINT_LENGTH]


def prove_tally(counted: Tally, changes: ChangeSet, rows_read: int) -> None:
    """Check that every row read has one end, and that the change set holds just the rows to write.

    Raises ProofFailed. Source: docs/receipt.md, `rows`.
    """
    _equal("rows read and rows accounted for", rows_read, counted.read)
    # A row may update several records, and several rows one record, if the job says so.
    along = int((changes.outcomes[changes.followers] == Outcome.UPDATED).sum())
    inserted, removed = (int((part.rows != NO_ROW).sum()) for part in (changes.inserts, changes.removals))
    updated = _distinct(changes.updates.rows, len(changes.outcomes)) + along
    _equal("rows decided to update and rows with a record to update", counted.updated, updated)
    _equal("rows decided to insert and records to insert", counted.inserted, inserted)
    _equal("rows decided to remove and records to remove", counted.removed, removed)
    _equal("rejected rows and rows with a reason", counted.rejected, int((first_flaws(changes) >= 0).sum()))


def _distinct(rows: Indices, size: int) -> int:
    """How many of `size` incoming rows are among `rows`."""
    there = np.zeros(size, bool)
    there[rows[rows != NO_ROW]] = True
    return int(there.sum())


def prove_written(parts: Sequence[ChangeSet], rows_before: int, rows_after: int, did: tuple[int, int, int]) -> None:
    """Check, inside the transaction, what the target says it `did` (updated, inserted, removed). Raises ProofFailed."""
    updated, inserted, removed = did
    inserts, removals = sum(len(part.inserts) for part in parts), sum(len(part.removals) for part in parts)
    _equal("records to update and records that the target updated", sum(len(part.updates) for part in parts), updated)
    _equal("records to insert and records that the target inserted", inserts, inserted)
    _equal("records to remove and records that the target removed", removals, removed)
    _equal("rows after and rows before plus inserted minus removed", rows_before + inserts - removals, rows_after)


def _equal(what: str, wanted: int, found: int) -> None:
    if wanted != found:
        raise ProofFailed(
            f"The run does not add up and was rolled back: {what} differ ({wanted:,} and {found:,}). "
            "A trigger or a rule of the target may be changing rows on its own; nothing was written."
        )


def first_flaws(changes: ChangeSet) -> Indices:
    """For each incoming row the index of the flaw found first (the reason it counts under), or -1."""
    first = np.full(len(changes.outcomes), -1, np.int64)
    for index in reversed(range(len(changes.flaws))):
        first[changes.flaws[index].rows] = index
    return first


def reasons(parts: Sequence[ChangeSet]) -> dict[str, int]:
    """How many rows were rejected for each reason, the commonest first; they add up to the rejected."""
    counts: Counter[str] = Counter()
    for changes in parts:
        first = first_flaws(changes)
        for index, count in zip(*np.unique(first[first >= 0], return_counts=True), strict=True):
            counts[changes.flaws[index].reason.value] += int(count)
    return dict(counts.most_common())


def fingerprint(parts: Sequence[ChangeSet]) -> str:
    """A hash of what was decided: keys, columns, values before and after.

    It does not depend on the order of the rows or columns, on the parts that the rows were split into, nor
    on the machine or database: changes are put into buckets by a hash of their keys, and within a bucket
    in the order of their keys; values are written in one spelling.
    """
    buckets: dict[tuple[str, int], bytes] = {}
    for changes in parts:
        buckets |= _bucket_digests(changes)
    digest = hashlib.sha256()
    names = _names(parts[0]) if parts else []
    _feed_text(digest, [*(parts[0].key if parts else ()), "", *names])
    for action, bucket in sorted(buckets):
        _feed_text(digest, [action, str(bucket)])
        digest.update(buckets[action, bucket])
    return digest.hexdigest()[:FINGERPRINT_LENGTH]


def _names(changes: ChangeSet) -> list[str]:
    """The columns that enter the fingerprint, in order."""
    return sorted(set(changes.updates.after.column_names) - set(changes.stamps))


def _bucket_digests(changes: ChangeSet) -> dict[tuple[str, int], bytes]:
    """A digest for the updates and for the inserts of each bucket that has any."""
    found: dict[tuple[str, int], bytes] = {}
    for action, table in (
        ("update", changes.updates.after),
        ("insert", changes.inserts.after),
        ("remove", changes.removals.before),
    ):
        if table.num_rows:
            hashed = _hashed(changes, table, action)
            found |= {(action, number): digest.digest() for number, digest in hashed.items()}
    return found


def _hashed(changes: ChangeSet, table: pa.Table, action: str) -> "dict[int, hashlib._Hash]":
    """The hash of each bucket of a table, column by column: a bucket may have few rows, and a table many columns."""
    by_key = _canonical_order(changes, table, action)
    keyed = bool(changes.key)
    bucket = (buckets_of(_keys(changes, table, action)) if keyed else np.zeros(table.num_rows, np.uint8))[by_key]
    order = by_key[np.argsort(bucket, kind="stable")]
    numbers, starts = np.unique(np.sort(bucket), return_index=True)
    bounds = np.r_[starts, len(order)]
    hashes = [hashlib.sha256() for _ in numbers]

    def spelled_at(side: pa.Table, name: str, rows: Indices) -> pa.Array:
        return spelled(as_array(side[name]).take(pa.array(rows)))

    updates = changes.updates
    for name in _names(changes):
        if action != "update" or name in changes.key:
            _feed(hashes, bounds, name, [_bytes_of(spelled_at(table, name, order))])
        elif name in updates.changed:
            touched = np.flatnonzero(updates.changed[name][order])
            places = touched - np.repeat(starts, np.diff(bounds))[touched]
            rows, both = order[touched], (updates.before, table)
            fed = [_numbers(places), *(_bytes_of(spelled_at(side, name, rows)) for side in both)]
            within = np.asarray(np.searchsorted(touched, bounds), np.int64)
            _feed(hashes, within, name, fed)
    return dict(zip(numbers.tolist(), hashes, strict=True))


def _keys(changes: ChangeSet, table: pa.Table, action: str) -> pa.Table:
    """The keys by which rows are divided into parts: so that no bucket is in two of them."""
    return changes.removals.named_by(changes.key) if action == "remove" else table.select(changes.key)


def _canonical_order(changes: ChangeSet, table: pa.Table, action: str) -> Indices:
    """The rows by key; where several records have one key, by what they hold. Without a key, as they came in."""
    if not changes.key:
        rows = {"update": changes.updates.rows, "insert": changes.inserts.rows, "remove": changes.removals.rows}
        return np.argsort(rows[action], kind="stable")
    alone = action != "update" or _distinct(changes.updates.rows, len(changes.outcomes)) == len(changes.updates)
    if alone and not changes.shared_keys:
        keys = _keys(changes, table, action)
    else:
        names = [*changes.key, *sorted(set(table.column_names) - set(changes.key) - set(changes.stamps))]
        both = {f"after {name}": table[name] for name in names}
        if action == "update":
            both |= {f"before {name}": changes.updates.before[name] for name in names}
        keys = pa.table(both)
    order: Indices = pc.sort_indices(keys, sort_keys=[(name, "ascending") for name in keys.column_names]).to_numpy()
    return order


_Fed = Sequence[tuple[memoryview, np.ndarray]]  # bytes, and where those of each row begin and end


def _numbers(values: Indices) -> _Fed:
    return [(values.astype("<i8").view(np.uint8).data, 8 * np.arange(len(values) + 1))]


def _bytes_of(texts: pa.Array) -> _Fed:
    """Validity, lengths and bytes of values in their one spelling."""
    there, each = valid(texts), np.arange(len(texts) + 1)
    texts = texts.fill_null("")
    offsets = text_offsets(texts) if len(texts) else np.zeros(1, np.int32)
    lengths = np.diff(offsets).astype("<i4")
    return [
        (there.view(np.uint8).data, each),
        (lengths.view(np.uint8).data, 4 * each),
        (text_bytes(texts).data, offsets - offsets[0]),
    ]


def _feed(hashes: "Sequence[hashlib._Hash]", bounds: Indices, name: str, fed: Sequence[_Fed]) -> None:
    """Hash the rows between two bounds, each with the next, of one column; where there are none, nothing."""
    pieces = [(data, ends[bounds].tolist()) for one in fed for data, ends in one]
    counts = np.diff(bounds).tolist()
    encoded = name.encode()
    for at, (hashed, count) in enumerate(zip(hashes, counts, strict=True)):
        if count:
            hashed.update(len(encoded).to_bytes(4, "little") + encoded + count.to_bytes(8, "little"))
            for data, ends in pieces:
                hashed.update(data[ends[at] : ends[at + 1]])


def _feed_text(digest: "hashlib._Hash", words: list[str]) -> None:
    for word in words:
        encoded = word.encode()
        digest.update(len(encoded).to_bytes(4, "little") + encoded)

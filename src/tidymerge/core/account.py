"""Accounting: the tally, its proof, the reasons, and the fingerprint of what was decided."""

import hashlib
from collections import Counter

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import as_array, valid
from tidymerge.errors import ProofFailed
from tidymerge.model import ChangeSet, Indices, Outcome, Tally

FINGERPRINT_LENGTH = 16  # hexadecimal digits shown and compared: 64 bits of SHA-256


def tally(changes: ChangeSet) -> Tally:
    """Count the outcomes of the incoming rows."""
    counts = np.bincount(changes.outcomes, minlength=len(Outcome))
    return Tally(
        inserted=int(counts[Outcome.INSERTED]),
        updated=int(counts[Outcome.UPDATED]),
        unchanged=int(counts[Outcome.UNCHANGED]),
        skipped=int(counts[Outcome.SKIPPED]),
        rejected=int(counts[Outcome.REJECTED]),
    )


def prove_tally(counted: Tally, changes: ChangeSet, rows_read: int) -> None:
    """Check that every row read has one end, and that the change set holds just the rows to write.

    Raises ProofFailed. Source: the design's first promise.
    """
    _equal("rows read and rows accounted for", rows_read, counted.read)
    updated = len(
        np.unique(changes.incoming[: changes.updates])
    )  # a row may update several records, if the job says so
    _equal("rows decided to update and rows with a record to update", counted.updated, updated)
    _equal("rows decided to insert and records to insert", counted.inserted, changes.inserts)
    _equal("rejected rows and rows with a reason", counted.rejected, int((first_flaws(changes) >= 0).sum()))


def prove_written(changes: ChangeSet, rows_before: int, rows_after: int, updated: int, inserted: int) -> None:
    """Check, inside the transaction, what the target says it did. Raises ProofFailed."""
    counted = tally(changes)
    _equal("records to update and records that the target updated", changes.updates, updated)
    _equal("records to insert and records that the target inserted", counted.inserted, inserted)
    _equal("rows after and rows before plus inserted", rows_before + counted.inserted - counted.deleted, rows_after)


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


def reasons(changes: ChangeSet) -> dict[str, int]:
    """How many rows were rejected for each reason, the commonest first; they add up to the rejected."""
    first = first_flaws(changes)
    counts: Counter[str] = Counter()
    for index, count in zip(*np.unique(first[first >= 0], return_counts=True), strict=True):
        counts[changes.flaws[index].reason.value] += int(count)
    return dict(counts.most_common())


def fingerprint(changes: ChangeSet) -> str:
    """A hash of what was decided: keys, columns, values before and after.

    It does not depend on the order of the rows or columns, nor on the machine: changes are put in
    the order of their keys, values are written in one spelling.
    """
    digest = hashlib.sha256()
    names = sorted(set(changes.after.column_names) - set(changes.stamps))
    updates = changes.after.slice(0, changes.updates)
    inserts = changes.after.slice(changes.updates)
    for action, table in (("update", updates), ("insert", inserts)):
        order = _canonical_order(changes, table, action)
        _feed_text(digest, [action, str(table.num_rows), *changes.key])
        for name in changes.key:
            _feed(digest, name, table[name], order)
        for name in names:
            if action == "insert" and name not in changes.key:
                _feed(digest, name, table[name], order)
            elif action == "update" and name in changes.changed:
                touched = pc.filter(order, pc.take(pa.array(changes.changed[name]), order))
                ranks = np.flatnonzero(changes.changed[name][order.to_numpy()])
                digest.update(ranks.astype("<i8").tobytes())
                _feed(digest, name, changes.before[name], touched)
                _feed(digest, name, table[name], touched)
    return digest.hexdigest()[:FINGERPRINT_LENGTH]


def _canonical_order(changes: ChangeSet, table: pa.Table, action: str) -> pa.Array:
    """The rows by key; where several records have one key, by what they hold."""
    if action == "insert" or len(np.unique(changes.incoming[: changes.updates])) == changes.updates:
        return pc.sort_indices(table, sort_keys=[(name, "ascending") for name in changes.key])
    names = [*changes.key, *sorted(set(table.column_names) - set(changes.key) - set(changes.stamps))]
    both = {f"after {name}": table[name] for name in names} | {f"before {name}": changes.before[name] for name in names}
    return pc.sort_indices(pa.table(both), sort_keys=[(name, "ascending") for name in both])


def _feed(digest: "hashlib._Hash", name: str, column: pa.ChunkedArray, order: pa.Array) -> None:
    """Hash the values of a column in `order`: validity, lengths and bytes of each value's one spelling."""
    _feed_text(digest, [name])
    spelled = _spelled(as_array(column).take(order))
    digest.update(np.packbits(valid(spelled)).tobytes())
    spelled = spelled.fill_null("")
    digest.update(pc.binary_length(spelled).to_numpy(zero_copy_only=False).astype("<i4").tobytes())
    buffers = pa.concat_arrays([spelled]).buffers()
    offset = np.frombuffer(buffers[1], np.int32, len(spelled) + 1, 4 * spelled.offset)
    if buffers[2] is not None:
        digest.update(memoryview(buffers[2])[int(offset[0]) : int(offset[-1])])


def _feed_text(digest: "hashlib._Hash", words: list[str]) -> None:
    for word in words:
        encoded = word.encode()
        digest.update(len(encoded).to_bytes(4, "little") + encoded)


def _spelled(values: pa.Array) -> pa.Array:
    """One spelling for each value: decimals without trailing zeros, all else as Arrow writes it."""
    if pa.types.is_binary(values.type):
        return pa.array([None if value is None else value.hex() for value in values.to_pylist()], pa.string())
    texts = pc.cast(values, pa.string())
    if pa.types.is_decimal(values.type) and values.type.scale > 0:
        texts = pc.ascii_rtrim(pc.ascii_rtrim(texts, "0"), ".")
    return texts

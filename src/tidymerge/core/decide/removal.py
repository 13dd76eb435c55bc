"""Deciding about records that are to go: those that meet a condition, children before their parents."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.decide.rows import flawed, key_text
from tidymerge.core.match.order import generations
from tidymerge.model import Existing, Flaw, Indices, Pairing, TableShape
from tidymerge.model.changes import ChangeSet, Inserts, Outcome, Removals, Updates


def own_parents(shape: TableShape) -> set[str]:
    """The columns by which records refer to others of the same table: children go before their parents."""
    return {name for key in shape.foreign_keys if key.table == shape.name for name in (*key.columns, *key.referred)}


def remove_part(existing: Existing, pairing: Pairing, shape: TableShape, flaws: Sequence[Flaw]) -> ChangeSet:
    """Decide that records go, but for those that have one of the `flaws`. What they hold is not known yet."""
    length = existing.values.num_rows
    rows = np.flatnonzero(~flawed(flaws, length))
    meant = existing.values.take(pa.array(rows))
    rows = rows[np.argsort(-generations(meant, shape), kind="stable")]
    outcomes = np.full(length, Outcome.REJECTED, np.uint8)
    outcomes[rows] = Outcome.REMOVED
    keys = existing.values.select(pairing.key).take(pa.array(rows))
    none = keys.slice(0, 0)
    return ChangeSet(
        outcomes,
        tuple(flaws),
        pairing.key,
        updates=Updates(before=none, after=none),
        inserts=Inserts(after=none, given={name: np.zeros(0, bool) for name in pairing.key}),
        removals=Removals(rows, rows, np.arange(len(rows)), keys, keys),
    )


def with_others(changes: ChangeSet, rows: Indices, existing: Existing, shape: TableShape) -> ChangeSet:
    """The removals that `rows` asked for, and those of the other records that go: they are on no row.

    `existing` are all of them, first those of the rows, in their order.
    """
    more = existing.values.num_rows - len(rows)
    all_rows = np.r_[rows, len(changes.outcomes) + np.arange(more)]
    order = np.argsort(-generations(existing.values, shape), kind="stable")
    keys = existing.values.select(changes.key)
    sorted_keys = keys.take(pa.array(order))
    return replace(
        changes,
        outcomes=np.r_[changes.outcomes, np.full(more, Outcome.REMOVED, np.uint8)],
        removals=Removals(order, all_rows[order], np.arange(len(order)), sorted_keys, sorted_keys),
        absent=key_text(keys.slice(len(rows)), changes.key),
    )


def naming(changes: ChangeSet, keys: pa.Table) -> ChangeSet:
    """The removals, whose fingerprint is to name all columns that they hold; `keys` are typed."""
    before = changes.removals.before
    columns = {name: keys[name] if name in keys.column_names else before[name] for name in before.column_names}
    none = pa.table(columns).slice(0, 0) if before.num_rows else keys
    return replace(changes, updates=Updates(before=none, after=none))

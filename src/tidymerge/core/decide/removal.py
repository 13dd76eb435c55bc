"""Deciding about records that are to go: those that meet a condition, children before their parents."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.decide.rows import flawed
from tidymerge.core.match.order import generations
from tidymerge.model import Existing, Flaw, Pairing, TableShape
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


def naming(changes: ChangeSet, keys: pa.Table) -> ChangeSet:
    """The removals, whose fingerprint is to name all columns that they hold; `keys` are typed."""
    before = changes.removals.before
    columns = {name: keys[name] if name in keys.column_names else before[name] for name in before.column_names}
    none = pa.table(columns).slice(0, 0) if before.num_rows else keys
    return replace(changes, updates=Updates(before=none, after=none))

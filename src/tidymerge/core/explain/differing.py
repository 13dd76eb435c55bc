"""All that differs between two sides, as what a run did would be kept: a line a field, for people."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import as_array, shown
from tidymerge.model import Incoming, Mask
from tidymerge.model.changes import ChangeSet, Logged, Outcome


def all_that_differs(second: Incoming, changes: ChangeSet) -> Logged:
    """Records that differ, then those only in the second side, then those only in the first; values as text."""
    updates, inserts, removals = changes.updates, changes.inserts, changes.removals
    counts = (len(updates), len(inserts), len(removals))
    tables = (updates.after, inserts.after, removals.before)
    names: list[str] = next((table.column_names for table in tables if table.column_names), [])
    others = [name for name in names if name not in changes.key]
    alone = np.zeros(counts[1] + counts[2], bool)
    changed = {name: np.r_[updates.changing(name), alone] for name in others}
    told = {name: mask | (np.arange(len(mask)) >= counts[0]) for name, mask in changed.items()}
    before = {name: _joined(name, (updates.before, counts[1], removals.before), told[name]) for name in others}
    after = {name: _joined(name, (updates.after, inserts.after, counts[2]), told[name]) for name in others}
    keys = {name: _joined(name, tables, np.ones(sum(counts), bool)) for name in changes.key}
    outcomes = np.repeat(np.array([Outcome.UPDATED, Outcome.INSERTED, Outcome.REMOVED], np.uint8), counts)
    rows = (second.numbers_of(updates.rows), second.numbers_of(inserts.rows), np.zeros(counts[2], np.int64))
    return Logged(outcomes, np.concatenate(rows), pa.table(keys), pa.table(before), pa.table(after), changed)


def _joined(name: str, parts: Sequence[pa.Table | int], told: Mask) -> pa.Array:
    """A column of several tables one after another, as text where it is to be told; a number stands for blank rows."""
    texts = [
        pa.nulls(part, pa.string()) if isinstance(part, int) else shown(as_array(part[name]))
        for part in parts
        if isinstance(part, int) or part.num_rows
    ]
    column = pa.concat_arrays(texts) if texts else pa.nulls(0, pa.string())
    return column if told.all() else pc.if_else(pa.array(told), column, pa.scalar(None, pa.string()))

"""Constraints of the table that staged changes would break: whose fault it is, and in which words."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from tidymerge.core.decide.rows import key_text
from tidymerge.model import Flaw, Indices, Mask, Pairing, Reason
from tidymerge.model.changes import ChangeSet, Updates, Violation


def flaws_of(violation: Violation, changes: ChangeSet, pairing: Pairing) -> list[Flaw]:
    """The rows of `changes` that break a constraint by what they write; no others, and none if it is not theirs."""
    if violation.reason is Reason.REFERRED_TO and not violation.columns:
        return _hindered(violation, changes)
    updates, inserts = changes.updates, changes.inserts
    updated = np.isin(updates.positions, violation.positions) & _concerned(updates, violation)
    inserted = np.isin(inserts.positions, violation.positions)
    rows = np.r_[updates.rows[updated], inserts.rows[inserted]]
    if not len(rows):
        return []
    sources = {pair.target.name: pair for pair in pairing.pairs}
    shown = [name for name in violation.columns if name in sources]
    values = None
    if shown:
        both = [updates.after.filter(pa.array(updated)), inserts.after.filter(pa.array(inserted))]
        values = key_text(pa.concat_tables([table.select(shown) for table in both if table.num_rows]), shown)
    column = " / ".join(sources[name].incoming for name in shown) or None
    cells = tuple(source for name in shown for source in sources[name].rule.sources)
    return [Flaw(violation.reason, rows, violation.wanted, column, values, cells)]


def _hindered(violation: Violation, changes: ChangeSet) -> list[Flaw]:
    """The rows whose records can't be removed, with what refers to each."""
    _, at, there = np.intersect1d(changes.removals.positions, violation.positions, return_indices=True)
    if not len(at):
        return []
    found = pa.array([violation.found[index] for index in there.tolist()], pa.string())
    return [Flaw(violation.reason, changes.removals.rows[at], violation.wanted, None, found)]


def refused(position: int, message: str, changes: ChangeSet) -> list[Flaw]:
    """The row at a position that the database refused, with the database's own words."""
    rows = changes.rows_at([position])
    wanted = f"a record that the target takes; it said: {message}"
    return [Flaw(Reason.REFUSED, rows, wanted)] if len(rows) else []


def dropped(changes: ChangeSet, flaws: Sequence[Flaw]) -> Indices:
    """The positions of the changes whose rows have one of the flaws."""
    bad = np.zeros(len(changes.outcomes), bool)
    for flaw in flaws:
        bad[flaw.rows] = True
    return changes.positions_of(bad)


def _concerned(updates: Updates, violation: Violation) -> Mask:
    """The updates that write one of the columns: an old offence of the record is no fault of the row."""
    if violation.always or not violation.columns:
        return np.ones(len(updates), bool)
    concerned: Mask = np.logical_or.reduce([updates.changing(name) for name in violation.columns])
    return concerned

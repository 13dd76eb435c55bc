"""Constraints of the table that staged changes would break: whose fault it is, and in which words."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from tidymerge.core.rows import key_text
from tidymerge.model import ChangeSet, Flaw, Indices, Mask, Pairing, Reason, Violation


def flaws_of(violation: Violation, changes: ChangeSet, pairing: Pairing) -> list[Flaw]:
    """The rows of `changes` that break a constraint by what they write; no others, and none if it is not theirs."""
    at = np.flatnonzero(np.isin(changes.positions, violation.positions) & _concerned(changes, violation))
    if not len(at):
        return []
    sources = {pair.target.name: pair.incoming for pair in pairing.pairs}
    shown = [name for name in violation.columns if name in sources]
    values = key_text(changes.after.take(pa.array(at)), shown) if shown else None
    column = " / ".join(sources[name] for name in shown) or None
    return [Flaw(violation.reason, changes.incoming[at], violation.wanted, column, values)]


def refused(position: int, message: str, changes: ChangeSet) -> list[Flaw]:
    """The row at a position that the database refused, with the database's own words."""
    at = np.flatnonzero(changes.positions == position)
    wanted = f"a record that the target takes; it said: {message}"
    return [Flaw(Reason.REFUSED, changes.incoming[at], wanted)] if len(at) else []


def dropped(changes: ChangeSet, flaws: Sequence[Flaw]) -> Indices:
    """The positions of the changes whose rows have one of the flaws."""
    bad = np.zeros(len(changes.outcomes), bool)
    for flaw in flaws:
        bad[flaw.rows] = True
    return changes.positions[bad[changes.incoming]]


def _concerned(changes: ChangeSet, violation: Violation) -> Mask:
    """The changes that write one of the columns: an old offence of the record is no fault of the row."""
    if violation.always or not violation.columns:
        return np.ones(changes.after.num_rows, bool)
    written = [changes.changed[name] for name in violation.columns if name in changes.changed]
    updates = np.logical_or.reduce([np.zeros(changes.updates, bool), *written])
    concerned: Mask = np.r_[updates, np.ones(changes.inserts, bool)]
    return concerned

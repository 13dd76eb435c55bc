"""What is decided about rows, and what was done: the records that travel from the decision to the log."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import IntEnum

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from tidymerge.model import Flaw, Indices, Mask, Reason


class Outcome(IntEnum):
    """What becomes of an incoming row. Every row gets exactly one."""

    UNCHANGED = 0
    INSERTED = 1
    UPDATED = 2
    SKIPPED = 3
    REJECTED = 4
    DELETED = 5


@dataclass(frozen=True, slots=True)
class Matches:
    """For each incoming row: the matching record (an index into `Existing`, or -1) and how many match."""

    record: Indices
    times: Indices


def _no_indices() -> Indices:
    return np.zeros(0, np.int64)


@dataclass(frozen=True, slots=True)
class ChangeSet:
    """What was decided: for every row its outcome, and for every touched row what is written.

    `after` has one row a change, updates first (grouped by `shape`, the set of changed columns),
    then inserts (grouped by the columns they give). `positions` are their places in the staging table, ascending
    within both. `before` has one row an update. `changed[c]` marks the updates that change column c.
    `incoming` and `existing` index into the rows that they came from (`existing` only for updates).
    `given[c]` marks the inserts that give column c a value, be it null; the others leave it to its default.
    `stamps` are columns that no fingerprint heeds; `skips` are the skipped rows by why.
    `leaving` are the records to delete, `removed` what they hold, `leaving_rows` the rows that ask for it and
    `departures` their places in a staging table of their own, numbered on from `positions`. The rows that are
    `followers` say the same as their `leaders`, or change the same record by their update: they share their fate.
    """

    outcomes: npt.NDArray[np.uint8]
    flaws: tuple[Flaw, ...]
    key: tuple[str, ...]
    incoming: Indices
    existing: Indices
    after: pa.Table
    before: pa.Table
    changed: Mapping[str, Mask]
    shapes: Indices
    positions: Indices
    given: Mapping[str, Mask]
    stamps: tuple[str, ...] = ()
    skips: Mapping[str, Indices] = field(default_factory=dict)
    leaving: Indices = field(default_factory=_no_indices)
    leaving_rows: Indices = field(default_factory=_no_indices)
    departures: Indices = field(default_factory=_no_indices)
    removed: pa.Table = field(default_factory=lambda: pa.table({}))
    followers: Indices = field(default_factory=_no_indices)
    leaders: Indices = field(default_factory=_no_indices)

    @property
    def updates(self) -> int:
        """How many records are updated."""
        return len(self.existing)

    @property
    def inserts(self) -> int:
        """How many records are inserted."""
        return len(self.incoming) - len(self.existing)

    @property
    def deletes(self) -> int:
        """How many records are deleted."""
        return len(self.leaving)


@dataclass(frozen=True, slots=True)
class Logged:
    """What a run did to some records, one row each, every value as the target's own exact text.

    `outcomes` are updated, inserted or deleted; `rows` the incoming row numbers; `keys` find the records. `before` and
    `after` have the other columns that the run touched: of an update where `changed` marks it, of a deleted record
    all before, of a new one all after; null elsewhere. `files` name where each row is from, where the run had several.
    """

    outcomes: npt.NDArray[np.uint8]
    rows: Indices
    keys: pa.Table
    before: pa.Table
    after: pa.Table
    changed: Mapping[str, Mask]
    files: pa.Array | None = None


@dataclass(frozen=True, slots=True)
class Violation:
    """Staged changes, by their positions, that break a constraint on `columns`, and what was `wanted` instead.

    It is held against changes of these columns only, or with `always` against every change. `found` says for
    each position what stands in the way, where that is not the change's own value.
    """

    reason: Reason
    wanted: str
    columns: tuple[str, ...]
    positions: Indices
    always: bool = False
    found: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Tally:
    """How many incoming rows met which end. `read` is their sum: it is checked on every run."""

    inserted: int = 0
    updated: int = 0
    unchanged: int = 0
    skipped: int = 0
    rejected: int = 0
    deleted: int = 0

    @property
    def read(self) -> int:
        """Every incoming row has one outcome, so the outcomes add up to the rows read."""
        return self.inserted + self.updated + self.unchanged + self.skipped + self.rejected + self.deleted

"""What is decided about rows, and what was done: the records that travel from the decision to the log."""

from collections.abc import Callable, Collection, Mapping, Sequence
from enum import IntEnum

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.model import NO_ROW, Flaw, Indices, Mask, Reason
from tidymerge.model.base import Clashes
from tidymerge.model.flaws import of_rows


class Outcome(IntEnum):
    """What becomes of an incoming row. Every row gets exactly one."""

    UNCHANGED = 0
    INSERTED = 1
    UPDATED = 2
    SKIPPED = 3
    REJECTED = 4
    REMOVED = 5


class Matches(Struct, frozen=True):
    """For each incoming row: the matching record (an index into `Existing`, or -1) and how many match."""

    record: Indices
    times: Indices


def _none() -> Indices:
    return np.zeros(0, np.int64)


def _no_values() -> pa.Table:
    return pa.table({})


class Updates(Struct, frozen=True):
    """Existing records that change, one row each, in groups.

    `shapes` is a number for each group, whose records can be written by one statement: the same columns change, or the
    others are rewritable. In a group they follow `records`.

    `records` index into `Existing`; `rows` are the incoming rows that asked for the change, or NO_ROW; `positions`
    their places in the staging table, ascending. `before` and `after` have the loaded columns; `changed[c]` marks the
    records whose column c changes.
    """

    records: Indices = field(default_factory=_none)
    rows: Indices = field(default_factory=_none)
    positions: Indices = field(default_factory=_none)
    before: pa.Table = field(default_factory=_no_values)
    after: pa.Table = field(default_factory=_no_values)
    changed: Mapping[str, Mask] = field(default_factory=dict)
    shapes: Indices = field(default_factory=_none)

    def __len__(self) -> int:
        """How many records change."""
        return len(self.records)

    def where(self, mask: Mask) -> "Updates":
        """Only those that the mask marks."""
        return Updates(
            self.records[mask],
            self.rows[mask],
            self.positions[mask],
            self.before.filter(pa.array(mask)),
            self.after.filter(pa.array(mask)),
            {name: changed[mask] for name, changed in self.changed.items()},
            self.shapes[mask],
        )

    def changing(self, column: str) -> Mask:
        """The records whose column changes."""
        return self.changed[column] if column in self.changed else np.zeros(len(self), bool)

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns that change in some record."""
        return tuple(name for name, mask in self.changed.items() if mask.any())


class Inserts(Struct, frozen=True):
    """New records, one row each, grouped by the columns that they give.

    `rows` are the incoming rows that asked for them, or NO_ROW; `positions` their places in the staging table,
    ascending, after those of the updates. `after` has their values. `given[c]` marks those that give column c a
    value, be it null; the others leave it to its default.
    """

    rows: Indices = field(default_factory=_none)
    positions: Indices = field(default_factory=_none)
    after: pa.Table = field(default_factory=_no_values)
    given: Mapping[str, Mask] = field(default_factory=dict)

    def __len__(self) -> int:
        """How many records are new."""
        return len(self.rows)

    def where(self, mask: Mask) -> "Inserts":
        """Only those that the mask marks."""
        given = {name: gives[mask] for name, gives in self.given.items()}
        return Inserts(self.rows[mask], self.positions[mask], self.after.filter(pa.array(mask)), given)


class Removals(Struct, frozen=True):
    """Records to remove, one row each, children before their parents.

    `records` index into `Existing`; `rows` are the incoming rows that asked for it, or NO_ROW; `positions` their places
    in a staging table of their own, ascending, numbered on from the other changes. `before` is what they hold, as exact
    text; `keys` are their keys as the records were compared by, where those are not of the same form.
    """

    records: Indices = field(default_factory=_none)
    rows: Indices = field(default_factory=_none)
    positions: Indices = field(default_factory=_none)
    before: pa.Table = field(default_factory=_no_values)
    keys: pa.Table | None = None

    def __len__(self) -> int:
        """How many records are removed."""
        return len(self.records)

    def where(self, mask: Mask) -> "Removals":
        """Only those that the mask marks."""
        if not len(self):
            return self
        chosen = pa.array(mask)
        keys = None if self.keys is None else self.keys.filter(chosen)
        return Removals(self.records[mask], self.rows[mask], self.positions[mask], self.before.filter(chosen), keys)

    def named_by(self, key: Sequence[str]) -> pa.Table:
        """The keys of the records, by which parts are told apart."""
        return self.before.select(list(key)) if self.keys is None else self.keys


class ChangeSet(Struct, frozen=True):
    """What was decided: for every incoming row its outcome, and every record that is touched.

    `key` are the columns that find a record; `stamps` are columns that do not count in a fingerprint; `skips` are the
    skipped rows by why. The rows that are `followers` say the same as their `leaders`, or change the same record by
    their update: they share their fate. `absent` are the keys, for people, of records that no row has and of which the
    job says something: they stand behind the incoming rows. With `shared_keys` several records may have one key.
    `clashes` are fields of rows that come back which others changed, too.
    """

    outcomes: npt.NDArray[np.uint8]
    flaws: tuple[Flaw, ...]
    key: tuple[str, ...]
    updates: Updates = field(default_factory=Updates)
    inserts: Inserts = field(default_factory=Inserts)
    removals: Removals = field(default_factory=Removals)
    stamps: tuple[str, ...] = ()
    skips: Mapping[str, Indices] = field(default_factory=dict)
    followers: Indices = field(default_factory=_none)
    leaders: Indices = field(default_factory=_none)
    absent: pa.Array | None = None
    shared_keys: bool = False
    clashes: Clashes | None = None

    @property
    def by_place(self) -> bool:
        """Whether records are found by where they are: no key does."""
        return self.shared_keys or not self.key

    @property
    def rows(self) -> int:
        """How many incoming rows there are; the absent records are not among them."""
        return len(self.outcomes) - (0 if self.absent is None else len(self.absent))

    @property
    def touched_absent(self) -> int:
        """How many of the absent records are written or removed."""
        both = np.r_[self.updates.rows, self.removals.rows]
        return int((both >= self.rows).sum())

    def without_absent(self) -> "ChangeSet":
        """What is decided about the incoming rows alone."""
        if self.absent is None:
            return self
        real = self.rows
        return replace(
            self,
            outcomes=self.outcomes[:real],
            flaws=of_rows(self.flaws, np.arange(real), len(self.outcomes)),
            updates=self.updates.where(self.updates.rows < real),
            removals=self.removals.where(self.removals.rows < real),
            absent=None,
        )

    @property
    def touched(self) -> int:
        """How many records are updated, inserted or removed."""
        return self.written + len(self.removals)

    @property
    def written(self) -> int:
        """How many records are updated or inserted."""
        return len(self.updates) + len(self.inserts)

    @property
    def positions(self) -> Indices:
        """The places of all changes in the staging tables."""
        positions: Indices = np.r_[self.updates.positions, self.inserts.positions, self.removals.positions]
        return positions

    def without_removals(self) -> "ChangeSet":
        """The changes of records that stay."""
        return replace(self, removals=Removals())

    def only_removals(self) -> "ChangeSet":
        """The records that go, and nothing else."""
        nothing = np.zeros(0, bool)
        updates = self.updates.where(np.zeros(len(self.updates), bool))
        given = dict.fromkeys(self.inserts.given, nothing)
        inserts = replace(Inserts(), after=self.inserts.after.slice(0, 0), given=given)
        return replace(self, updates=updates, inserts=inserts)

    def staged_from(self, first: int) -> "ChangeSet":
        """The changes with positions that begin at `first`, where they began at 0."""
        return replace(
            self,
            updates=replace(self.updates, positions=self.updates.positions + first),
            inserts=replace(self.inserts, positions=self.inserts.positions + first),
            removals=replace(self.removals, positions=self.removals.positions + first),
        )

    def rows_at(self, positions: Collection[int]) -> Indices:
        """The incoming rows that asked for the changes at some positions."""
        at = np.fromiter(positions, np.int64, len(positions))
        parts = (self.updates, self.inserts, self.removals)
        found = np.concatenate([part.rows[np.isin(part.positions, at)] for part in parts])
        rows: Indices = found[found != NO_ROW]
        return rows

    def positions_of(self, rows: Mask) -> Indices:
        """The positions of the changes that the marked incoming rows asked for."""
        parts = (self.updates, self.inserts, self.removals)
        positions: Indices = np.concatenate([part.positions[asked(rows, part.rows)] for part in parts])
        return positions

    def with_values(self, make: Callable[[pa.Table], pa.Table]) -> "ChangeSet":
        """The changes with other values, made from each table of values."""
        updates = replace(self.updates, before=make(self.updates.before), after=make(self.updates.after))
        inserts = replace(self.inserts, after=make(self.inserts.after))
        return replace(
            self, updates=updates, inserts=inserts, removals=replace(self.removals, before=make(self.removals.before))
        )


def asked(marked: Mask, rows: Indices) -> Mask:
    """Which changes were asked for by a marked row, where `rows` asked for them; those without a row by none."""
    by_marked: Mask = np.append(marked, False)[rows]
    return by_marked


class Logged(Struct, frozen=True):
    """What a run did to some records, one row each, every value as the target's own exact text.

    `outcomes` are updated, inserted or removed; `rows` the incoming row numbers; `keys` find the records. `before` and
    `after` have the other columns that the run touched: of an update where `changed` marks it, of a removed record
    all before, of a new one all after; null elsewhere. `files` name where each row is from, where the run had several.
    """

    outcomes: npt.NDArray[np.uint8]
    rows: Indices
    keys: pa.Table
    before: pa.Table
    after: pa.Table
    changed: Mapping[str, Mask]
    files: pa.Array | None = None


class Violation(Struct, frozen=True):
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


class Tally(Struct, frozen=True):
    """How many incoming rows met which end, and records that no row has.

    `absent` counts those: they are among the others. `read`, the rest, is checked on every run.
    """

    inserted: int = 0
    updated: int = 0
    unchanged: int = 0
    skipped: int = 0
    rejected: int = 0
    removed: int = 0
    absent: int = 0

    @property
    def read(self) -> int:
        """Every incoming row has one outcome, so the outcomes add up to the rows read."""
        all_ends = self.inserted + self.updated + self.unchanged + self.skipped + self.rejected + self.removed
        return all_ends - self.absent


class Refusal(Struct, frozen=True):
    """A change that only the target could find fault with: its position in the change set, and its words."""

    position: int
    message: str


class Written(Struct, frozen=True):
    """What the target says that it did, and what it refused."""

    updated: int
    inserted: int
    removed: int = 0
    refused: tuple[Refusal, ...] = ()

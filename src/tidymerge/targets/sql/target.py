"""A table of an SQL database as a target: what is staged, written and read back, in plain SQL."""

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from itertools import count

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.tidy.cells import as_array
from tidymerge.databases.contract.database import LEAVING, POSITION, STAGE, Database, Staged, place_name, quoted
from tidymerge.databases.contract.reading import numbers
from tidymerge.errors import TargetChanged
from tidymerge.model import Existing, ForeignKey, Indices, Pairing, TargetColumn
from tidymerge.model.changes import ChangeSet, Refusal, Removals, Violation, Written
from tidymerge.ports.target import NO_TYPES
from tidymerge.targets.sql.detours import circles, hindrances, in_circle
from tidymerge.targets.sql.ranges import Stretch, between
from tidymerge.targets.sql.stage import Stage
from tidymerge.targets.sql.table import SqlTable
from tidymerge.targets.sql.writer import Writer


class SqlTarget(SqlTable):
    """A table in a database, with what is staged for it and written to it."""

    def __init__(
        self, connect: Callable[[], Database], table: str | None, *, write: bool, server: str | None = None,
        firmly: bool = False, create: bool = False,
    ) -> None:  # fmt: skip
        super().__init__(connect, table, write=write, server=server, firmly=firmly, create=create)
        self._stages: dict[str, Stage] = {}  # of all tables of the run, by name
        self._place, self._places = 0, count(1)  # among the tables of the run
        self._given = count(1)
        self._displaced = False
        self._stretches: list[Stretch] = []
        self._circles = np.zeros(0, np.int64)

    def stage(self, changes: ChangeSet, existing: Existing, pairing: Pairing) -> list[Refusal]:
        """Put decided changes into the staging table, and lock the records that they update."""
        stage = self._noted(self._opened(pairing), changes)
        updates, inserts = changes.updates, changes.inserts
        places = existing.places.take(pa.array(updates.records))
        located = pa.table(
            {
                name: pa.concat_arrays([as_array(places[name]), pa.nulls(len(inserts), places[name].type)])
                for name in places.column_names
            }
        )
        refusals = []
        if len(updates) or len(inserts):
            values = pa.concat_tables([updates.after, inserts.after])
            first = int(np.r_[updates.positions, inserts.positions][0])
            refusals = self._database.fill_stage(
                Staged(pairing.columns, values, located, first, stage.bits_of(changes)), self._called(STAGE)
            )
        self._database.close_stage(self._called(STAGE))
        if self._write and self._database.traits.locking:
            stays = ~np.isin(updates.positions, [refusal.position for refusal in refusals])
            self._lock(stage, stage.table, updates.positions[stays], existing, updates.records[stays], pairing)
        if len(changes.removals):
            refusals += self._stage_leaving(stage, changes.removals, existing, pairing)
        return refusals

    def _stage_leaving(self, stage: Stage, removals: Removals, existing: Existing, pairing: Pairing) -> list[Refusal]:
        """Put records to remove, with their keys, into a staging table of their own, and lock them."""
        if stage.leaving is None:
            places = self._placed_by(pairing.key_columns)
            table = self._database.open_stage(pairing.key_columns, places, self._called(LEAVING))
            stage = self._stage = replace(stage, leaving=table)
        located = existing.places.take(pa.array(removals.records))
        keys = existing.values.select(pairing.key).take(pa.array(removals.records))
        first = int(removals.positions[0])
        refusals = self._database.fill_stage(Staged(pairing.key_columns, keys, located, first), self._called(LEAVING))
        self._database.close_stage(self._called(LEAVING))
        if self._write and self._database.traits.locking:
            self._lock(stage, stage.leaving or "", removals.positions, existing, removals.records, pairing)
        return refusals

    def _opened(self, pairing: Pairing) -> Stage:
        if self._stage is None:
            places = self._placed_by(pairing.key_columns)
            table = self._database.open_stage(pairing.columns, places, self._called(STAGE))
            loaded = frozenset(column.name for column in pairing.columns)
            found = tuple(place.name for place in places)
            stage = Stage(self._database, self._shape, table, found, loaded, beside=self._stages)
            self._stage = stage
            return stage
        return self._stage

    @property
    def _stage(self) -> Stage | None:
        return self._stages.get(self._name)

    @_stage.setter
    def _stage(self, stage: Stage) -> None:
        self._stages[self._name] = stage

    def _called(self, table: str) -> str:
        """The name of a staging table: each table of a run has its own."""
        return f"{table} {self._place}" if self._place else table

    def beside(self, table: str, *, create: bool = False, types: Mapping[str, str] = NO_TYPES) -> "SqlTarget":
        """Another table of the same database, in the same transaction; it knows what is staged here."""
        other = SqlTarget(
            lambda: self._database, table, write=self._write, server=self._server, firmly=self._firmly, create=create
        )
        other._stages = self._stages
        other._place, other._places = next(self._places), self._places
        other.__enter__()
        return other

    def loosen(self, columns: Sequence[str]) -> None:
        """Leave columns empty that refer to tables which are written later, until they are filled."""
        if self._stage is not None:
            self._stage = replace(self._stage, loose=frozenset(columns))

    def await_ids(self, column: str, low: int, high: int) -> None:
        """Take the values of a column from `low` to `high` for ids of records that are not written yet."""
        if self._stage is not None:
            self._stage = replace(self._stage, awaited={**self._stage.awaited, column: (low, high)})

    def give_ids(self, column: TargetColumn, first: int, ids: pa.Array) -> None:
        """Replace staged values of a column, which stood for these ids: `first` for the first one."""
        if self._stage is None or not len(ids):
            return
        given = (replace(column, name="id"),)
        name = f"{LEAVING} {self._place} ids {next(self._given)}"
        table = self._database.open_stage(given, (), name)
        self._database.fill_stage(Staged(given, pa.table({"id": ids}), pa.table({})), name)
        self._database.close_stage(name)
        stood = f"t.{quoted(column.name)}"
        found = f"SELECT i.{quoted('id')} FROM {table} i WHERE i.{quoted(POSITION)} = {stood} - ({first:d})"
        where = f"{stood} BETWEEN {first:d} AND {first + len(ids) - 1:d}"
        self._database.change(f"UPDATE {self._stage.table} AS t SET {quoted(column.name)} = ({found}) WHERE {where}")

    def fill(self, changes: ChangeSet) -> int:
        """Fill the loose columns of written records; how many were updated in no other."""
        return self._writer(changes).fill(changes)

    def savepoint(self) -> AbstractContextManager[None]:
        """What is written inside is taken back if an error ends it, and nothing else."""
        return self._database.savepoint("together")

    def let_go(self, changes: ChangeSet) -> None:
        """Empty the loose columns of records that are to go."""
        self._writer(changes).let_go(changes)

    def referring(self) -> list[ForeignKey]:
        """The foreign keys of all tables that refer to this one; `table` of each is the one that it stands in."""
        return self._database.referring(self._name)

    def _noted(self, stage: Stage, changes: ChangeSet) -> Stage:
        """The stage, which knows what these changes touch that others may refer to."""
        changed = stage.changed | set(changes.updates.columns)
        keys = {name for names in (self._shape.primary_key, *self._shape.unique) for name in names}
        referring = stage.referring
        if changed & keys and not stage.changed & keys:
            referring = tuple(self._database.referring(self._shape.name))
        self._stage = noted = replace(stage, changed=changed, referring=referring)
        self._circles = np.r_[self._circles, circles(changes, noted)]
        return noted

    def _lock(
        self, stage: Stage, table: str, at: Indices, existing: Existing, records: Indices, pairing: Pairing
    ) -> None:
        """Lock the records staged in `table`, and make sure that they are as they were when they were compared."""
        if not len(records):
            return
        read = {column.name: column for column in (*self._shape.columns, *pairing.columns)}
        columns = [read[name] for name in existing.values.column_names]
        there = between(at[0], at[-1])
        source = (
            f"FROM {table} s {self._database.traits.join} {self._table} t ON {stage.same_place} "
            f"WHERE {there} ORDER BY s.{quoted(POSITION)}{self._database.traits.locking}"
        )

        def query(expressions: Sequence[str]) -> str:
            return f"SELECT {', '.join(expressions)} {source}"

        if not self._database.lock(columns, query, existing, records):
            raise TargetChanged(f"Another program changed records of {self.address} while they were compared.")

    def unstage(self, positions: Sequence[int]) -> None:
        """Take staged changes away again."""
        if self._stage is not None:
            self._stage.remove(positions)
            self._circles = np.setdiff1d(self._circles, positions)

    def violations(self, pairing: Pairing) -> list[Violation]:
        """The staged changes that would break a constraint."""
        if self._stage is None or self._seeming:
            return []
        found = self._stage.violations(pairing.key) + hindrances(self._stage, pairing.key)
        return found + (in_circle(self._circles, self._stage) if self._database.traits.row_by_row else [])

    def readable(self, texts: pa.Table) -> pa.Table:
        """Exact texts as they are: people can read them."""
        return texts

    def exact(self, texts: pa.Table) -> pa.Table:
        """Exact texts as they are."""
        return texts

    def exact_text(self, column: TargetColumn, values: pa.Array) -> pa.Array | None:
        """The exact text of a column's typed values, if it follows from them."""
        return self._database.exact_text(column, values)

    def as_stored(self, changes: ChangeSet, columns: Sequence[TargetColumn], *, written: bool = False) -> pa.Table:
        """The records of staged updates as they now stand, as exact text; once `written`, also those inserted."""
        exact = [column.as_stored() for column in columns]
        # A record that a trigger took away, or a policy hides, stays a row, of nulls.
        return self._standing(changes, exact, written=written, join="LEFT JOIN")

    def leaving(self, changes: ChangeSet, columns: Sequence[TargetColumn]) -> pa.Table:
        """The records that are staged to be removed, as exact text."""
        exact = [column.as_stored() for column in columns]
        if self._stage is None or self._stage.leaving is None:
            return pa.table({column.name: pa.nulls(0, pa.string()) for column in exact})
        return self._at(self._stage.same_place, changes.removals.positions, exact, None, self._stage.leaving)

    def write(self, changes: ChangeSet) -> Written:
        """One UPDATE for each group of updates, one INSERT for each set of columns given."""
        writer = self._writer(changes)
        written = writer.write(changes)
        self._stretches += writer.stretches
        self._displaced |= writer.displaces(changes.updates.columns)
        return written

    def _writer(self, changes: ChangeSet) -> Writer:
        assert self._stage is not None  # noqa: S101 - the flow stages before it writes
        return Writer(self._stage, self._table, () if changes.by_place else changes.key, alone=self._alone)

    def read_back(self, changes: ChangeSet, pairing: Pairing) -> pa.Table:
        """The written records as they now stand, in the order of the change set."""
        return self._standing(changes, pairing.columns, written=True)

    def remaining(self, changes: ChangeSet) -> int:
        """How many of the removed records are still there."""
        assert self._stage is not None  # noqa: S101
        removals = changes.removals
        if not len(removals):
            return 0
        same = self._stage.same_place if changes.by_place else self._same_key(changes)
        source = f"FROM {self._stage.leaving} s {self._database.traits.join} {self._table} t ON {same}"
        there = between(removals.positions[0], removals.positions[-1])
        if len(changes.inserts) and not changes.by_place:  # a new one may have the number of one that went
            taken = " AND ".join(f"o.{quoted(name)} = s.{quoted(name)}" for name in changes.key)
            there += f" AND NOT EXISTS (SELECT 1 FROM {self._stage.table} o WHERE {taken})"
        return int(numbers(self._database.read, f"SELECT count(*) AS n {source} WHERE {there}")[0])

    @property
    def marks_text(self) -> bool:
        """Whether exact text starts with a letter that is not part of the value."""
        return self._database.traits.marks_text

    def _same_key(self, changes: ChangeSet) -> str:
        return " AND ".join(f"t.{quoted(name)} = s.{quoted(name)}" for name in changes.key)

    def _standing(
        self, changes: ChangeSet, columns: Sequence[TargetColumn], *, written: bool, join: str | None = None
    ) -> pa.Table:
        """The records of staged changes as they stand before or after they are `written`, in order."""
        assert self._stage is not None  # noqa: S101
        same_key = self._stage.same_place if changes.by_place else self._same_key(changes)
        updates, inserts = changes.updates.positions, changes.inserts.positions
        if written and len(inserts) and (self._displaced or set(self._stage.places) == set(changes.key)):
            return self._at(same_key, np.r_[updates, inserts], columns, join)  # one query finds them all
        found = []
        if len(updates):
            same = same_key if written and self._displaced else self._stage.same_place
            found.append(self._at(same, updates, columns, join))
        if len(inserts) and written:
            stretch = self._stretch_of(inserts) if changes.by_place else None
            numbered = None if stretch is None else self._numbered(stretch, inserts, columns)
            found.append(self._at(same_key, inserts, columns, join) if numbered is None else numbered)
        empty = pa.table({column.name: pa.nulls(0, column.type.arrow) for column in columns})
        return pa.concat_tables(found) if found else empty

    def _stretch_of(self, positions: Indices) -> Stretch | None:
        """The stretch in which all new records of some positions are; None once they have their places beside them."""
        assert self._stage is not None  # noqa: S101
        low, high = int(positions[0]), int(positions[-1])
        for stretch in self._stretches if len(positions) == high - low + 1 else ():
            if stretch.low <= low and high <= stretch.high:
                return stretch
        place, position = quoted(place_name(0)), quoted(POSITION)
        for stretch in self._stretches:
            number = f"{position} + {stretch.number_of(0):d}"
            where = f"{position} BETWEEN {stretch.low:d} AND {stretch.high:d}"
            self._database.change(f"UPDATE {self._stage.table} SET {place} = {number} WHERE {where}")
        self._stretches = []
        return None

    def _numbered(self, stretch: Stretch, positions: Indices, columns: Sequence[TargetColumn]) -> pa.Table:
        """The new records of some positions, by their numbers."""
        assert self._stage is not None  # noqa: S101
        number = f"t.{quoted(self._stage.places[0])}"
        low, high = (stretch.number_of(int(at)) for at in (positions[0], positions[-1]))
        source = f"FROM {self._table} t WHERE {number} BETWEEN {low:d} AND {high:d} ORDER BY {number}"

        def query(expressions: Sequence[str]) -> str:
            return f"SELECT {', '.join(expressions)} {source}"

        return self._database.read(columns, query, about=len(positions)).values

    def _at(
        self, same: str, positions: Indices, columns: Sequence[TargetColumn], join: str | None, table: str | None = None
    ) -> pa.Table:
        """The records at some positions of the staging `table`, found by what is the `same`."""
        assert self._stage is not None  # noqa: S101
        source = (
            f"FROM {table or self._stage.table} s {join or self._database.traits.join} {self._table} t ON {same} "
            f"WHERE {between(positions[0], positions[-1])} ORDER BY s.{quoted(POSITION)}"
        )

        def query(expressions: Sequence[str]) -> str:
            return f"SELECT {', '.join(expressions)} {source}"

        return self._database.read(columns, query, about=len(positions)).values

    def suspects(self) -> list[str]:
        """What may change the table's rows on its own."""
        return self._database.suspects(self._name)

    def commit(self) -> tuple[str, ...]:
        """Make the writes last."""
        return self._database.commit()

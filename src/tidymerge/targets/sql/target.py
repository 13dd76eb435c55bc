"""A table of an SQL database as a target: what is looked up, staged, written and read back, in plain SQL."""

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from types import TracebackType
from typing import Self

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.infer.told import declared
from tidymerge.core.match.match import fold_text
from tidymerge.core.tidy.cells import as_array
from tidymerge.databases.contract.database import LEAVING, POSITION, Database, Read, Staged, quoted
from tidymerge.databases.contract.reading import numbers
from tidymerge.errors import TargetChanged
from tidymerge.model import Existing, Indices, NewColumn, Pairing, TableShape, TargetColumn
from tidymerge.model.changes import ChangeSet, Refusal, Removals, Violation, Written
from tidymerge.model.terms import Term
from tidymerge.targets.sql.detours import circles, hindrances, in_circle
from tidymerge.targets.sql.ranges import between
from tidymerge.targets.sql.rewriting import rewritable
from tidymerge.targets.sql.stage import Stage
from tidymerge.targets.sql.terms import where
from tidymerge.targets.sql.writer import Writer


class SqlTarget:
    """A table in a database. Entering opens the database and begins the transaction; `write` also locks.

    `server` is the URL of a server's database, from which incoming rows may come too; `firmly` keeps all others from
    writing to the table until the end.
    """

    def __init__(
        self, connect: Callable[[], Database], table: str | None, *, write: bool, server: str | None = None,
        firmly: bool = False,
    ) -> None:  # fmt: skip
        self._server = server
        self._connect = connect
        self._wanted = table
        self._write = write
        self._firmly = firmly
        self._stage: Stage | None = None
        self._displaced = False
        self._alone = False
        self._circles = np.zeros(0, np.int64)

    def __enter__(self) -> Self:
        self._database = self._connect()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._database.close()

    @property
    def server(self) -> str | None:
        """The URL of the server's database, if there is a server."""
        return self._server

    @property
    def database(self) -> Database:
        """The connection, in whose transaction other tables of the server can be read."""
        return self._database

    @cached_property
    def _name(self) -> str:
        return self._database.find_table(self._wanted)

    @property
    def address(self) -> str:
        """Where the table is, for people."""
        return self._database.address(self._name)

    @cached_property
    def _table(self) -> str:
        return self._database.in_sql(self._name)

    def tables(self) -> tuple[tuple[str, int, int], ...]:
        """The tables of the database: name, rows and columns of each."""
        return self._database.tables()

    @cached_property
    def _shape(self) -> TableShape:
        return self._database.describe(self._name)

    def describe(self) -> TableShape:
        """The table's shape; when opened for writing, the table is claimed first."""
        if self._write:
            self._alone = self._database.claim(self._name, firmly=self._firmly)
            self._shape = replace(self._shape, rewritable=rewritable(self._database, self._shape))
        return self._shape

    def add(self, columns: Sequence[NewColumn]) -> TableShape:
        """Give the table more columns; a preview reads it as if it had them, blank in all records."""
        new = [(column.name, self._database.type_for(declared(column.type))) for column in columns]
        if self._write:
            self._database.add_columns(self._name, new)
            shape = self._database.describe(self._name)
            self._shape = replace(shape, rewritable=rewritable(self._database, shape))
            return self._shape
        known = {column.name for column in self._shape.columns}
        hidden = [place.name for place in self._database.places(self._shape) if place.name not in known]
        listed = [f"h.{quoted(name)}" for name in hidden]
        blank = [f"{self._database.nothing(kind)} AS {quoted(name)}" for name, kind in new]
        self._table = f"(SELECT {', '.join([*listed, 'h.*', *blank])} FROM {self._table} h)"
        added = self._database.new_columns(self._name, new)
        self._shape = replace(self._shape, columns=(*self._shape.columns, *added))
        return self._shape

    def drop(self, names: Sequence[str]) -> None:
        """Take columns away."""
        self._database.drop_columns(self._name, names)

    def count(self) -> int:
        """How many rows the table holds, inside this transaction."""
        return int(numbers(self._database.read, f"SELECT count(*) AS n FROM {self._table}")[0])

    @cached_property
    def about_how_many(self) -> int:
        """How many rows the table holds, as far as the database's statistics know."""
        return self._database.estimate(self._name)

    def worth_reading(self, incoming: int) -> bool:
        """Whether so many incoming rows make it worth reading the whole table, rather than looking keys up."""
        return incoming >= self.about_how_many * self._database.traits.look_up_share

    def _placed_by(self, key: Sequence[TargetColumn]) -> tuple[TargetColumn, ...]:
        """What finds a record again. A record to update is the only one with its key, so the job's key does too."""
        return self._database.places(self._shape) or tuple(key)

    def fetch(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Existing:
        """The given columns of the records that may match `keys`, or of all records."""
        if not self.worth_reading(keys.num_rows) and self._database.can_look_up(key):
            found = self._read(columns, key, self._look_up(keys, key), keys.num_rows)
            return Existing(found.values, found.places, complete=False, unreadable=found.unreadable)
        found = self._read(columns, key, f"FROM {self._table} t", self.about_how_many)
        return Existing(found.values, found.places, complete=True, unreadable=found.unreadable)

    def break_off(self) -> None:
        """Break the connection, if there is one to break: a fetch then fails in its thread."""
        self._database.break_off()

    def _read(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], source: str, about: int = 0) -> Read:
        def query(expressions: Sequence[str]) -> str:
            return f"SELECT {', '.join(expressions)} {source}"

        return self._database.read(columns, query, self._placed_by(key), about=about)

    def _look_up(self, keys: pa.Table, columns: Sequence[TargetColumn]) -> str:
        """SQL that finds the records of the incoming keys, each record once."""
        # Folded, so that keys which are one to the target find its record once.
        folded = {column.name: fold_text(as_array(keys[column.name]), column.fold) for column in columns}
        names = list(folded)
        distinct = pa.table(folded).group_by(names).aggregate([])
        present = np.logical_and.reduce([as_array(distinct[name]).is_valid().to_numpy(False) for name in names])
        table = self._database.put_keys(columns, distinct.filter(pa.array(present)))
        same = " AND ".join(f"t.{quoted(name)} = k.k{index}" for index, name in enumerate(names))
        return f"FROM {table} k {self._database.traits.join} {self._table} t ON {same}"

    def read(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The given columns of every record."""
        return self._read_all(self._table, columns)

    def _read_all(self, table: str, columns: Sequence[TargetColumn]) -> pa.Table:
        return self._database.read(
            columns, lambda expressions: f"SELECT {', '.join(expressions)} FROM {table} t"
        ).values

    def distinct(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The combinations of values that the given columns have."""

        def query(expressions: Sequence[str]) -> str:
            return f"SELECT DISTINCT {', '.join(expressions)} FROM {self._table} t"

        return self._database.read(columns, query).values

    def read_in_batches(
        self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], terms: Sequence[Term] = ()
    ) -> Iterator[Existing]:
        """All records of which the terms may be true, a bounded number at a time."""
        query = f"FROM {self._table} t{where(terms, untyped=self._database.traits.untyped)}"
        none = True
        for found in self._database.read_in_batches(
            columns, lambda expressions: f"SELECT {', '.join(expressions)} {query}", self._placed_by(key)
        ):
            none = False
            yield Existing(found.values, found.places, complete=True, unreadable=found.unreadable)
        if none:
            empty = self._read(columns, key, query)
            yield Existing(empty.values, empty.places, complete=True)

    def sibling(self, table: str) -> tuple[TableShape, pa.Table]:
        """Another table of the same database, to look up in."""
        shape = self._database.describe(self._database.find_table(table))
        return shape, self._read_all(
            self._database.in_sql(shape.name), [column for column in shape.columns if not column.foreign]
        )

    def equal_codes(self, column: TargetColumn, texts: pa.Array) -> pa.Array:
        """A number for each of the distinct texts, equal for those that the database takes for equal."""
        return self._database.equal_codes(column, texts)

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
                Staged(pairing.columns, values, located, first, stage.bits_of(changes))
            )
        self._database.close_stage()
        if self._write and self._database.traits.locking:
            stays = ~np.isin(updates.positions, [refusal.position for refusal in refusals])
            self._lock(stage, stage.table, updates.positions[stays], existing, updates.records[stays], pairing)
        if len(changes.removals):
            refusals += self._stage_leaving(stage, changes.removals, existing, pairing)
        return refusals

    def _stage_leaving(self, stage: Stage, removals: Removals, existing: Existing, pairing: Pairing) -> list[Refusal]:
        """Put records to remove, with their keys, into a staging table of their own, and lock them."""
        if stage.leaving is None:
            table = self._database.open_stage(pairing.key_columns, self._placed_by(pairing.key_columns), LEAVING)
            stage = self._stage = replace(stage, leaving=table)
        located = existing.places.take(pa.array(removals.records))
        keys = existing.values.select(pairing.key).take(pa.array(removals.records))
        first = int(removals.positions[0])
        refusals = self._database.fill_stage(Staged(pairing.key_columns, keys, located, first), LEAVING)
        self._database.close_stage(LEAVING)
        if self._write and self._database.traits.locking:
            self._lock(stage, stage.leaving or "", removals.positions, existing, removals.records, pairing)
        return refusals

    def _opened(self, pairing: Pairing) -> Stage:
        if self._stage is None:
            places = self._placed_by(pairing.key_columns)
            table = self._database.open_stage(pairing.columns, places)
            loaded = frozenset(column.name for column in pairing.columns)
            self._stage = Stage(self._database, self._shape, table, tuple(place.name for place in places), loaded)
        return self._stage

    def _noted(self, stage: Stage, changes: ChangeSet) -> Stage:
        """The stage, which knows what these changes touch that others may refer to."""
        changed = stage.changed | set(changes.updates.columns)
        keys = {name for names in (self._shape.primary_key, *self._shape.unique) for name in names}
        referring = stage.referring
        if changed & keys and not stage.changed & keys:
            referring = tuple(self._database.referring(self._shape.name))
        self._stage = replace(stage, changed=changed, referring=referring)
        self._circles = np.r_[self._circles, circles(changes, self._stage)]
        return self._stage

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
        if self._stage is None:
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
        assert self._stage is not None  # noqa: S101 - the flow stages before it writes
        writer = Writer(self._stage, self._table, changes.key, alone=self._alone)
        written = writer.write(changes)
        self._displaced |= writer.displaces(changes.updates.columns)
        return written

    def read_back(self, changes: ChangeSet, pairing: Pairing) -> pa.Table:
        """The written records as they now stand, in the order of the change set."""
        return self._standing(changes, pairing.columns, written=True)

    def remaining(self, changes: ChangeSet) -> int:
        """How many of the removed records are still there."""
        assert self._stage is not None  # noqa: S101
        removals = changes.removals
        if not len(removals):
            return 0
        source = (
            f"FROM {self._stage.leaving} s {self._database.traits.join} {self._table} t ON {self._same_key(changes)}"
        )
        there = between(removals.positions[0], removals.positions[-1])
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
        same_key, updates, inserts = self._same_key(changes), changes.updates.positions, changes.inserts.positions
        if written and len(inserts) and (self._displaced or set(self._stage.places) == set(changes.key)):
            return self._at(same_key, np.r_[updates, inserts], columns, join)  # one query finds them all
        found = []
        if len(updates):
            same = same_key if written and self._displaced else self._stage.same_place
            found.append(self._at(same, updates, columns, join))
        if len(inserts) and written:
            found.append(self._at(same_key, inserts, columns, join))
        empty = pa.table({column.name: pa.nulls(0, column.type.arrow) for column in columns})
        return pa.concat_tables(found) if found else empty

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

    def commit(self) -> None:
        """Make the writes last."""
        self._database.commit()

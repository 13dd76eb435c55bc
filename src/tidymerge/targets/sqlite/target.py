"""SQLite as a target: one transaction on one connection."""

from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from types import TracebackType
from typing import Self

import numpy as np
import pyarrow as pa

from tidymerge.core.cells import as_array
from tidymerge.core.match import fold_text
from tidymerge.model import ChangeSet, Existing, Flaw, Kind, Pairing, TableShape, TargetColumn
from tidymerge.ports import Refusal, Written
from tidymerge.targets.sqlite.columns import read_columns, to_stored, to_typed
from tidymerge.targets.sqlite.describe import describe, find_table, has_rowid, tables
from tidymerge.targets.sqlite.session import ConstraintBroken, Session, quoted
from tidymerge.targets.sqlite.stage import POSITION, Stage

_KEYS = "tidymerge incoming keys"
# Below this share of the table it is faster to look up the incoming keys than to read the whole
# table; measured in benchmarks/fetch_share.py.
_LOOK_UP_SHARE = 0.3
_LOOK_UP_KINDS = (Kind.INTEGER, Kind.TEXT)  # kinds whose equal values SQLite stores alike


class SqliteTarget:
    """A table in a SQLite file. Entering begins the transaction; `write` also takes the write lock."""

    def __init__(self, path: Path, table: str | None, *, write: bool) -> None:
        self._path = path
        self._wanted = table
        self._write = write

    def __enter__(self) -> Self:
        self._session = Session(self._path, write=self._write)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._session.close()

    @cached_property
    def _name(self) -> str:
        return find_table(self._session, self._wanted)

    @property
    def address(self) -> str:
        """Where the table is, for people."""
        return f"{self._path}#{self._name}"

    @cached_property
    def _table(self) -> str:
        return f"main.{quoted(self._name)}"

    def parts(self) -> tuple[tuple[str, int, int], ...]:
        """The tables in the file: name, rows and columns of each."""
        found = []
        for name in tables(self._session):
            rows = self._session.rows(f"SELECT count(*) AS n FROM main.{quoted(name)}")[0]["n"]
            columns = self._session.rows("SELECT count(*) AS n FROM pragma_table_xinfo(?, ?)", [name, "main"])[0]["n"]
            found.append((name, rows, columns))
        return tuple(found)

    @cached_property
    def _shape(self) -> TableShape:
        return describe(self._session, self._name)

    def describe(self) -> TableShape:
        """The table's shape; when opened for writing, with the write lock taken first."""
        if self._write:
            # Changes nothing, but takes SQLite's write lock before anything is read, so that what
            # is decided still holds when it is written.
            self._session.run(f"DELETE FROM {self._table} WHERE 0")
        return self._shape

    def count(self) -> int:
        """How many rows the table holds, inside this transaction."""
        found: int = self._session.rows(f"SELECT count(*) AS n FROM {self._table}")[0]["n"]
        return found

    @cached_property
    def _places(self) -> tuple[str, ...]:
        """The columns that find a record again: the row number, or the primary key of a table without one."""
        if not has_rowid(self._session, self._name):
            return self._shape.primary_key
        taken = {column.name.lower() for column in self._shape.columns}
        return next(((alias,) for alias in ("rowid", "_rowid_", "oid") if alias not in taken), self._shape.primary_key)

    @cached_property
    def _stage(self) -> Stage:
        return Stage(self._session, self._shape, self._places, self._stamps())

    def _stamps(self) -> dict[str, str]:
        """For each timestamp column a stored value, whose spelling new values follow."""
        found = {}
        for column in self._shape.columns:
            if column.type.kind is Kind.TIMESTAMP:
                name = quoted(column.name)
                rows = self._session.rows(
                    f"SELECT {name} AS v FROM {self._table} WHERE typeof({name}) = 'text' LIMIT 1"
                )
                if rows:
                    found[column.name] = rows[0]["v"]
        return found

    def fetch(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Existing:
        """The given columns of the records that may match `keys`, or of all records."""
        rows = self.count()
        few = keys.num_rows < rows * _LOOK_UP_SHARE
        if few and all(column.type.kind in _LOOK_UP_KINDS for column in key):
            return self._existing(columns, rows, self._look_up(keys, key), complete=False)
        return self._existing(columns, rows, f"FROM {self._table} t", complete=True)

    def _existing(self, columns: Sequence[TargetColumn], rows: int, source: str, *, complete: bool) -> Existing:
        places = [f"t.{quoted(place)} AS {quoted(f'place {index}')}" for index, place in enumerate(self._places)]

        def query(expressions: Sequence[str]) -> str:
            return f"SELECT {', '.join([*places, *expressions])} {source}"

        table, _ = read_columns(self._session, columns, query)
        typed, unreadable = to_typed(table.select([column.name for column in columns]), columns)
        return Existing(typed, table.select(range(len(places))), rows, complete, unreadable)

    def _look_up(self, keys: pa.Table, columns: Sequence[TargetColumn]) -> str:
        """SQL that finds the records of the incoming keys, each record once."""
        names = [f"k{index}" for index in range(len(columns))]
        # Folded, so that keys which are one to the target find its record once.
        stored = [to_stored(fold_text(as_array(keys[column.name]), column.fold), column) for column in columns]
        self._session.run(f"DROP TABLE IF EXISTS temp.{quoted(_KEYS)}")
        self._session.run(f"CREATE TEMP TABLE {quoted(_KEYS)} ({', '.join(names)})")
        distinct = pa.table(dict(zip(names, stored, strict=True))).group_by(names).aggregate([])
        # In key order, so that neighbouring look-ups meet the same pages of the index.
        self._session.fill(_KEYS, distinct.sort_by([(name, "ascending") for name in names]))
        same = " AND ".join(f"t.{quoted(column.name)} = k.{name}" for column, name in zip(columns, names, strict=True))
        return f"FROM temp.{quoted(_KEYS)} k CROSS JOIN {self._table} t ON {same}"

    def read(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The given columns of every record."""
        return self._read(self._table, columns)

    def _read(self, table: str, columns: Sequence[TargetColumn]) -> pa.Table:
        found, _ = read_columns(
            self._session, columns, lambda expressions: f"SELECT {', '.join(expressions)} FROM {table} t"
        )
        return to_typed(found, columns)[0]

    def sibling(self, table: str) -> tuple[TableShape, pa.Table]:
        """Another table of the same file, to look up in."""
        name = find_table(self._session, table)
        shape = describe(self._session, name)
        return shape, self._read(f"main.{quoted(name)}", shape.columns)

    def stage(self, changes: ChangeSet, existing: Existing, pairing: Pairing) -> None:
        """Put the decided changes into the staging table."""
        self._stage.fill(changes, existing, pairing)
        self._pairing = pairing

    def violations(self, changes: ChangeSet, pairing: Pairing) -> list[Flaw]:
        """The staged changes that would break a constraint."""
        return self._stage.violations(changes, pairing)

    def write(self, changes: ChangeSet) -> Written:
        """One UPDATE for each set of changed columns, one INSERT for each set of columns given."""
        refused: list[Refusal] = []
        updated = inserted = 0
        for names, low, high in self._update_runs(changes):
            updated += self._narrowed(self._update(names), low, high, refused)
        for names, positions in self._insert_runs(changes):
            for low, high in _ranges(positions):
                inserted += self._narrowed(self._insert(names), low, high, refused)
        self._stage.remove([refusal.position for refusal in refused])
        return Written(updated, inserted, tuple(refused))

    def _update_runs(self, changes: ChangeSet) -> Iterator[tuple[list[str], int, int]]:
        """The changed columns and first and last position of each run of updates of one shape."""
        shapes = changes.shapes
        starts = np.flatnonzero(np.r_[True, shapes[1:] != shapes[:-1]][: len(shapes)])
        for start, end in zip(starts, np.r_[starts, len(shapes)][1:], strict=True):
            names = [name for name, mask in changes.changed.items() if mask[start]]
            yield names, int(start), int(end) - 1

    def _update(self, names: Sequence[str]) -> str:
        settings = ", ".join(f"{quoted(name)} = s.{quoted(name)}" for name in names)
        return (
            f"UPDATE {self._table} AS t SET {settings} FROM {self._stage.table} AS s "
            f"WHERE {self._stage.same_place} AND s.{quoted(POSITION)} BETWEEN ? AND ?"
        )

    def _insert_runs(self, changes: ChangeSet) -> Iterator[tuple[list[str], np.ndarray]]:
        """New records grouped by the columns they give: a blank leaves a column with a default to it."""
        pattern = np.zeros(changes.inserts, np.int64)
        for mask in changes.given.values():
            if not mask.all():
                pattern = np.unique(pattern * 2 + mask, return_inverse=True)[1].astype(np.int64)
        for number in np.unique(pattern):
            members = np.flatnonzero(pattern == number)
            yield [name for name, mask in changes.given.items() if mask[members[0]]], members + changes.updates

    def _insert(self, names: Sequence[str]) -> str:
        listed = ", ".join(quoted(name) for name in names)
        return (
            f"INSERT INTO {self._table} ({listed}) SELECT {listed} FROM {self._stage.table} "
            f"WHERE {quoted(POSITION)} BETWEEN ? AND ? ORDER BY {quoted(POSITION)}"
        )

    def _narrowed(self, sql: str, low: int, high: int, refused: list[Refusal]) -> int:
        """Run `sql` over positions `low` to `high`; where a constraint fails, halve until the bad rows are single."""
        try:
            with self._session.savepoint():
                return self._session.change(sql, [low, high])
        except ConstraintBroken as broken:
            if low == high:
                refused.append(Refusal(low, str(broken)))
                return 0
        middle = (low + high) // 2
        return self._narrowed(sql, low, middle, refused) + self._narrowed(sql, middle + 1, high, refused)

    def read_back(self, changes: ChangeSet) -> pa.Table:
        """The written records as they now stand, in the order of the change set."""
        same_key = " AND ".join(f"t.{quoted(name)} = s.{quoted(name)}" for name in self._pairing.key)
        new = self._stage.is_insert
        found = []
        if changes.updates:
            found.append(self._written(f"{self._stage.same_place} AND NOT ({new})"))
        if changes.inserts:
            found.append(self._written(f"{same_key} AND {new}"))
        empty = pa.table({column.name: pa.nulls(0, column.type.arrow) for column in self._pairing.columns})
        return pa.concat_tables(found) if found else empty

    def _written(self, same: str) -> pa.Table:
        columns = self._pairing.columns

        def query(expressions: Sequence[str]) -> str:
            return (
                f"SELECT {', '.join(expressions)} FROM {self._stage.table} s "
                f"CROSS JOIN {self._table} t ON {same} ORDER BY s.{quoted(POSITION)}"
            )

        table, _ = read_columns(self._session, columns, query)
        return to_typed(table, columns)[0]

    def commit(self) -> None:
        """Make the writes last."""
        self._session.commit()


def _ranges(positions: np.ndarray) -> Iterator[tuple[int, int]]:
    """The first and last of each run of consecutive positions."""
    breaks = np.flatnonzero(np.diff(positions) > 1)
    for start, end in zip(np.r_[0, breaks + 1], np.r_[breaks, len(positions) - 1], strict=True):
        yield int(positions[start]), int(positions[end])

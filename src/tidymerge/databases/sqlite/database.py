"""SQLite's own ways: the row number, staging with the target's affinity and collation, one writer at a time."""

from collections.abc import Container, Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.tidy.cells import as_array
from tidymerge.databases.contract.base import SqlDatabase
from tidymerge.databases.contract.database import (
    CHANGED,
    KEYS,
    POSITION,
    STAGE,
    Inserted,
    Query,
    Read,
    Staged,
    Traits,
    place_name,
    quoted,
)
from tidymerge.databases.contract.placing import numbered_from, placing
from tidymerge.databases.contract.reading import numbers
from tidymerge.databases.sqlite.altering import COLLATIONS, complete, definition, depending
from tidymerge.databases.sqlite.columns import marked_text, read_columns, to_stored, to_typed, unmarked
from tidymerge.databases.sqlite.describe import (
    affinity,
    column_type,
    describe,
    find_table,
    has_rowid,
    referring,
    tables,
)
from tidymerge.databases.sqlite.session import Session
from tidymerge.errors import TargetChanged, TargetReadOnly
from tidymerge.model import ColumnType, Definition, ForeignKey, Kind, TableShape, TargetColumn
from tidymerge.model.changes import Refusal
from tidymerge.on_disk import name_beside, other_names, place_new

_RAW = "tidymerge texts"
_LOOK_UP_KINDS = (Kind.INTEGER, Kind.TEXT)  # kinds whose equal values SQLite stores alike
_NEW_TYPES = {kind: kind.name for kind in Kind} | {Kind.FLOAT: "REAL"}


class SqliteDatabase(SqlDatabase[Session]):
    """A SQLite file, in one transaction.

    The staging table lives in the connection's own temporary schema, so that a preview can use it on a
    read-only file. Each loaded column has there the affinity and collation that it has in the target,
    so a value compares and converts in it as it will in the target.
    """

    # Measured in benchmarks/fetch_share.py.
    traits = Traits(
        look_up_share=0.4, join="CROSS JOIN", whole_type="INTEGER", marks_text=True, rechecks=False, untyped=True
    )
    new_types = _NEW_TYPES

    def __init__(self, path: Path, *, write: bool, new: bool = False) -> None:
        self._path = path
        # A new file takes its place with the commit: before that, nobody else can have put anything into it.
        self._draft = name_beside(path) if new and write else None
        try:
            self._session = Session(path, write=write, new=new, draft=self._draft)
        except BaseException:
            self._forget_draft()
            raise
        self._stamps: dict[str, str] = {}
        self._mixed: set[str] = set()  # columns in which values of another storage class were met

    def find_table(self, name: str | None) -> str:
        """The table's own spelling of `name`, or the only table."""
        return find_table(self._session, name)

    def tables(self) -> tuple[tuple[str, int, int], ...]:
        """The tables in the file: name, rows and columns of each."""
        found = []
        for name in tables(self._session):
            rows = self._session.rows(f"SELECT count(*) AS n FROM {self.in_sql(name)}")[0]["n"]
            columns = self._session.rows("SELECT count(*) AS n FROM pragma_table_xinfo(?, ?)", [name, "main"])[0]["n"]
            found.append((name, rows, columns))
        return tuple(found)

    def address(self, table: str) -> str:
        """Where a table is, for people."""
        return f"{self._path}#{table}"

    def describe(self, table: str) -> TableShape:
        """The shape of a table."""
        shape = describe(self._session, table)
        self._stamps |= self._spelled_stamps(shape)
        several = other_names(self._path)
        if several is None:
            return shape
        # https://www.sqlite.org/howtocorrupt.html, "Multiple links to the same file"
        words = f"{several}: programs that open it by different names do not see each other's locks, and may damage it."
        return replace(shape, notes=(*shape.notes, words))

    def describe_query(self, source: str) -> tuple[TargetColumn, ...]:
        """Never asked: rows of a SQLite file come over a connection that only reads."""
        raise AssertionError(source)

    def read_only(self) -> None:
        """Never asked, as `describe_query`."""
        raise AssertionError

    def in_sql(self, table: str) -> str:
        """A table's name in SQL."""
        return f"main.{quoted(table)}"

    def places(self, shape: TableShape) -> tuple[TargetColumn, ...]:
        """The row number, or the primary key of a table without one."""
        key = tuple(shape.column(name) for name in shape.primary_key)
        if not has_rowid(self._session, shape.name):
            return key
        taken = {column.name.lower() for column in shape.columns}
        free = [alias for alias in ("rowid", "_rowid_", "oid") if alias not in taken]
        return (TargetColumn(free[0], ColumnType(Kind.INTEGER, "INTEGER")),) if free else key

    def new_in_sql(self, name: str) -> str:
        """The name in SQL that a new table would have."""
        return f"main.{quoted(name)}"

    def claim(self, table: str, *, firmly: bool = False) -> bool:
        """Nothing is left to do: the file was locked against all others before anything of it was read."""
        return True

    def estimate(self, table: str) -> int:
        """How many rows a table holds."""
        return int(self._session.rows(f"SELECT count(*) AS n FROM {self.in_sql(table)}")[0]["n"])

    def read(
        self, columns: Sequence[TargetColumn], query: Query, places: Sequence[TargetColumn] = (), *, about: int = 0
    ) -> Read:
        """The result of `query`."""
        located = [f"t.{quoted(place.name)} AS {quoted(place_name(index))}" for index, place in enumerate(places)]
        table, mixed = read_columns(self._session, columns, lambda expressions: query([*located, *expressions]), about)
        self._mixed.update(mixed)
        typed, unreadable = to_typed(table.select([column.name for column in columns]), columns)
        return Read(typed, table.select(range(len(places))), unreadable)

    def read_in_batches(
        self, columns: Sequence[TargetColumn], query: Query, places: Sequence[TargetColumn]
    ) -> Iterator[Read]:
        """One batch: the driver settles a column's type by all of its rows."""
        yield self.read(columns, query, places)

    def change(self, statement: str) -> int:
        """Run a statement; how many rows it changed."""
        return self._session.change(statement)

    def exact_text(self, column: TargetColumn, values: pa.Array) -> pa.Array | None:
        """Of columns in which all that was read so far had the column's own storage class: it can't be seen later."""
        return marked_text(column, values) if column.type.as_stored or column.name not in self._mixed else None

    def can_look_up(self, key: Sequence[TargetColumn]) -> bool:
        """Whether equal keys are always stored alike."""
        return all(column.type.kind in _LOOK_UP_KINDS or column.type.as_stored for column in key)

    def equal_codes(self, column: TargetColumn, texts: pa.Array) -> pa.Array:
        """Never asked: what SQLite's collations ignore is known, and a file's own collations can't be opened."""
        raise AssertionError(f"{column.name} has no such collation")

    def put_keys(self, columns: Sequence[TargetColumn], keys: pa.Table) -> str:
        """Put distinct keys into a temporary table."""
        names = [f"k{index}" for index in range(len(columns))]
        self._session.run(f"DROP TABLE IF EXISTS temp.{quoted(KEYS)}")
        self._session.run(f"CREATE TEMP TABLE {quoted(KEYS)} ({', '.join(names)})")
        # In key order, so that neighbouring look-ups meet the same pages of the index.
        keys = keys.sort_by([(column.name, "ascending") for column in columns])
        stored = [to_stored(as_array(keys[column.name]), column) for column in columns]
        marked = {name for name, column in zip(names, columns, strict=True) if column.type.as_stored}
        self._fill(KEYS, pa.table(dict(zip(names, stored, strict=True))), marked)
        return f"temp.{quoted(KEYS)}"

    def _fill(self, table: str, rows: pa.Table, marked: Container[str]) -> None:
        """Append rows to a temporary table; those of `marked` columns are texts that SQLite makes the values of."""
        if not any(name in marked for name in rows.column_names):
            self._session.fill(table, rows)
            return
        raw = quoted(_RAW)
        self._session.run(f"CREATE TEMP TABLE {raw} ({', '.join(map(quoted, rows.column_names))})")
        self._session.fill(_RAW, rows)
        values = [unmarked(name) if name in marked else quoted(name) for name in rows.column_names]
        listed = ", ".join(map(quoted, rows.column_names))
        self._session.run(f"INSERT INTO temp.{quoted(table)} ({listed}) SELECT {', '.join(values)} FROM temp.{raw}")
        self._session.run(f"DROP TABLE temp.{raw}")

    def open_stage(self, columns: Sequence[TargetColumn], places: Sequence[TargetColumn], name: str = STAGE) -> str:
        """Make an empty staging table."""
        declared = [f"{quoted(POSITION)} INTEGER PRIMARY KEY", *([quoted(CHANGED)] if name.startswith(STAGE) else [])]
        declared += [quoted(place_name(index)) for index in range(len(places))]
        for column in columns:
            kind = affinity(column.type.declared) if column.type.declared != "no type" else ""
            declared.append(f"{quoted(column.name)} {kind} COLLATE {COLLATIONS[column.fold]}")
        self._session.run(f"CREATE TEMP TABLE {quoted(name)} ({', '.join(declared)})")
        return f"temp.{quoted(name)}"

    def _spelled_stamps(self, shape: TableShape) -> dict[str, str]:
        """For each timestamp column a stored value, whose spelling new values follow."""
        found = {}
        for column in shape.columns:
            if column.type.kind is Kind.TIMESTAMP:
                name = quoted(column.name)
                rows = self._session.rows(
                    f"SELECT {name} AS v FROM {self.in_sql(shape.name)} WHERE typeof({name}) = 'text' LIMIT 1"
                )
                if rows:
                    found[column.name] = rows[0]["v"]
        return found

    def fill_stage(self, staged: Staged, name: str = STAGE) -> list[Refusal]:
        """Add rows to the staging table; SQLite refuses none."""
        rows = staged.rows
        columns: dict[str, Any] = {POSITION: pa.array(np.arange(staged.first, staged.first + rows))}
        if staged.changed is not None:
            columns[CHANGED] = pa.array(staged.changed)
        columns |= {place_name(index): column for index, column in enumerate(staged.places.columns)}
        for column in staged.columns:
            values = as_array(staged.values[column.name])
            columns[column.name] = to_stored(values, column, self._stamps.get(column.name))
        columns_as_stored = {column.name for column in staged.columns if column.type.as_stored}
        self._fill(name, pa.table(columns), columns_as_stored)
        return []

    def insert_placed(
        self, shape: TableShape, stage: str, names: Sequence[str], where: str, places: Sequence[str], rows: int
    ) -> Inserted:
        """Insert staged rows, which are numbered on from the last record, and note their numbers."""
        table, (place,) = self.in_sql(shape.name), places
        greatest = f"SELECT coalesce(max(t.{quoted(place)}), 0) AS n FROM {table} t"
        (last,) = numbers(self.read, greatest)
        count = self.change(self.insert(shape, stage, names, where))
        if count == rows and numbers(self.read, greatest)[0] == last + count:
            return Inserted(count, int(last) + 1)
        self.change(placing(stage, numbered_from(last + 1, place, table), where, {"place": 0}))
        return Inserted(count)

    def delete(self, table: str, stage: str, places: Sequence[str], where: str) -> str:
        """The statement that deletes the records of staged rows `s`."""
        listed = ", ".join(quoted(place) for place in places)
        staged = ", ".join(f"s.{quoted(place_name(index))}" for index in range(len(places)))
        return f"DELETE FROM {table} WHERE ({listed}) IN (SELECT {staged} FROM {stage} s WHERE {where})"

    def referring(self, table: str) -> list[ForeignKey]:
        """The foreign keys of all tables that refer to this one; `table` of each is the one that it stands in."""
        return referring(self._session, table)

    def complete_columns(self, table: str, columns: Sequence[tuple[str, Definition]]) -> tuple[str, ...]:
        """Give columns all of their definition."""
        return tuple(note for name, one in columns if (note := complete(self._session, table, name, one)))

    def definitions(self, table: str, names: Sequence[str]) -> list[Definition]:
        """How SQLite declares columns."""
        shape = self.describe(table)
        return [definition(self._session, shape, name) for name in names]

    def depending(self, table: str, names: Sequence[str]) -> list[str]:
        """What needs columns of a table."""
        shape = self.describe(table)
        return [one for name in names for one in depending(self._session, shape, name)]

    def new_columns(self, table: str, columns: Sequence[tuple[str, str]]) -> tuple[TargetColumn, ...]:
        """What columns of that name and SQL type would be."""
        return tuple(TargetColumn(name, column_type(self._session, table, name, kind)) for name, kind in columns)

    def close(self) -> None:
        """Roll back whatever was not committed, and close; a new file in which nothing lasts goes."""
        super().close()
        self._forget_draft()

    def _forget_draft(self) -> None:
        if self._draft is not None:
            self._draft.unlink(missing_ok=True)

    def suspects(self, table: str) -> list[str]:
        """The triggers of a table."""
        rows = self._session.rows(
            "SELECT name FROM sqlite_schema WHERE type = 'trigger' AND lower(tbl_name) = lower(?) ORDER BY name",
            [table],
        )
        return [f"the trigger {row['name']}" for row in rows]

    def commit(self) -> tuple[str, ...]:
        """Make the writes last. Raises TargetChanged if somebody made the same new file meanwhile."""
        self._session.commit()
        if self._draft is None:
            return ()
        self._session.close()
        try:
            place_new(self._draft, self._path)
        except FileExistsError:
            raise TargetChanged(f"Another program made {self._path} meanwhile.") from None
        except OSError as error:
            raise TargetReadOnly(
                f"{self._path} can't be made: {error.strerror or error}. Nothing was written."
            ) from None
        return ()

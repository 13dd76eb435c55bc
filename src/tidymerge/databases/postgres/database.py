"""PostgreSQL's own ways: COPY both ways, one snapshot, row locks that fail where somebody was faster."""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

import pyarrow as pa

from tidymerge.address import Address
from tidymerge.core.tidy.cells import as_array
from tidymerge.databases.contract.base import TEXTS, SqlDatabase
from tidymerge.databases.contract.database import (
    KEYS,
    POSITION,
    STAGE,
    ConstraintBroken,
    Inserted,
    Query,
    Read,
    Staged,
    Traits,
    place_name,
    quoted,
    same_place,
)
from tidymerge.databases.contract.lines import filled, sql_type, staged_columns, staged_rows
from tidymerge.databases.contract.new_columns import adding, dropping
from tidymerge.databases.contract.placing import placing
from tidymerge.databases.contract.reading import joined, nothing, separated, with_places
from tidymerge.databases.postgres.altering import definition, depending
from tidymerge.databases.postgres.columns import expression, parse_csv, to_stored
from tidymerge.databases.postgres.describe import Described, Name, describe, find_table, names, referring
from tidymerge.databases.postgres.session import Session
from tidymerge.model import ColumnType, Definition, Fold, ForeignKey, Kind, TableShape, TargetColumn
from tidymerge.model.changes import Refusal

_NEW_TYPES = {
    Kind.INTEGER: "bigint", Kind.DECIMAL: "numeric", Kind.FLOAT: "double precision", Kind.TEXT: "text",
    Kind.BOOLEAN: "boolean", Kind.DATE: "date", Kind.TIME: "time", Kind.TIMESTAMP: "timestamp",
}  # fmt: skip
_QUERY = "tidymerge query"
# Where a row lies in the snapshot; whoever moved it since is noticed when it is updated.
_ROW = (TargetColumn("tableoid", ColumnType(Kind.INTEGER, "oid")), TargetColumn("ctid", ColumnType(Kind.TEXT, "tid")))


class _Gaps(ConstraintBroken):
    """New records are not numbered one after the other: others insert beside us."""


class PostgresDatabase(SqlDatabase[Session]):
    """A PostgreSQL database, in one transaction that sees one snapshot.

    The server locks a record when it updates it. At this isolation it refuses to update one that changed since the
    snapshot in which it was compared (SQLSTATE 40001, which becomes TargetChanged), so `lock` has nothing to do.
    """

    # Measured: benchmarks/fetch_share.py, docs/benchmarks.md.
    traits = Traits(look_up_share=0.25, whole_type="numeric", moves=True)
    new_types = _NEW_TYPES

    def __init__(self, address: Address) -> None:
        self._session = Session(address)
        self._begun = False
        self._names: dict[str, Name] = {}
        self._described: dict[str, Described] = {}
        self._staged: dict[str, list[tuple[str, TargetColumn]]] = {}

    def find_table(self, name: str | None) -> str:
        """The table's own spelling of `name`, or the only table."""
        found = find_table(self._session, name)
        self._names[found.called] = found
        return found.called

    def tables(self) -> tuple[tuple[str, int, int], ...]:
        """The tables there are: name, rows and columns of each."""
        found = []
        for name in names(self._session):
            if name.kind in "rp":
                rows = self._session.rows(f"SELECT count(*) AS n FROM {name.in_sql}")[0]["n"]
                columns = self._session.rows(
                    "SELECT count(*) AS n FROM pg_attribute WHERE attrelid = %s::regclass AND attnum > 0 "
                    "AND NOT attisdropped",
                    [name.in_sql],
                )[0]["n"]
                found.append((name.called, rows, columns))
        return tuple(found)

    def address(self, table: str) -> str:
        """Where a table is, for people."""
        return f"{self._session.place}#{table}"

    def describe(self, table: str) -> TableShape:
        """The shape of a table."""
        self._begin()
        return self._about(table).shape

    def _about(self, table: str) -> Described:
        if table not in self._described:
            self._described[table] = describe(self._session, self._name(table))
        return self._described[table]

    def _name(self, table: str) -> Name:
        if table not in self._names:
            self.find_table(table)
        return self._names[table]

    def describe_query(self, source: str) -> tuple[TargetColumn, ...]:
        """The columns of a query, found out by making an empty table of it."""
        self._begin()
        self._session.run(f"DROP TABLE IF EXISTS pg_temp.{quoted(_QUERY)}")
        self._session.run_one(f"CREATE TEMP TABLE {quoted(_QUERY)} AS SELECT * FROM {source} LIMIT 0")
        name = Name("pg_temp", _QUERY, _QUERY, "r")
        return describe(self._session, name).shape.columns

    def read_only(self) -> None:
        """From here on nothing can be changed."""
        self._begun = True
        self._session.begin_reading()

    def in_sql(self, table: str) -> str:
        """A table's name in SQL."""
        return self._name(table).in_sql

    def places(self, shape: TableShape) -> tuple[TargetColumn, ...]:
        """The primary key, or where the row lies in a table without one."""
        return tuple(shape.column(name) for name in shape.primary_key) or _ROW

    def claim(self, table: str, *, firmly: bool = False) -> bool:
        """Lock other loads out of the table (`firmly`: all who write) before the snapshot is taken; nobody else."""
        name = self._name(table).in_sql
        may = self._session.rows("SELECT has_table_privilege(%s, 'UPDATE') AS may", [name])[0]["may"]
        self._begin()
        if may:  # else the server would not give the lock, and nothing can be updated anyway
            self._session.run(f"LOCK TABLE {name} IN SHARE {'ROW' if firmly else 'UPDATE'} EXCLUSIVE MODE")
        return bool(may) and firmly

    def _begin(self) -> None:
        if not self._begun:
            self._begun = True
            self._session.begin()

    def estimate(self, table: str) -> int:
        """How many rows a table held when it was last analysed; one that never was is counted."""
        known = self._session.rows(
            "SELECT reltuples::int8 AS n FROM pg_class WHERE oid = %s::regclass", [self.in_sql(table)]
        )
        rows = int(known[0]["n"])
        return rows if rows > 0 else int(self._session.rows(f"SELECT count(*) AS n FROM {self.in_sql(table)}")[0]["n"])

    def read(
        self, columns: Sequence[TargetColumn], query: Query, places: Sequence[TargetColumn] = (), *, about: int = 0
    ) -> Read:
        """The result of `query`: the rows arrive in one thread and are parsed in another."""
        wanted = with_places(columns, places)
        with ThreadPoolExecutor(1) as pool:
            arriving = self._session.copy_out(query([expression(column) for column in wanted]))
            parsed = [pool.submit(parse_csv, data, wanted) for data in arriving]
        return separated(joined(parsed, nothing(wanted)), columns, places)

    def read_in_batches(
        self, columns: Sequence[TargetColumn], query: Query, places: Sequence[TargetColumn]
    ) -> Iterator[Read]:
        """The same, some megabytes at a time."""
        wanted = with_places(columns, places)
        for data in self._session.copy_out(query([expression(column) for column in wanted])):
            yield separated(parse_csv(data, wanted), columns, places)

    def _make_texts(self, columns: str) -> str:
        """A temporary table for texts."""
        self._session.run(f"DROP TABLE IF EXISTS pg_temp.{quoted(TEXTS)}")
        self._session.run(f"CREATE TEMP TABLE {quoted(TEXTS)} {columns}")
        return f"pg_temp.{quoted(TEXTS)}"

    def _put_texts(self, table: str, rows: pa.Table) -> None:
        """Append rows."""
        self._session.copy_in(table, ["n", "v"], rows)

    def put_keys(self, columns: Sequence[TargetColumn], keys: pa.Table) -> str:
        """Put distinct keys into a temporary table."""
        table, listed = f"pg_temp.{quoted(KEYS)}", [f"k{index}" for index in range(len(columns))]
        declared = ", ".join(f"{name} {sql_type(column)}" for name, column in zip(listed, columns, strict=True))
        self._session.run(f"DROP TABLE IF EXISTS {table}")
        self._session.run(f"CREATE TEMP TABLE {quoted(KEYS)} ({declared})")
        # In key order, so that neighbouring look-ups meet the same pages of the index.
        keys = keys.sort_by([(column.name, "ascending") for column in columns])
        stored = [to_stored(as_array(keys[column.name]), column) for column in columns]
        rows = pa.table(dict(zip(listed, stored, strict=True)))
        # A key that the column can't even hold is no record's.
        filled(lambda part: self._session.copy_in(table, listed, part), self.savepoint, rows, 0)
        if any(column.fold is Fold.DATABASE for column in columns):
            distinct = quoted(f"{KEYS}, distinct")
            self._session.run(f"DROP TABLE IF EXISTS pg_temp.{distinct}")
            self._session.run(f"CREATE TEMP TABLE {distinct} AS SELECT DISTINCT {', '.join(listed)} FROM {table}")
            table = f"pg_temp.{distinct}"
        self._session.run(f"ANALYZE {table}")
        return table

    def open_stage(self, columns: Sequence[TargetColumn], places: Sequence[TargetColumn], name: str = STAGE) -> str:
        """Make an empty staging table, its columns as they are in the target but for domains."""
        self._staged[name] = staged_columns(columns, places, marked=name.startswith(STAGE))
        declared = [f"{quoted(named)} {sql_type(column)}" for named, column in self._staged[name]]
        self._session.run(f"CREATE TEMP TABLE {quoted(name)} ({', '.join(declared)})")
        return f"pg_temp.{quoted(name)}"

    def fill_stage(self, staged: Staged, name: str = STAGE) -> list[Refusal]:
        """Add rows to the staging table; rows that their columns' types refuse are narrowed down."""
        columns = self._staged[name]
        table, listed = f"pg_temp.{quoted(name)}", [quoted(named) for named, _ in columns]
        rows = staged_rows(staged, columns, to_stored)
        return filled(lambda part: self._session.copy_in(table, listed, part), self.savepoint, rows, staged.first)

    def close_stage(self, name: str = STAGE) -> None:
        """Tell the planner how many rows there are, and let it find them by position."""
        table, index = f"pg_temp.{quoted(name)}", quoted(f"{name} by position")
        self._session.run(f"CREATE UNIQUE INDEX IF NOT EXISTS {index} ON {table} ({quoted(POSITION)})")
        places = [column for named, column in self._staged[name] if named.startswith(place_name(""))]
        joined_by = [quoted(named) for named, column in self._staged[name] if named == POSITION or column in places]
        self._session.run(f"ANALYZE {table} ({', '.join(joined_by)})")

    def _overriding(self, shape: TableShape, names: Sequence[str]) -> str:
        """Numbers that the sheet brings win over the table's own numbering."""
        return "OVERRIDING SYSTEM VALUE " if not self._about(shape.name).numbered.isdisjoint(names) else ""

    def insert_placed(
        self, shape: TableShape, stage: str, names: Sequence[str], where: str, places: Sequence[str], rows: int
    ) -> Inserted:
        """Insert staged rows, in their order, and note where each record is, as the insert returns it."""
        insert = self.insert(shape, stage, names, where)
        if len(places) == 1 and shape.primary_key and shape.column(places[0]).type.kind is Kind.INTEGER:
            with suppress(_Gaps), self.savepoint("numbering"):
                number = quoted(places[0])
                ends = f"SELECT min({number}) AS low, max({number}) AS high, count(*) AS n FROM new"
                (found,) = self._session.rows(f"WITH new AS ({insert} RETURNING {quoted(places[0])}) {ends}")
                if not found["n"] == rows == found["high"] - found["low"] + 1:
                    raise _Gaps
                return Inserted(int(found["n"]), int(found["low"]))
        names_of = [f"p{at}" for at in range(len(places))]
        returned = ", ".join(f"{quoted(place)} AS {name}" for place, name in zip(places, names_of, strict=True))
        new = "SELECT new.*, row_number() OVER () AS k FROM new"
        statement = placing(stage, new, where, {name: at for at, name in enumerate(names_of)})
        return Inserted(self.change(f"WITH new AS ({insert} RETURNING {returned}) {statement}"))

    def delete(self, table: str, stage: str, places: Sequence[str], where: str) -> str:
        """The statement that deletes the records of staged rows `s`."""
        return f"DELETE FROM {table} AS t USING {stage} AS s WHERE {same_place(places)} AND {where}"

    def referring(self, table: str) -> list[ForeignKey]:
        """The foreign keys of all tables that refer to this one; `table` of each is the one that it stands in."""
        return referring(self._session, self._name(table))

    def new_columns(self, table: str, columns: Sequence[tuple[str, str]]) -> tuple[TargetColumn, ...]:
        """What columns of that name and SQL type would be."""
        listed = ", ".join(f"{self.nothing(kind)} AS {quoted(name)}" for name, kind in columns)
        return self.describe_query(f"(SELECT {listed}) q")

    def nothing(self, kind: str) -> str:
        """A null of an SQL type."""
        return f"CAST(NULL AS {kind})"

    def new_in_sql(self, name: str) -> str:
        """The name in SQL that a new table would have: in the schema that it names, if there is one of that name."""
        schema, dot, table = name.partition(".")
        known = self._session.rows("SELECT 1 AS n FROM pg_namespace WHERE nspname = %s", [schema]) if dot else []
        return f"{quoted(schema)}.{quoted(table)}" if known else quoted(name)

    def create_table(self, name: str, columns: Sequence[tuple[str, str, bool]], key: Sequence[str]) -> None:
        """Make a table, within the transaction."""
        self._begin()
        super().create_table(name, columns, key)

    def add_columns(self, table: str, columns: Sequence[tuple[str, str]]) -> None:
        """Add columns, within the transaction: the table is locked against everybody until its end."""
        self._altered(table, adding(self.in_sql(table), columns))

    def complete_columns(self, table: str, columns: Sequence[tuple[str, Definition]]) -> tuple[str, ...]:
        """Give columns all of their definition, within the transaction."""
        # A table with rows that are still to be tested can't be altered.
        altered = [f"ALTER TABLE {self.in_sql(table)} {one.full}" for _, one in columns if one.full]
        self._altered(table, ["SET CONSTRAINTS ALL IMMEDIATE", *altered] if altered else [])
        return ()

    def definitions(self, table: str, names: Sequence[str]) -> list[Definition]:
        """How the server declares columns."""
        return [definition(self._session, self.in_sql(table), name) for name in names]

    def depending(self, table: str, names: Sequence[str]) -> list[str]:
        """What needs columns of a table."""
        return [one for name in names for one in depending(self._session, self.in_sql(table), name)]

    def drop_columns(self, table: str, names: Sequence[str], *, alone: bool) -> None:
        """Take columns away, within the transaction. What is still to be tested is tested before."""
        self._altered(table, ["SET CONSTRAINTS ALL IMMEDIATE", *dropping(self.in_sql(table), names)])

    def _altered(self, table: str, statements: Sequence[str]) -> None:
        for statement in statements:
            self._session.run(statement)
        self._described.pop(table, None)

    def suspects(self, table: str) -> list[str]:
        """The triggers, rules and row-level policies of a table."""
        name = [self.in_sql(table)]
        found = self._session.rows(
            """SELECT 'the trigger ' || tgname AS what FROM pg_trigger
            WHERE tgrelid = %s::regclass AND NOT tgisinternal AND tgenabled <> 'D' UNION ALL
            SELECT 'the rule ' || rulename FROM pg_rewrite WHERE ev_class = %s::regclass AND rulename <> '_RETURN'
            UNION ALL SELECT 'the policy ' || polname FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid
            WHERE c.relrowsecurity AND p.polrelid = %s::regclass""",
            name * 3,
        )
        return [row["what"] for row in found]

"""MariaDB's own ways: rows straight from the wire, LOAD DATA whose warnings are errors, collations asked."""

import re
import zlib
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.address import Address
from tidymerge.core.tidy.cells import as_array, differs, only_bytes
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
from tidymerge.databases.contract.new_columns import dropping
from tidymerge.databases.contract.placing import in_order, numbered_from
from tidymerge.databases.contract.reading import joined, nothing, numbers, separated, with_places
from tidymerge.databases.contract.transaction import commit
from tidymerge.databases.mariadb.altering import Altering, definition, depending
from tidymerge.databases.mariadb.columns import expression, is_bytes, parsed, to_stored
from tidymerge.databases.mariadb.describe import describe, find_table, in_sql, referring, shown_columns, table_names
from tidymerge.databases.mariadb.session import FilesForbidden, Session
from tidymerge.errors import TargetLocked, WriteRefused
from tidymerge.model import Definition, Existing, ForeignKey, Indices, Kind, TableShape, TargetColumn
from tidymerge.model.changes import Refusal
from tidymerge.settings import lock_wait

_NEW_TYPES = {
    Kind.INTEGER: "BIGINT", Kind.DECIMAL: "DECIMAL", Kind.FLOAT: "DOUBLE", Kind.TEXT: "TEXT",
    Kind.BOOLEAN: "BOOLEAN", Kind.DATE: "DATE", Kind.TIME: "TIME(6)", Kind.TIMESTAMP: "DATETIME(6)",
}  # fmt: skip
_QUERY = "tidymerge query"
_LONG = ("text", "blob", "json")  # types that an index can't hold whole
_PRINTABLE = bytes(range(0x20, 0x7F))
# Collations under which plain English letters differ by nothing but case (and accents, which these are not).
_USUAL = re.compile(
    r"(utf8mb4|utf8mb3|utf8|latin1)_(general_ci|unicode_ci|unicode_520_ci|swedish_ci|uca1400_ai_ci|0900_ai_ci)"
)
_DUPLICATE = 1062


class MariaDatabase(SqlDatabase[Session]):
    """A MariaDB database, in one transaction that sees one snapshot."""

    # Measured: benchmarks/fetch_share.py, docs/benchmarks.md.
    traits = Traits(
        look_up_share=0.28,
        join="STRAIGHT_JOIN",
        row_by_row=True,
        whole_type="SIGNED",
        locking=" FOR UPDATE",
        longest_key=255,
    )
    new_types = _NEW_TYPES

    def __init__(self, address: Address) -> None:
        self._session = Session(address)
        self._begun = False
        self._found: dict[str, tuple[str, str]] = {}
        self._shapes: dict[str, TableShape] = {}
        self._staged: dict[str, list[tuple[str, TargetColumn]]] = {}
        self._takes_files = True
        self._altering = Altering(self._session)

    def find_table(self, name: str | None) -> str:
        """The table's own spelling of `name`, or the only table."""
        place = find_table(self._session, name)
        called = place[1] if place[1] in table_names(self._session) else ".".join(place)
        self._found[called] = place
        return called

    def tables(self) -> tuple[tuple[str, int, int], ...]:
        """The tables there are: name, rows and columns of each."""
        found = []
        for name in table_names(self._session):
            rows = self._session.rows(f"SELECT count(*) AS n FROM {quoted(name)}")[0]["n"]
            columns = self._session.rows(
                "SELECT count(*) AS n FROM information_schema.columns WHERE table_schema = DATABASE() "
                "AND table_name = %s",
                [name],
            )[0]["n"]
            found.append((name, rows, columns))
        return tuple(found)

    def address(self, table: str) -> str:
        """Where a table is, for people."""
        return f"{self._session.place}#{table}"

    def describe(self, table: str) -> TableShape:
        """The shape of a table."""
        self._begin()
        if table not in self._shapes:
            self._shapes[table] = describe(self._session, self._place(table), table)
        return self._shapes[table]

    def _place(self, table: str) -> tuple[str, str]:
        if table not in self._found:
            self.find_table(table)
        return self._found[table]

    def describe_query(self, source: str) -> tuple[TargetColumn, ...]:
        """The columns of a query, found out by making an empty table of it."""
        self._begin()
        self._make(_QUERY, f"AS SELECT * FROM {source} LIMIT 0")
        return shown_columns(self._session, quoted(_QUERY))

    def read_only(self) -> None:
        """From here on nothing can be changed."""
        self._begun = True
        self._session.begin_reading()

    def in_sql(self, table: str) -> str:
        """A table's name in SQL."""
        return in_sql(self._place(table))

    def places(self, shape: TableShape) -> tuple[TargetColumn, ...]:
        """The primary key, or a unique one that is never null."""
        sure = {column.name for column in shape.columns if not column.nullable}
        keys = [names for names in (shape.primary_key, *shape.unique) if names and sure.issuperset(names)]
        return tuple(shape.column(name) for name in keys[0]) if keys else ()

    def claim(self, table: str, *, firmly: bool = False) -> bool:
        """Wait for other loads of the table (`firmly`: all who write to it) to end, before the snapshot is taken."""
        name = f"tidymerge {zlib.crc32('.'.join(self._place(table)).encode()):08x}"
        seconds = lock_wait()
        got = self._session.rows("SELECT GET_LOCK(%s, %s) AS got", [name, seconds])[0]["got"]
        if got != 1:
            raise TargetLocked(
                f"Another load into {self.address(table)} still runs after {seconds} seconds of waiting. "
                "Wait for it, or give TIDYMERGE_LOCK_WAIT more seconds, then run this again."
            )
        if firmly and not self._begun:
            self._begun = True
            self._session.begin_locking(self.in_sql(table))
        self._begin()
        return firmly

    def _begin(self) -> None:
        if not self._begun:
            self._begun = True
            self._session.begin()

    def estimate(self, table: str) -> int:
        """About how many rows a table holds."""
        known = self._session.rows(
            "SELECT table_rows AS n FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
            self._place(table),
        )
        return int(known[0]["n"] or 0)

    def read(
        self, columns: Sequence[TargetColumn], query: Query, places: Sequence[TargetColumn] = (), *, about: int = 0
    ) -> Read:
        """The result of `query`: the rows arrive in one thread and are parsed in another."""
        wanted = with_places(columns, places)
        with ThreadPoolExecutor(1) as pool:
            arriving = self._session.stream(query([expression(column) for column in wanted]))
            parts = [pool.submit(parsed, data, starts, wanted) for data, starts in arriving]
        return separated(joined(parts, nothing(wanted)), columns, places)

    def read_in_batches(
        self, columns: Sequence[TargetColumn], query: Query, places: Sequence[TargetColumn]
    ) -> Iterator[Read]:
        """The same, some megabytes at a time."""
        wanted = with_places(columns, places)
        for data, starts in self._session.stream(query([expression(column) for column in wanted])):
            yield separated(parsed(data, starts, wanted), columns, places)

    def can_look_up(self, key: Sequence[TargetColumn]) -> bool:
        """The server compares by the columns' own types and collations, where an index can hold them."""
        return not any(word in column.type.declared for column in key for word in _LONG)

    def equal_codes(self, column: TargetColumn, texts: pa.Array) -> pa.Array:
        """Distinct texts, ranked by the server unless they are plain: those that it takes for equal rank alike."""
        if _USUAL.fullmatch(column.collation) and only_bytes(texts, _PRINTABLE):
            folded = pc.ascii_lower(texts)
            padded = "0900" not in column.collation
            return (pc.ascii_rtrim(folded, " ") if padded else folded).dictionary_encode().indices
        return super().equal_codes(column, texts)

    def _make_texts(self, columns: str) -> str:
        """A temporary table for texts."""
        self._make(TEXTS, columns)
        return quoted(TEXTS)

    def _put_texts(self, table: str, rows: pa.Table) -> None:
        """Append rows."""
        self._put(table, ["n", "v"], (), rows)

    def put_keys(self, columns: Sequence[TargetColumn], keys: pa.Table) -> str:
        """Put keys into a temporary table, whose own key keeps one of those that are equal to the server."""
        listed = [f"k{index}" for index in range(len(columns))]
        declared = ", ".join(
            f"{name} {sql_type(column)} NOT NULL" for name, column in zip(listed, columns, strict=True)
        )
        self._make(KEYS, f"({declared}, PRIMARY KEY ({', '.join(listed)}))")
        # In key order, so that neighbouring look-ups meet the same pages of the index.
        keys = keys.sort_by([(column.name, "ascending") for column in columns])
        stored = [to_stored(as_array(keys[column.name]), column) for column in columns]
        rows = pa.table(dict(zip(listed, stored, strict=True)))
        # A key that the column can't even hold is no record's.
        filled(lambda part: self._put(quoted(KEYS), listed, columns, part, keep_first=True), self.savepoint, rows, 0)
        return quoted(KEYS)

    def open_stage(self, columns: Sequence[TargetColumn], places: Sequence[TargetColumn], name: str = STAGE) -> str:
        """Make an empty staging table, its columns as they are in the target."""
        self._staged[name] = staged_columns(columns, places, marked=name.startswith(STAGE))
        declared = [f"{quoted(named)} {sql_type(column)} NULL" for named, column in self._staged[name][1:]]
        declared = [f"{quoted(POSITION)} bigint PRIMARY KEY", *declared]
        self._make(name, f"({', '.join(declared)})")
        return quoted(name)

    def fill_stage(self, staged: Staged, name: str = STAGE) -> list[Refusal]:
        """Add rows to the staging table; rows that their columns' types refuse, or would change, are left out."""
        table = staged_rows(staged, self._staged[name], to_stored)
        listed = [quoted(named) for named, _ in self._staged[name]]
        columns = [column for _, column in self._staged[name]]
        return filled(lambda rows: self._put(quoted(name), listed, columns, rows), self.savepoint, table, staged.first)

    def _make(self, name: str, rest: str) -> None:
        """Make a temporary table in place of any earlier one of that name."""
        self._session.run(f"DROP TEMPORARY TABLE IF EXISTS {quoted(name)}")
        self._session.run(f"CREATE TEMPORARY TABLE {quoted(name)} {rest}")

    def _put(
        self,
        table: str,
        names: Sequence[str],
        columns: Sequence[TargetColumn],
        rows: pa.Table,
        *,
        keep_first: bool = False,
    ) -> None:
        """Append rows to a temporary table. What LOAD DATA would only warn about is an error: ConstraintBroken.

        `columns` are those of `names`, if any holds bytes. With `keep_first`, a row whose key is there already is
        left out.
        """
        binary = frozenset(name for name, column in zip(names, columns, strict=False) if is_bytes(column))
        if self._takes_files:
            try:
                count, warnings = self._session.load(table, names, rows, binary)
            except FilesForbidden:
                self._takes_files = False
            else:
                serious = [warning for warning in warnings if not (keep_first and warning["Code"] == _DUPLICATE)]
                if serious or (count and not warnings):
                    raise ConstraintBroken(str(serious[0]["Message"]) if serious else "the server gave warnings")
                return
        self._session.insert(table, names, rows, binary, keep_first=keep_first)

    def update(self, table: str, stage: str, settings: Mapping[str, str], where: str) -> str:
        """The statement that sets columns of the records `t` to values, in SQL, from the staged rows `s`."""
        listed = ", ".join(f"t.{quoted(name)} = {value}" for name, value in settings.items())
        return f"UPDATE {stage} s STRAIGHT_JOIN {table} t SET {listed} WHERE {where}"

    def insert_placed(
        self, shape: TableShape, stage: str, names: Sequence[str], where: str, places: Sequence[str], rows: int
    ) -> Inserted:
        """Insert staged rows, which the server numbers in their order, and note their numbers.

        Those that others inserted meanwhile are not seen in the transaction's snapshot.
        """
        count = self.change(self.insert(shape, stage, names, where))
        (first,) = numbers(self.read, "SELECT last_insert_id() AS n")
        if not first or len(places) != 1:
            raise WriteRefused(
                f"{shape.name} does not number its records by itself, so those without a key could not be found again. "
                "Bring values for its key."
            )
        table, number, position = self.in_sql(shape.name), f"t.{quoted(places[0])}", quoted(POSITION)
        (last,) = numbers(self.read, f"SELECT max({number}) AS n FROM {table} t")
        if count == rows == last - first + 1:
            return Inserted(count, int(first))
        new = numbered_from(first, places[0], table)
        self.change(
            f"UPDATE {stage} g JOIN ({in_order(stage, where)}) o ON g.{position} = o.p JOIN ({new}) n ON n.k = o.k "
            f"SET g.{quoted(place_name(0))} = n.place"
        )
        return Inserted(count)

    def delete(self, table: str, stage: str, places: Sequence[str], where: str) -> str:
        """The statement that deletes the records of staged rows `s`."""
        return f"DELETE t FROM {stage} s STRAIGHT_JOIN {table} t ON {same_place(places)} WHERE {where}"

    def lock(self, columns: Sequence[TargetColumn], query: Query, then: Existing, records: Indices) -> bool:
        """Lock records, which reads them as they are now, and compare them with the snapshot's."""
        now = self.read(columns, query)
        if now.values.num_rows != len(records):
            return False
        old = then.values.take(pa.array(records))
        return not any(differs(as_array(now.values[c.name]), as_array(old[c.name])).any() for c in columns)

    def referring(self, table: str) -> list[ForeignKey]:
        """The foreign keys of all tables that refer to this one; `table` of each is the one that it stands in."""
        return referring(self._session, self._place(table))

    def new_columns(self, table: str, columns: Sequence[tuple[str, str]]) -> tuple[TargetColumn, ...]:
        """What columns of that name and SQL type would be."""
        self._begin()
        known = self._session.rows(
            "SELECT table_collation AS c FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
            self._place(table) if table in self._found else ("", ""),
        ) or self._session.rows("SELECT @@collation_database AS c")
        listed = ", ".join(f"{quoted(name)} {kind}" for name, kind in columns)
        self._make(_QUERY, f"({listed}) COLLATE {known[0]['c']}")
        return shown_columns(self._session, quoted(_QUERY))

    def new_in_sql(self, name: str) -> str:
        """The name in SQL that a new table would have: in the database that it names, if there is one of that name."""
        place, dot, table = name.partition(".")
        known = dot and self._session.rows(
            "SELECT 1 AS n FROM information_schema.schemata WHERE schema_name = %s", [place]
        )
        return f"{quoted(place)}.{quoted(table)}" if known else quoted(name)

    def create_table(self, name: str, columns: Sequence[tuple[str, str, bool]], key: Sequence[str]) -> None:
        """Make a table before the transaction; where nothing is committed, it is taken away again."""
        self._altering.create(self.new_in_sql(name), columns, key)

    def drop_table(self, table: str) -> None:
        """Take a table away right after the commit, as doing so would be one."""
        self._altering.later(f"DROP TABLE {self.in_sql(table)}")

    def add_columns(self, table: str, columns: Sequence[tuple[str, str]]) -> None:
        """Add columns before the transaction, as the server ends one that does such things."""
        self._altering.add(self.in_sql(table), columns)
        self._shapes.pop(table, None)

    def complete_columns(self, table: str, columns: Sequence[tuple[str, Definition]]) -> tuple[str, ...]:
        """Give columns all of their definition, after the commit."""
        for name, one in columns:
            self._altering.later(f"ALTER TABLE {self.in_sql(table)} MODIFY COLUMN {quoted(name)} {one.full}")
        return ()

    def definitions(self, table: str, names: Sequence[str]) -> list[Definition]:
        """How the server declares columns."""
        return [definition(self._session, self._place(table), name) for name in names]

    def depending(self, table: str, names: Sequence[str]) -> list[str]:
        """What needs columns of a table."""
        about = self._place(table), self.describe(table), self.referring(table)
        return [one for name in names for one in depending(self._session, *about, name)]

    def drop_columns(self, table: str, names: Sequence[str], *, alone: bool) -> None:
        """Take columns away right after the commit, as doing so would be one."""
        if alone:
            self._altering.drop_alone(self.in_sql(table), names)
        else:
            self._altering.later(*dropping(self.in_sql(table), names))

    def suspects(self, table: str) -> list[str]:
        """The triggers of a table."""
        rows = self._session.rows(
            "SELECT trigger_name AS name FROM information_schema.triggers "
            "WHERE event_object_schema = %s AND event_object_table = %s ORDER BY 1",
            self._place(table),
        )
        return [f"the trigger {row['name']}" for row in rows]

    def commit(self) -> tuple[str, ...]:
        """Make the writes last, then do what could not be done before."""
        commit(self._session.run)
        return self._altering.after_commit()

    def close(self) -> None:
        """Roll back whatever was not committed, and close."""
        self._altering.take_back()
        self._session.close()

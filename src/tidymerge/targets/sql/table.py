"""A table of an SQL database: what it is like, what is looked up and read in it, and columns that come and go."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import cached_property
from types import TracebackType
from typing import Self

import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.infer.told import declared, in_words
from tidymerge.databases.contract.database import PLACE, Database, Read, quoted
from tidymerge.databases.contract.reading import numbers
from tidymerge.errors import BadOption, NoKey, NoSuchTable
from tidymerge.model import Existing, Kind, NewColumn, TableShape, TargetColumn
from tidymerge.model.terms import Term
from tidymerge.targets.sql.looking_up import looked_up
from tidymerge.targets.sql.rewriting import rewritable
from tidymerge.targets.sql.terms import where


class SqlTable:
    """A table in a database, described and read.

    Entering opens the database and begins the transaction; `write` also locks.

    `server` is the URL of a server's database, from which incoming rows may come too; `firmly` keeps all others from
    writing to the table until the end. A table to `create` is not there yet: it comes when it is told its columns, in a
    preview as one that only seems to be there.
    """

    def __init__(
        self, connect: Callable[[], Database], table: str | None, *, write: bool, server: str | None = None,
        firmly: bool = False, create: bool = False,
    ) -> None:  # fmt: skip
        self._create = create
        self._seeming = False
        self._server = server
        self._connect = connect
        self._wanted = table
        self._write = write
        self._firmly = firmly
        self._alone = False

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
        return self._database.find_table(self._wanted) if not self._create else self._new_name()

    def _new_name(self) -> str:
        """The name of the table that is not there yet. Raises NoSuchTable and BadOption."""
        if self._wanted is None:
            raise NoSuchTable("The new table has no name: give one after '#'.")
        with suppress(NoSuchTable):
            known = self._database.find_table(self._wanted)
            raise BadOption(f"{self._database.address(known)} is there already: it can be loaded into as it is.")
        return self._wanted

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
        if self._create:
            return TableShape(self._name, ())
        if self._write:
            self._alone = self._database.claim(self._name, firmly=self._firmly)
            self._shape = replace(self._shape, rewritable=rewritable(self._database, self._shape))
        return self._shape

    def create(self, columns: Sequence[NewColumn], key: Sequence[str]) -> TableShape:
        """Make the table; in a preview it only seems to be there."""
        longest, parts = self._database.traits.longest_key, []
        for column in columns:
            how = column.definition
            kind = declared(column.type)
            if column.name in key and kind.kind is Kind.TEXT and kind.length is None:
                kind = replace(kind, length=longest)
            declaration = how.plain if how else self._database.type_for(kind)
            parts.append((column.name, declaration, column.required or column.name in key))
        name = self._name
        if self._write:
            self._database.create_table(name, parts, key)
            self._create = False
            self._name = self._database.find_table(self._wanted)
            return self.describe()
        known = self._database.new_columns(name, [(column, kind) for column, kind, _ in parts])
        found = [replace(one, nullable=not part[2]) for one, part in zip(known, parts, strict=True)]
        blank = [f"{self._database.nothing(kind)} AS {quoted(column)}" for column, kind, _ in parts]
        blank += [] if key else [f"{self._database.nothing('bigint')} AS {quoted(PLACE.name)}"]
        self._table = f"(SELECT {', '.join(blank)} FROM (SELECT 1 AS one) one WHERE 1 = 0)"
        self._shape = TableShape(name, tuple(found), tuple(key))
        self._seeming, self._create = True, False
        return self._shape

    def abolish(self) -> None:
        """Take the table away, with the commit; one that only seems to be there is not."""
        if not self._seeming:
            self._database.drop_table(self._name)

    def add(self, columns: Sequence[NewColumn]) -> TableShape:
        """Give the table more columns; a preview reads it as if it had them, blank in all records."""
        new = [(column.name, self._sql_type(column)) for column in columns]
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

    def _sql_type(self, column: NewColumn) -> str:
        """The type of a new column: as the database said it once, or for what is declared."""
        return column.definition.plain if column.definition else self._database.type_for(declared(column.type))

    def complete(self, columns: Sequence[NewColumn]) -> tuple[str, ...]:
        """Give columns that came back all of their definition."""
        return self._database.complete_columns(
            self._name, [(one.name, one.definition) for one in columns if one.definition]
        )

    def depending(self, names: Sequence[str]) -> list[str]:
        """What needs the columns: the table's own keys, and whatever else the database knows of."""
        return self._database.depending(self._name, names)

    def definitions(self, names: Sequence[str]) -> list[NewColumn]:
        """The columns as the database declares them."""
        found = zip(names, self._database.definitions(self._name, names), strict=True)
        return [NewColumn(name, in_words(self._shape.column(name).type), definition=how) for name, how in found]

    def drop(self, names: Sequence[str], *, alone: bool) -> None:
        """Take columns away."""
        self._database.drop_columns(self._name, names, alone=alone)

    def count(self) -> int:
        """How many rows the table holds, inside this transaction."""
        return int(numbers(self._database.read, f"SELECT count(*) AS n FROM {self._table} t")[0])

    @cached_property
    def about_how_many(self) -> int:
        """How many rows the table holds, as far as the database's statistics know."""
        return 0 if self._seeming else self._database.estimate(self._name)

    def worth_reading(self, incoming: int) -> bool:
        """Whether so many incoming rows make it worth reading the whole table, rather than looking keys up."""
        return incoming >= self.about_how_many * self._database.traits.look_up_share

    def _placed_by(self, key: Sequence[TargetColumn]) -> tuple[TargetColumn, ...]:
        """What finds a record again. A record to update is the only one with its key, so the job's key does too."""
        if self._seeming:
            return tuple(self._shape.column(name) for name in self._shape.primary_key) or (PLACE,)
        return self._database.places(self._shape) or tuple(key)

    def fetch(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Existing:
        """The given columns of the records that may match `keys`, or of all records."""
        if not self.worth_reading(keys.num_rows) and self._database.can_look_up(key):
            found = self._read(columns, key, looked_up(self._database, self._table, keys, key), keys.num_rows)
            return Existing(found.values, found.places, complete=False, unreadable=found.unreadable)
        found = self._read(columns, key, f"FROM {self._table} t", self.about_how_many)
        return Existing(found.values, found.places, complete=True, unreadable=found.unreadable)

    @property
    def keeps_places(self) -> bool:
        """Whether there is a primary key, or a row number that stays."""
        return bool(self._shape.primary_key) or (not self._database.traits.moves and bool(self._placed_by(())))

    def nothing(self, columns: Sequence[TargetColumn]) -> Existing:
        """No records."""
        if not self._placed_by(()):
            raise NoKey(
                f"{self._name} has no primary key or unique columns by which {self.address} could tell its records "
                "apart, so an undo could not find them. Give the table a primary key."
            )
        found = self._read(columns, (), f"FROM {self._table} t WHERE 1 = 0")
        return Existing(found.values, found.places, complete=False)

    def break_off(self) -> None:
        """Break the connection, if there is one to break: a fetch then fails in its thread."""
        self._database.break_off()

    def _read(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], source: str, about: int = 0) -> Read:
        def query(expressions: Sequence[str]) -> str:
            return f"SELECT {', '.join(expressions)} {source}"

        return self._database.read(columns, query, self._placed_by(key), about=about)

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

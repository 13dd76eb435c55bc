"""The contract between the shared target and one kind of database."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Protocol

import pyarrow as pa
from msgspec import Struct, field

from tidymerge.errors import TargetError
from tidymerge.model import ColumnType, Definition, Existing, ForeignKey, Indices, Kind, Mask, TableShape, TargetColumn
from tidymerge.model.changes import Refusal

STAGE = "tidymerge staged changes"
LEAVING = "tidymerge records to remove"
KEYS = "tidymerge incoming keys"
# Columns of ours that stand beside those of the target: they begin with a sign that no name has that people give.
_OURS = "\x01"
POSITION = f"{_OURS}tidymerge position"
CHANGED = f"{_OURS}tidymerge changed"
_PLACE = f"{_OURS}tidymerge place "

Query = Callable[[Sequence[str]], str]  # from a list of column expressions to SQL


NUMBER = TargetColumn("n", ColumnType(Kind.INTEGER, "bigint"))
PLACE = TargetColumn(f"{_OURS}tidymerge seeming place", ColumnType(Kind.INTEGER, "bigint"))
RANK = TargetColumn("r", ColumnType(Kind.INTEGER, "bigint"))


class ConstraintBroken(TargetError):
    """A statement met values that the database refuses; it is narrowed down to rows before anybody sees it.

    `constraint` is the name of the constraint, if the database told.
    """

    constraint: str | None = None


def quoted(name: str) -> str:
    """A name as an SQL identifier, whatever is in it (ISO SQL: double the quotes inside)."""
    return '"' + name.replace('"', '""') + '"'


def place_name(index: int | str) -> str:
    """The name in the staging table of the `index`th column that locates a record."""
    return f"{_PLACE}{index}"


def same_place(places: Sequence[str], record: str = "t", staged: str = "s") -> str:
    """The condition that finds the record `t` of a staged row `s`, by the columns that locate it."""
    return " AND ".join(
        f"{record}.{quoted(place)} = {staged}.{quoted(place_name(index))}" for index, place in enumerate(places)
    )


class Read(Struct, frozen=True):
    """Records as read: typed values, where they live, and which values are not of their column's type."""

    values: pa.Table
    places: pa.Table
    unreadable: Mapping[str, Mask] = field(default_factory=dict)


class Staged(Struct, frozen=True):
    """What goes into the staging table: a row a change, with the place of each record (null for a new one).

    `first` is the position of the first row. `changed` has a number for each row: the sum of the bits of the
    rewritable columns that change.
    """

    columns: tuple[TargetColumn, ...]
    values: pa.Table
    places: pa.Table
    first: int = 0
    changed: Indices | None = None

    @property
    def rows(self) -> int:
        """How many there are: a table without columns does not say."""
        return max(int(self.values.num_rows), int(self.places.num_rows))


class Inserted(Struct, frozen=True):
    """How many records were inserted, and the number of the first where they have numbers in the order of the rows."""

    count: int
    first: int | None = None


class Traits(Struct, frozen=True):
    """How a kind of database differs from others.

    `look_up_share`: below this share of the table it is faster to look up the incoming keys than to read the table.
    `join` starts at its left side, which is small. `locking` ends a query that locks the records `t` that it reads; it
    is empty where that is not needed. `moves`: an update moves a record away from its place, if that is no column of
    its own. `marks_text`: exact text starts with a letter that is not part of the value. `row_by_row`: foreign keys
    are tested after every row, not at the end of a statement. `whole_type` is the name, in a cast, of a type for whole
    numbers of any size. `rechecks`: every update is held to all checks, those of unchanged columns too. `untyped`: a
    column may hold values of other types than its own. `longest_key`: the most signs that a text in a key may have.
    """

    look_up_share: float
    whole_type: str
    join: str = "JOIN"
    locking: str = ""
    moves: bool = False
    marks_text: bool = False
    row_by_row: bool = False
    rechecks: bool = True
    untyped: bool = False
    longest_key: int | None = None


class Catalog(Protocol):
    """What there is in a database."""

    def find_table(self, name: str | None) -> str:
        """The table's own spelling of `name`, or the only table. Raises NoSuchTable and NotATable."""

    def tables(self) -> tuple[tuple[str, int, int], ...]:
        """The tables there are: name, rows and columns of each."""

    def address(self, table: str) -> str:
        """Where a table is, for people; never with a password."""

    def in_sql(self, table: str) -> str:
        """A table's name in SQL."""

    def describe(self, table: str) -> TableShape:
        """The shape of a table."""

    def places(self, shape: TableShape) -> tuple[TargetColumn, ...]:
        """The columns that find a record again; none where only the job's own key can."""

    def referring(self, table: str) -> list[ForeignKey]:
        """The foreign keys of all tables that refer to this one; `table` of each is the one that it stands in."""

    def suspects(self, table: str) -> list[str]:
        """What may change rows on its own there: triggers, rules and policies, by kind and name."""


class Queries(Protocol):
    """Rows of a query that somebody else wrote, on a database that can be kept from changing anything by it."""

    def read_only(self) -> None:
        """Begin a transaction that can't change anything, in place of any other."""

    def describe_query(self, source: str) -> tuple[TargetColumn, ...]:
        """The columns of a query, given as what stands after FROM."""


class Records(Protocol):
    """Reading records, and telling which texts are equal."""

    def estimate(self, table: str) -> int:
        """How many rows a table holds by the database's own statistics, exactly where it keeps none."""

    def read(
        self, columns: Sequence[TargetColumn], query: Query, places: Sequence[TargetColumn] = (), *, about: int = 0
    ) -> Read:
        """The result of `query`, in which the records are called `t`; most likely no more than `about` of them."""

    def read_in_batches(
        self, columns: Sequence[TargetColumn], query: Query, places: Sequence[TargetColumn]
    ) -> Iterator[Read]:
        """The same, a bounded number of records at a time."""

    def exact_text(self, column: TargetColumn, values: pa.Array) -> pa.Array | None:
        """The exact text of a column's typed values, if it follows from them."""

    def can_look_up(self, key: Sequence[TargetColumn]) -> bool:
        """Whether equal keys of these columns are always found by comparing them in SQL."""

    def put_keys(self, columns: Sequence[TargetColumn], keys: pa.Table) -> str:
        """Put keys into a temporary table with columns k0, k1…; its name in SQL.

        Keys that are one to the database are there once.
        """

    def equal_codes(self, column: TargetColumn, texts: pa.Array) -> pa.Array:
        """A number for each of the distinct texts, equal for those that the database takes for equal."""


class Staging(Protocol):
    """Temporary tables of changes."""

    def open_stage(self, columns: Sequence[TargetColumn], places: Sequence[TargetColumn], name: str = STAGE) -> str:
        """Make an empty staging table; its name in SQL."""

    def fill_stage(self, staged: Staged, name: str = STAGE) -> list[Refusal]:
        """Add rows to the staging table; those that the columns' types refuse are left out and returned."""

    def close_stage(self, name: str = STAGE) -> None:
        """All rows are in the staging table."""


class Statements(Protocol):
    """The statements that write, and running them.

    With the staging table `stage` and the target `hives`, an update of two columns is in SQLite's and PostgreSQL's SQL:

        UPDATE hives AS t SET honey = s.honey, notes = s.notes FROM stage AS s
        WHERE t.rowid = s.place_0 AND s.position BETWEEN 0 AND 41
    """

    def update(self, table: str, stage: str, settings: Mapping[str, str], where: str) -> str:
        """The statement that sets columns of the records `t` to values, in SQL, from the staged rows `s`."""

    def insert(self, shape: TableShape, stage: str, names: Sequence[str], where: str) -> str:
        """The statement that inserts staged rows."""

    def insert_placed(
        self, shape: TableShape, stage: str, names: Sequence[str], where: str, places: Sequence[str], rows: int
    ) -> Inserted:
        """Insert staged rows, at most so many, and note beside each where its record is.

        Not needed where the database numbers as many records as there may be rows without a gap, in their order.
        """

    def delete(self, table: str, stage: str, places: Sequence[str], where: str) -> str:
        """The statement that deletes the records of staged rows `s`, found by the columns `places`."""

    def change(self, statement: str) -> int:
        """Run a statement; how many rows it changed, those of triggers not counted."""

    def savepoint(self, name: str = "narrowing") -> AbstractContextManager[None]:
        """Undo what happens inside if it raises ConstraintBroken. One inside of another needs another name."""


class Alterations(Protocol):
    """Tables and columns that come and go."""

    def new_in_sql(self, name: str) -> str:
        """The name in SQL that a new table would have."""

    def create_table(self, name: str, columns: Sequence[tuple[str, str, bool]], key: Sequence[str]) -> None:
        """Make a table of columns, given by name, SQL type, and whether they may not be empty, and a primary key.

        It goes again with what is not committed.
        """

    def drop_table(self, table: str) -> None:
        """Take a table away, with the commit."""

    def type_for(self, column: ColumnType) -> str:
        """The type, in SQL, of a new column that is to hold such values."""

    def new_columns(self, table: str, columns: Sequence[tuple[str, str]]) -> tuple[TargetColumn, ...]:
        """What columns of that name and SQL type would be, if a table had them."""

    def nothing(self, kind: str) -> str:
        """A null of an SQL type."""

    def add_columns(self, table: str, columns: Sequence[tuple[str, str]]) -> None:
        """Add columns of that name and SQL type to a table. They go again with what is not committed."""

    def complete_columns(self, table: str, columns: Sequence[tuple[str, Definition]]) -> tuple[str, ...]:
        """Give columns, by name, all of their definition once they have their values. What can't be, in words."""

    def definitions(self, table: str, names: Sequence[str]) -> list[Definition]:
        """How the database declares columns."""

    def depending(self, table: str, names: Sequence[str]) -> list[str]:
        """What needs columns of a table, in words."""

    def drop_columns(self, table: str, names: Sequence[str], *, alone: bool) -> None:
        """Take columns away from a table, with the commit. `alone`: they must still hold what was read of them."""


class Transaction(Protocol):
    """One transaction, from its locks to its end."""

    def claim(self, table: str, *, firmly: bool = False) -> bool:
        """Before anything of the table is read: keep other loads out of it until the end of the transaction.

        `firmly` keeps out all who write. Whether nobody else can write to it now.
        """

    def lock(self, columns: Sequence[TargetColumn], query: Query, then: Existing, records: Indices) -> bool:
        """Lock the records that `query` gives, in the order of `records` of `then`; whether they are still the same."""

    def commit(self) -> tuple[str, ...]:
        """Make the writes last. What could not be put in order after that, in words."""

    def break_off(self) -> None:
        """Let a read in another thread end: the connection is of no use then. It never fails."""

    def close(self) -> None:
        """Roll back whatever was not committed, and close."""


class Database(Catalog, Queries, Records, Staging, Statements, Alterations, Transaction, Protocol):
    """One connection to one database, in one transaction, and its own ways of saying things in SQL.

    All methods raise a TargetError in place of the driver's own errors, ConstraintBroken where values are at fault.
    """

    traits: Traits

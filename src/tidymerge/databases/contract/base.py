"""What SQL databases do alike. Each overrides what it does in its own way."""

from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Generic, Protocol, TypeVar

import numpy as np
import pyarrow as pa

from tidymerge.databases.contract.database import NUMBER, POSITION, RANK, STAGE, Database, Query, quoted
from tidymerge.databases.contract.exact import plain_text
from tidymerge.databases.contract.lines import filled, ranked, sql_type
from tidymerge.databases.contract.new_columns import adding, creating, dropping, type_in_sql
from tidymerge.databases.contract.transaction import commit, savepoint
from tidymerge.model import ColumnType, Existing, Indices, Kind, TableShape, TargetColumn

TEXTS = "tidymerge texts"


class Session(Protocol):
    """A connection that runs statements."""

    def run(self, statement: str) -> int:
        """Run a statement; how many rows it changed."""

    def break_off(self) -> None:
        """Let a statement in another thread end."""

    def close(self) -> None:
        """Roll back whatever was not committed, and close."""


S = TypeVar("S", bound=Session)


class SqlDatabase(Database, Generic[S]):
    """The common part of the databases; `new_types` are the types of new columns, DECIMAL and TEXT without sizes."""

    new_types: Mapping[Kind, str]
    _session: S

    def change(self, statement: str) -> int:
        """Run a statement; how many rows it changed."""
        return self._session.run(statement)

    def savepoint(self, name: str = "narrowing") -> AbstractContextManager[None]:
        """Undo what happens inside if it raises ConstraintBroken."""
        return savepoint(self._session.run, name)

    def exact_text(self, column: TargetColumn, values: pa.Array) -> pa.Array | None:
        """The exact text of typed values, as servers show them."""
        return plain_text(column, values)

    def can_look_up(self, key: Sequence[TargetColumn]) -> bool:
        """The server compares by the columns' own types and collations."""
        return True

    def equal_codes(self, column: TargetColumn, texts: pa.Array) -> pa.Array:
        """Distinct texts, ranked by the server: those that it takes for equal rank alike."""
        table = self._make_texts(f"(n bigint, v {sql_type(column)})")
        rows = pa.table({"n": pa.array(np.arange(len(texts)).astype(str)), "v": texts})
        filled(lambda part: self._put_texts(table, part), self.savepoint, rows, 0)
        query = f"SELECT n, dense_rank() OVER (ORDER BY v) AS r FROM {table}"
        return ranked(texts, self.read([NUMBER, RANK], lambda _: query).values)

    def _make_texts(self, columns: str) -> str:
        """Make a temporary table for texts in place of any earlier one; its name in SQL."""
        raise NotImplementedError

    def _put_texts(self, table: str, rows: pa.Table) -> None:
        """Append rows of the columns n and v."""
        raise NotImplementedError

    def close_stage(self, name: str = STAGE) -> None:
        """Nothing is left to do."""

    def update(self, table: str, stage: str, settings: Mapping[str, str], where: str) -> str:
        """The statement that sets columns of the records `t` to values, in SQL, from the staged rows `s`."""
        listed = ", ".join(f"{quoted(name)} = {value}" for name, value in settings.items())
        return f"UPDATE {table} AS t SET {listed} FROM {stage} AS s WHERE {where}"

    def insert(self, shape: TableShape, stage: str, names: Sequence[str], where: str) -> str:
        """The statement that inserts staged rows."""
        listed = ", ".join(quoted(name) for name in names)
        source = f"SELECT {listed} FROM {stage} s WHERE {where} ORDER BY s.{quoted(POSITION)}"
        return f"INSERT INTO {self.in_sql(shape.name)} ({listed}) {self._overriding(shape, names)}{source}"

    def _overriding(self, shape: TableShape, names: Sequence[str]) -> str:
        """What an insert says of columns that the table would number by itself."""
        return ""

    def lock(self, columns: Sequence[TargetColumn], query: Query, then: Existing, records: Indices) -> bool:
        """Nothing is left to do: the records are locked already, or when they are updated."""
        return True

    def type_for(self, column: ColumnType) -> str:
        """The type, in SQL, of a new column that is to hold such values."""
        return type_in_sql(column, self.new_types)

    def nothing(self, kind: str) -> str:
        """A null, which has no type here."""
        return "NULL"

    def new_in_sql(self, name: str) -> str:
        """The name in SQL that a new table would have."""
        raise NotImplementedError

    def create_table(self, name: str, columns: Sequence[tuple[str, str, bool]], key: Sequence[str]) -> None:
        """Make a table, within the transaction."""
        self._session.run(creating(self.new_in_sql(name), columns, key))

    def drop_table(self, table: str) -> None:
        """Take a table away, within the transaction."""
        self._session.run(f"DROP TABLE {self.in_sql(table)}")

    def add_columns(self, table: str, columns: Sequence[tuple[str, str]]) -> None:
        """Add columns, within the transaction."""
        for statement in adding(self.in_sql(table), columns):
            self._session.run(statement)

    def drop_columns(self, table: str, names: Sequence[str], *, alone: bool) -> None:
        """Take columns away, within the transaction."""
        for statement in dropping(self.in_sql(table), names):
            self._session.run(statement)

    def commit(self) -> tuple[str, ...]:
        """Make the writes last."""
        commit(self._session.run)
        return ()

    def break_off(self) -> None:
        """Let a read in another thread end: the connection is of no use then."""
        self._session.break_off()

    def close(self) -> None:
        """Roll back whatever was not committed, and close."""
        self._session.close()

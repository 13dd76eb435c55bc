"""Incoming rows in a server's table: over the target's own connection, or over one of their own."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.address import Address
from tidymerge.core.tidy.cells import as_array
from tidymerge.databases.contract.reading import numbers
from tidymerge.formats.records import simplified
from tidymerge.formats.table import as_incoming
from tidymerge.model import ColumnType, Incoming, IncomingColumn, Kind, TargetColumn
from tidymerge.ports.source import Irregular
from tidymerge.sources.newer import Newer, newer_rows

if TYPE_CHECKING:
    from tidymerge.databases.contract.database import Database, Read

_SAMPLE = 1000  # records


class ServerSource:
    """The rows of a table (`postgresql://…/coop#staging.inspections`). `database` stays open."""

    def __init__(self, database: "Database", address: Address, newer: Newer | None = None) -> None:
        self._database = database
        self.sheet: str | None = None
        self.above = 0
        self.notes: tuple[str, ...] = ()
        table = database.find_table(address.fragment)
        self._columns = database.describe(table).columns
        self._from = f"{database.in_sql(table)} t{newer_rows(newer, self._columns)}"
        self.address = database.address(table)
        self.rows_expected = int(numbers(database.read, f"SELECT count(*) AS n FROM {self._from}")[0])

    def sheets(self) -> tuple[tuple[str, int, int], ...]:
        """None: it is one table."""
        return ()

    def head(self, rows: int) -> list[list[str]]:
        """The column names, where a sheet would have its header."""
        return [[column.name for column in self._columns]]

    def read(self, header_row: int) -> Incoming:
        """All records that are not wholly blank."""
        found = self._database.read(self._columns, self._query)
        if found.unreadable:  # such as infinite dates: as text they are rejected with their rows, not lost
            plain = [_as_text(column) if column.name in found.unreadable else column for column in self._columns]
            found = self._database.read(plain, self._query)
        return self._incoming(found, 1)

    def sample(self, header_row: int) -> Incoming:
        """The first records."""
        found = self._database.read(self._columns, lambda expressions: f"{self._query(expressions)} LIMIT {_SAMPLE}")
        return self._incoming(found, 1)

    def batches(self, header_row: int) -> Iterator[Incoming]:
        """All records, some megabytes at a time. Raises Irregular where one holds what its type here can't."""
        number = 1
        for found in self._database.read_in_batches(self._columns, self._query, ()):
            if found.unreadable:
                raise Irregular
            yield self._incoming(found, number)
            number += found.values.num_rows

    def _query(self, expressions: Sequence[str]) -> str:
        return f"SELECT {', '.join(expressions)} FROM {self._from}"

    def _incoming(self, found: "Read", first: int) -> Incoming:
        columns = [IncomingColumn(column.name, (_cells(found.values, column),)) for column in self._columns]
        numbers = np.arange(first, first + found.values.num_rows, dtype=np.int64)
        return as_incoming(columns, numbers, all_columns=True, address=self.address, header_row=0, sheet=None)


class OwnServerSource:
    """The same over connections of its own: each reading makes one and ends it."""

    def __init__(self, connect: "Callable[[], Database]", address: Address, newer: Newer | None = None) -> None:
        self._connect, self._place, self._newer = connect, address, newer
        self.sheet: str | None = None
        self.above = 0
        self.notes: tuple[str, ...] = ()
        with self._connected() as source:
            self.address, self.rows_expected, self._head = source.address, source.rows_expected, source.head(1)

    @contextmanager
    def _connected(self) -> "Iterator[ServerSource]":
        database = self._connect()
        try:
            yield ServerSource(database, self._place, self._newer)
        finally:
            database.close()

    def sheets(self) -> tuple[tuple[str, int, int], ...]:
        """None: it is one table."""
        return ()

    def head(self, rows: int) -> list[list[str]]:
        """The column names, where a sheet would have its header."""
        return self._head

    def read(self, header_row: int) -> Incoming:
        """All records that are not wholly blank."""
        with self._connected() as source:
            return source.read(header_row)

    def sample(self, header_row: int) -> Incoming:
        """The first records."""
        with self._connected() as source:
            return source.sample(header_row)

    def batches(self, header_row: int) -> Iterator[Incoming]:
        """All records, some megabytes at a time."""
        with self._connected() as source:
            yield from source.batches(header_row)


def _as_text(column: TargetColumn) -> TargetColumn:
    return replace(column, type=ColumnType(Kind.TEXT, column.type.declared))


def _cells(values: pa.Table, column: TargetColumn) -> pa.Array:
    return simplified(as_array(values[column.name]))

"""Queries as incoming rows: checked to be one that only reads; on a server run once, and kept in a file meanwhile."""

import tempfile
import weakref
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
import sqlglot
from msgspec.structs import replace
from sqlglot import exp

from tidymerge.address import Address
from tidymerge.core.expressions.wrong_syntax import said
from tidymerge.core.tidy.cells import as_array
from tidymerge.errors import BadOption
from tidymerge.formats.records import simplified
from tidymerge.formats.table import as_incoming
from tidymerge.model import ColumnType, Incoming, IncomingColumn, Kind, TargetColumn
from tidymerge.sources.newer import Newer, newer_rows

if TYPE_CHECKING:
    from tidymerge.databases.contract.database import Database

_CHANGES = (exp.DML, exp.DDL, exp.Into, exp.Command, exp.Drop, exp.Alter, exp.Set, exp.Lock)
_DIALECTS = {"postgresql": "postgres", "mariadb": "mysql", "mysql": "mysql"}
# Of other kinds the server may hold values that ours can't, such as infinite dates: these are read as exact text.
_AS_THEY_ARE = (Kind.INTEGER, Kind.FLOAT, Kind.BOOLEAN, Kind.TEXT, Kind.BINARY)
_MEMORY = 64 << 20  # bytes of rows that are not worth a file


def only_reads(query: str, scheme: str = "sqlite") -> str:
    """The text of one query that changes nothing, without a semicolon at its end. Raises BadOption.

    What a function does that the query calls is the person's affair.
    """
    text = query.strip().rstrip(";").strip()
    try:
        trees = [tree for tree in sqlglot.parse(text, read=_DIALECTS.get(scheme, "sqlite")) if tree is not None]
    except (sqlglot.errors.SqlglotError, RecursionError) as error:
        raise BadOption(f"The query can't be understood: {said(error)}. It is one select, with or values.") from None
    if len(trees) != 1 or not isinstance(trees[0], exp.Query | exp.Values):
        raise BadOption("A query is one statement that starts with select, with or values.")
    if changing := next(trees[0].find_all(*_CHANGES), None):
        raise BadOption(f"A query only reads; this one has {changing.key.upper()} in it.")
    return text


def tables_read(query: str, scheme: str = "sqlite") -> tuple[str, ...]:
    """The tables that a query reads, as it names them."""
    tree = sqlglot.parse_one(query, read=_DIALECTS.get(scheme, "sqlite"))
    own = {one.alias_or_name for one in tree.find_all(exp.CTE)}
    found = (".".join(part.name for part in table.parts) for table in tree.find_all(exp.Table))
    return tuple(dict.fromkeys(name for name in found if name and name not in own))


class QuerySource:
    """The rows of a query on a server: run once, in a transaction that only reads, over a connection of its own."""

    def __init__(
        self, connect: "Callable[[], Database]", address: Address, query: str, newer: Newer | None = None
    ) -> None:
        scheme = (address.server or "").partition("://")[0].lower()
        text = only_reads(query, scheme)
        self.reads = tables_read(text, scheme)
        self.address = f"{address.place}#query"
        self.sheet: str | None = None
        self.above = 0
        self.notes: tuple[str, ...] = ()
        self.rows_expected = 0
        self._file = tempfile.SpooledTemporaryFile(_MEMORY)  # noqa: SIM115 - it lives as long as the source
        weakref.finalize(self, self._file.close)
        database = connect()
        try:
            source = f"(\n{text}\n) t"
            told = database.describe_query(source)
            self._columns = [_exact(column) for column in told]
            database.read_only()
            self._keep(database, f"{source}{newer_rows(newer, told)}")
        finally:
            database.close()

    def _keep(self, database: "Database", source: str) -> None:
        writer = None
        listed = database.read_in_batches(
            self._columns, lambda expressions: f"SELECT {', '.join(expressions)} FROM {source}", ()
        )
        for found in listed:
            if found.unreadable:
                raise AssertionError(f"{self.address} has values that its columns can't hold")
            arrays = [simplified(as_array(column)) for column in found.values.columns]
            table = pa.table(arrays, [str(at) for at in range(len(arrays))])  # a query may give a name twice
            writer = writer or pa.ipc.new_stream(self._file, table.schema)
            writer.write_table(table)
            self.rows_expected += table.num_rows
        if writer is not None:
            writer.close()

    def sheets(self) -> tuple[tuple[str, int, int], ...]:
        """None: it is one table."""
        return ()

    def head(self, rows: int) -> list[list[str]]:
        """The column names, where a sheet would have its header."""
        return [[column.name for column in self._columns]]

    def read(self, header_row: int) -> Incoming:
        """All records that are not wholly blank."""
        tables = list(self._tables())
        return self._incoming(pa.concat_tables(tables).combine_chunks() if tables else None, 1)

    def sample(self, header_row: int) -> Incoming:
        """The first records."""
        return self._incoming(next(self._tables(), None), 1)

    def batches(self, header_row: int) -> Iterator[Incoming]:
        """All records, some megabytes at a time."""
        number = 1
        for table in self._tables():
            yield self._incoming(table, number)
            number += table.num_rows

    def _tables(self) -> Iterator[pa.Table]:
        if not self.rows_expected:
            return
        self._file.seek(0)
        with pa.ipc.open_stream(pa.PythonFile(self._file, "r")) as reader:
            for batch in reader:
                yield pa.Table.from_batches([batch])

    def _incoming(self, table: pa.Table | None, first: int) -> Incoming:
        parts: Sequence[pa.Array] = [pa.nulls(0, pa.string())] * len(self._columns)
        if table is not None:
            parts = [as_array(column) for column in table.columns]
        columns = [IncomingColumn(column.name, (part,)) for column, part in zip(self._columns, parts, strict=True)]
        numbers = np.arange(first, first + (0 if table is None else table.num_rows), dtype=np.int64)
        return as_incoming(
            columns, numbers, all_columns=True, address=self.address, header_row=0, sheet=None, reads=self.reads
        )


def _exact(column: TargetColumn) -> TargetColumn:
    if column.type.kind in _AS_THEY_ARE:
        return column
    return replace(column, type=ColumnType(Kind.TEXT, column.type.declared))

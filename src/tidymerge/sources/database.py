"""A table or a query in a SQLite file as incoming rows, over a connection of its own that only reads."""

import pyarrow as pa

from tidymerge.address import Address
from tidymerge.databases.contract.database import ConstraintBroken, quoted
from tidymerge.databases.sqlite.describe import find_table
from tidymerge.databases.sqlite.session import Session
from tidymerge.errors import BadOption
from tidymerge.formats.records import Records, table_to_columns
from tidymerge.model import IncomingColumn, ReadOptions
from tidymerge.sources.query import only_reads, tables_read


class DatabaseSource(Records):
    """The rows of a table (`coop.db#hives`) or of a query."""

    def __init__(self, address: Address, options: ReadOptions) -> None:
        session = Session(address.path, write=False)
        try:
            if options.query is None:
                name = find_table(session, address.fragment)
                columns, rows = _read(session, f"SELECT * FROM main.{quoted(name)}")
            else:
                name = "query"
                columns, rows = _read(session, f"SELECT * FROM (\n{only_reads(options.query)}\n)")
        finally:
            session.close()
        reads = () if options.query is None else tables_read(options.query)
        super().__init__(f"{address.path}#{name}", columns, rows, reads)


def _read(session: Session, query: str) -> tuple[list[IncomingColumn], int]:
    """All rows of a query. A column of texts is read again in an exact form, for it may hold numbers too."""
    try:
        table = session.table(query)
    except ConstraintBroken as error:  # cannot be, for reading
        raise BadOption(f"The query failed: {error}.") from None
    names = table.column_names
    mixed = {name for name in names if pa.types.is_string(table[name].type) or pa.types.is_binary(table[name].type)}
    if mixed and len(set(names)) == len(names):
        listed = ", ".join(_exact(name) if name in mixed else quoted(name) for name in names)
        table = session.table(f"SELECT {listed} FROM ({query})")
    return table_to_columns(table), table.num_rows


def _exact(name: str) -> str:
    column = quoted(name)
    return f"CASE typeof({column}) WHEN 'blob' THEN '0x' || hex({column}) ELSE CAST({column} AS TEXT) END AS {column}"

"""Files that we wrote and that come back corrected: rejects, and marked copies as text."""

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.naming.mapping import fold
from tidymerge.core.tidy.convert import as_text
from tidymerge.core.tidy.tidying import unguard
from tidymerge.model import Incoming, IncomingColumn

# Our columns beside the incoming ones: of the rejects, and of the marked copy.
ROW, WHY, TABLE = "rejected: row", "rejected: why", "rejected: table"
MARKS = ("load: status", "load: why", "load: changed", "load: key", "load: time")
GUARDED = "load: guarded"  # only in text: there a guard stands before what a spreadsheet would run


def corrected(incoming: Incoming) -> Incoming:
    """The rows without our own columns, and without the guards that we put there."""
    names = {column.name for column in incoming.columns}
    if not names & {WHY, MARKS[0]}:
        return incoming
    guarded = bool(names & {WHY, GUARDED})
    return replace(
        incoming,
        columns=tuple(
            _unguarded(column) if guarded else column
            for column in incoming.columns
            if column.name not in (ROW, WHY, TABLE, *MARKS, GUARDED)
        ),
        corrected=WHY in names,
    )


def of_table(incoming: Incoming, table: str) -> Incoming:
    """The rejects of one table, where the file has those of several."""
    names = {column.name for column in incoming.columns}
    if TABLE not in names:
        return incoming
    mine = [fold(name or "") == fold(table) for name in tables_of(incoming)]
    return incoming.only(np.flatnonzero(mine))


def tables_of(incoming: Incoming) -> list[str | None]:
    """The table of each rejected row."""
    found: list[str | None] = unguard(as_text(incoming.column(TABLE))).to_pylist()
    return found


def _unguarded(column: IncomingColumn) -> IncomingColumn:
    name = unguard(pa.array([column.name]))[0].as_py()
    return replace(
        column,
        name=name,
        arrays=tuple(unguard(array) if pa.types.is_string(array.type) else array for array in column.arrays),
    )

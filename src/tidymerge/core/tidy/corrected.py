"""Files that we wrote and that come back corrected: rejects, and marked copies as text."""

import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.tidy.tidying import unguard
from tidymerge.model import Incoming, IncomingColumn

# Our columns beside the incoming ones: of the rejects, and of the marked copy.
ROW, WHY = "rejected: row", "rejected: why"
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
            if column.name not in (ROW, WHY, *MARKS, GUARDED)
        ),
        corrected=WHY in names,
    )


def _unguarded(column: IncomingColumn) -> IncomingColumn:
    name = unguard(pa.array([column.name]))[0].as_py()
    return replace(
        column,
        name=name,
        arrays=tuple(unguard(array) if pa.types.is_string(array.type) else array for array in column.arrays),
    )

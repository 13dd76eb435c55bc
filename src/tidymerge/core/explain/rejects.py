"""The rejected rows as a table that can be corrected and loaded again."""

import numpy as np
import pyarrow as pa

from tidymerge.core.account.account import first_flaws
from tidymerge.core.tidy.convert import as_text
from tidymerge.core.tidy.corrected import ROW, WHY
from tidymerge.core.tidy.tidying import guard
from tidymerge.model import Flaw, Incoming, Indices
from tidymerge.model.changes import ChangeSet
from tidymerge.model.receipt import RejectedCell


def rejects_table(incoming: Incoming, changes: ChangeSet) -> pa.Table:
    """The rejected rows as they arrived, as text, with their row number and what is wrong with each at the end.

    Cells that a spreadsheet would run as a formula are guarded; `corrected` takes the guard away.
    """
    rows = rejected_rows(changes)
    arrays = [guard(as_text(column).take(pa.array(rows))) for column in incoming.columns]
    arrays += [
        pa.array([incoming.place(row) for row in rows.tolist()], pa.string()),
        guard(pa.array(complaints(changes, rows), pa.string())),
    ]
    return pa.Table.from_arrays(arrays, [*(column.name for column in incoming.columns), ROW, WHY])


def rejected_rows(changes: ChangeSet) -> Indices:
    """The rejected rows, as indices into the incoming rows."""
    return np.flatnonzero(first_flaws(changes)[: changes.rows] >= 0)


def complaints(changes: ChangeSet, rows: np.ndarray) -> np.ndarray:
    """All that is wrong with each of `rows`, in one sentence a flaw."""
    place = np.full(len(changes.outcomes), -1, np.int64)
    place[rows] = np.arange(len(rows))
    texts = np.full(len(rows), "", object)
    for flaw in changes.flaws:
        said = np.array(complaint_texts(flaw), object)
        at = place[flaw.rows]
        texts[at] = np.where(texts[at] == "", said, texts[at] + "; " + said)
    return texts


def complaint_texts(flaw: Flaw) -> list[str]:
    """What is wrong, a text a row of the flaw: column and value, reason, what was expected."""
    end = f"{flaw.reason.value}, expected {flaw.expected}"
    if flaw.values is None:
        return [f"{flaw.column}: {end}" if flaw.column else end] * len(flaw.rows)
    return [f"{flaw.column or 'row'} {value!r}: {end}" for value in flaw.values.to_pylist()]


def first_rejects(incoming: Incoming, changes: ChangeSet, each: int) -> tuple[RejectedCell, ...]:
    """The first `each` rejected cells for each reason that a row counts under, in row order."""
    first = first_flaws(changes)
    seen: dict[str, int] = {}
    cells = []
    for index, flaw in enumerate(changes.flaws):
        counted = np.flatnonzero(first[flaw.rows] == index)
        in_order = counted[np.argsort(flaw.rows[counted], kind="stable")]  # a database names rows in its own order
        for at in in_order[: each - seen.get(flaw.reason, 0)].tolist():
            seen[flaw.reason] = seen.get(flaw.reason, 0) + 1
            value = flaw.values[at].as_py() if flaw.values is not None else None
            row = int(incoming.row_numbers[flaw.rows[at]])
            origin = None if incoming.origin is None else incoming.origins[incoming.origin[flaw.rows[at]]]
            record = incoming.record(int(flaw.rows[at]))
            cells.append(RejectedCell(row, flaw.column, value, flaw.reason.value, flaw.expected, origin, record))
    return tuple(sorted(cells, key=lambda cell: (cell.origin or "", cell.row)))

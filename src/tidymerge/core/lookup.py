"""Look-ups: a name stands where an id belongs, and the table that has both says which id is meant."""

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import as_array, valid
from tidymerge.core.convert import as_text, cast_cells
from tidymerge.core.match import Equal, code_keys, folded_alike, match
from tidymerge.model import Flaw, IncomingColumn, Indices, Reason, TargetColumn
from tidymerge.rules import Find


@dataclass(frozen=True, slots=True)
class LookUp:
    """A table to look up in: the column sought, the column taken, and both for every record."""

    find: Find
    where: TargetColumn
    take: TargetColumn
    values: pa.Table
    equal: Equal = folded_alike


def look_up(parts: tuple[pa.Array, ...], table: LookUp, name: str, rows: int) -> tuple[pa.Array, list[Flaw]]:
    """The taken value for each row, null where nothing is found; and the rows for which that is a flaw."""
    cells = as_text(IncomingColumn("", parts)) if parts else pa.nulls(rows, pa.string())
    sought = cast_cells(list(parts), table.where.type, rows).values
    pairs = table.values.filter(pc.is_valid(table.values[table.find.where])).group_by(table.values.column_names)
    records = pairs.aggregate([])
    where = records.select([table.find.where])
    codes = code_keys(pa.table({table.find.where: sought}), where, [table.where], table.equal)
    found = match(codes)
    taken = as_array(records[table.find.take]).take(pa.array(found.record, mask=found.record < 0))
    given = valid(cells)
    flaws: list[Flaw] = []
    if not table.find.missing_is_null:
        flaws += _flaws(
            given & (found.times == 0), cells, name, f"a value found in {table.find.table} ({table.find.where})"
        )
    twice = given & (found.times > 1)
    flaws += _flaws(
        twice, cells, name, f"a value found in {table.find.table} ({table.find.where}) once, not several times"
    )
    once = pa.array(found.times == 1)
    return pc.if_else(once, taken, pa.scalar(None, taken.type)), flaws


def _flaws(mask: np.ndarray, cells: pa.Array, name: str, wanted: str) -> list[Flaw]:
    rows: Indices = np.flatnonzero(mask)
    return [Flaw(Reason.NO_SUCH_RECORD, rows, wanted, name, cells.take(pa.array(rows)))] if len(rows) else []

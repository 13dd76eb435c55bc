"""Look-ups: a name stands where an id belongs, and the table that has both says which id is meant."""

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.match.match import Equal, code_keys, folded_alike, match
from tidymerge.core.tidy.cells import as_array, by_distinct, valid
from tidymerge.core.tidy.convert import as_text, cast_cells
from tidymerge.model import Flaw, IncomingColumn, Indices, Mask, Pair, Reason, TargetColumn
from tidymerge.model.rules import Find


@dataclass(frozen=True, slots=True)
class LookUp:
    """A table to look up in: the column sought, the column taken, and both for every record."""

    find: Find
    where: TargetColumn
    take: TargetColumn
    values: pa.Table
    equal: Equal = folded_alike


@dataclass(frozen=True, slots=True)
class Found:
    """The taken value for each row, null if none is found; the rows that are flawed; those where it is missing."""

    values: pa.Array
    flaws: tuple[Flaw, ...]
    missing: Mask


def look_up(parts: tuple[pa.Array, ...], table: LookUp, pair: Pair, rows: int) -> Found:
    """The value of each row's cells sought in the table."""
    cells = as_text(IncomingColumn("", parts)) if parts else pa.nulls(rows, pa.string())
    sought = cast_cells(list(parts), table.where.type, rows).values
    pairs = table.values.filter(pc.is_valid(table.values[table.find.where])).group_by(table.values.column_names)
    records = pairs.aggregate([])
    where = records.select([table.find.where])
    if table.find.fold_case and pa.types.is_string(sought.type):
        sought = by_distinct(sought, str.casefold, pa.string())
        where = pa.table({table.find.where: by_distinct(as_array(where[table.find.where]), str.casefold, pa.string())})
    codes = code_keys(pa.table({table.find.where: sought}), where, [table.where], table.equal)
    found = match(codes)
    taken = as_array(records[table.find.take]).take(pa.array(found.record, mask=found.record < 0))
    given = valid(cells)
    place = f"{table.find.table} ({table.find.where})"
    missing, twice = given & (found.times == 0), given & (found.times > 1)
    flaws = _flaws(Reason.SEVERAL_FOUND, twice, cells, pair, f"a value that stands once in {place}")
    if not table.find.missing_is_null:
        flaws += _flaws(Reason.NO_SUCH_RECORD, missing, cells, pair, f"a value found in {place}")
    once = pa.array(found.times == 1)
    return Found(pc.if_else(once, taken, pa.scalar(None, taken.type)), tuple(flaws), missing)


def _flaws(reason: Reason, mask: np.ndarray, cells: pa.Array, pair: Pair, wanted: str) -> list[Flaw]:
    rows: Indices = np.flatnonzero(mask)
    values = cells.take(pa.array(rows))
    return [Flaw(reason, rows, wanted, pair.incoming, values, pair.rule.sources)] if len(rows) else []

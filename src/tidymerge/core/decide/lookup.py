"""Look-ups: a name stands where an id belongs, and the table that has both says which id is meant."""

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.coming import Coming, of_rejected_parents
from tidymerge.core.match.match import Equal, by_number, code_keys, folded_alike, match, texts_to_tell
from tidymerge.core.tidy.cells import as_array, by_distinct, valid
from tidymerge.core.tidy.convert import as_text, cast_cells
from tidymerge.model import EqualTexts, Flaw, IncomingColumn, Indices, Mask, Pair, Reason, TargetColumn
from tidymerge.model.rules import Find


class LookUp(Struct, frozen=True):
    """A table to look up in: the column sought, the column taken, and both for every record.

    `equal` says which texts of the column sought are equal, where only the database knows. What no record has may be
    `coming` by the same run.
    """

    find: Find
    where: TargetColumn
    take: TargetColumn
    values: pa.Table
    equal: EqualTexts | None = None
    coming: Coming | None = None


class Sought(Struct, frozen=True):
    """Cells that are sought in a table, as texts and as the column has them, and where that column's records are.

    What none of them has may be `coming` by the same run.
    """

    cells: pa.Array
    values: pa.Array
    records: pa.Table
    where: pa.Table
    coming: Coming | None = None

    def texts(self, column: TargetColumn) -> pa.Array | None:
        """The distinct texts of which only the database knows which are equal, if it is so."""
        coming = [] if self.coming is None else [self.coming.where, self.coming.rejected]
        sides = [self.values, as_array(self.where.column(0)), *coming]
        return texts_to_tell([pa.table({column.name: side}) for side in sides], [column]).get(column.name)


class Found(Struct, frozen=True):
    """The taken value for each row, null if none is found; the rows that are flawed; those where it is missing."""

    values: pa.Array
    flaws: tuple[Flaw, ...]
    missing: Mask


def seek(arrays: tuple[pa.Array, ...], table: LookUp, rows: int) -> Sought:
    """The cells of `rows` rows, ready to be sought in the table."""
    cells = as_text(IncomingColumn("", arrays)) if arrays else pa.nulls(rows, pa.string())
    sought = cast_cells(list(arrays), table.where.type, rows).values
    pairs = table.values.filter(pc.is_valid(table.values[table.find.where])).group_by(table.values.column_names)
    records = pairs.aggregate([])
    where = records.select([table.find.where])
    if table.find.fold_case and pa.types.is_string(sought.type):
        sought = by_distinct(sought, str.casefold, pa.string())
        where = pa.table({table.find.where: by_distinct(as_array(where[table.find.where]), str.casefold, pa.string())})
    return Sought(cells, sought, records, where, _coming(table))


def _coming(table: LookUp) -> Coming | None:
    """What comes by the same run, in the letter case in which it is sought."""
    coming = table.coming
    if coming is None or not (table.find.fold_case and pa.types.is_string(coming.where.type)):
        return coming
    both = (by_distinct(texts, str.casefold, pa.string()) for texts in (coming.where, coming.rejected))
    return replace(coming, **dict(zip(("where", "rejected"), both, strict=True)))


def look_up(sought: Sought, table: LookUp, pair: Pair) -> Found:
    """The value of each row's cells sought in the table."""
    equal = folded_alike if table.equal is None else by_number({table.where.name: table.equal})
    codes = code_keys(pa.table({table.find.where: sought.values}), sought.where, [table.where], equal)
    found = match(codes)
    taken = as_array(sought.records[table.find.take]).take(pa.array(found.record, mask=found.record < 0))
    given = valid(sought.cells)
    place = f"{table.find.table} ({table.find.where})"
    missing, twice = given & (found.times == 0), given & (found.times > 1)
    flaws: list[Flaw] = []
    if sought.coming is not None and missing.any():
        coming = sought.coming
        rows, several, rejected = _among_coming(sought.values, coming, table.where, equal)
        here = missing & (rows >= 0) & ~several
        taken = pc.if_else(pa.array(here), coming.take.take(pa.array(rows, mask=~here)), taken)
        lost = np.flatnonzero(missing & (rows < 0) & (rejected >= 0))
        if len(lost):
            numbers = coming.rejected_numbers[rejected[lost]]
            flaws.append(of_rejected_parents(pair, lost, table.find.table, numbers))
        twice |= missing & several
        missing &= (rows < 0) & (rejected < 0)
        found = replace(found, times=np.where(here, 1, found.times))
    flaws += _flaws(Reason.SEVERAL_FOUND, twice, sought.cells, pair, f"a value that stands once in {place}")
    if not table.find.missing_is_null:
        flaws += _flaws(Reason.NO_SUCH_RECORD, missing, sought.cells, pair, f"a value found in {place}")
    once = pa.array(found.times == 1)
    return Found(pc.if_else(once, taken, pa.scalar(None, taken.type)), tuple(flaws), missing)


def _among_coming(
    sought: pa.Array, coming: Coming, column: TargetColumn, equal: Equal
) -> tuple[Indices, Mask, Indices]:
    """For each cell the record of the run that has it, or -1; where several do; and the rejected row that does."""
    found = []
    for side in (coming.where, coming.rejected):
        codes = code_keys(pa.table({column.name: sought}), pa.table({column.name: side}), [column], equal)
        first = np.full(codes.size + 1, -1, np.int64)
        known = np.flatnonzero(codes.existing >= 0)[::-1]
        first[codes.existing[known]] = known
        found.append((first[codes.incoming], match(codes).times > 1))
    (rows, several), (rejected, _) = found
    return rows, several & (not coming.repeat), rejected


def _flaws(reason: Reason, mask: np.ndarray, cells: pa.Array, pair: Pair, wanted: str) -> list[Flaw]:
    rows: Indices = np.flatnonzero(mask)
    values = cells.take(pa.array(rows))
    return [Flaw(reason, rows, wanted, pair.incoming, values, pair.rule.sources)] if len(rows) else []

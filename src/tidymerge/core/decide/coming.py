"""Records that come by the same run, as look-ups see them before they are written.

The database may give their ids itself. Until it has, numbers that no record has stand for them.
"""

from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.match.match import KeyCodes, code_rows, match
from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.errors import BadOption
from tidymerge.model import Flaw, ForeignKey, Indices, Kind, Pair, Pairing, Reason, TargetColumn
from tidymerge.model.changes import ChangeSet, Outcome

_FAR = 2**62  # so that what is reckoned with such numbers still fits in 64 bits


class Stand(Struct, frozen=True):
    """The numbers that stand for the ids of a table's new records: `first` for that of its first incoming row."""

    first: int
    rows: int

    @property
    def last(self) -> int:
        """The number for the last row."""
        return self.first + self.rows - 1

    def rows_of(self, values: pa.Array) -> Indices:
        """For each value the row for whose id it stands, or -1."""
        found = np.asarray(values.fill_null(0).to_numpy(zero_copy_only=False), np.int64)
        stands = (found >= self.first) & (found <= self.last) & valid(values)
        rows: Indices = np.where(stands, found - self.first, -1)
        return rows


class Awaited(Struct, frozen=True):
    """A column whose values may stand for ids of new records: of which table of the run, by its place, and which ids.

    `table` is -1 for the column's own one; `take` is the column that has the ids, `called` the table's name. Of rows of
    one's own table with the same value in `where`, the column sought, one is `meant`, as it is inserted (-1: none is,
    SEVERAL: it is not known which).
    """

    column: str
    table: int
    called: str
    take: TargetColumn
    stand: Stand
    where: str = ""
    meant: Indices | None = None

    def parents_of(self, values: pa.Array) -> Indices:
        """For each value the row of its parent, -1 where it stands for none."""
        rows = self.stand.rows_of(values)
        if self.meant is None:
            return rows
        meant = np.append(self.meant, -1)[rows]
        found: Indices = np.where((rows >= 0) & (meant != -1), meant, rows)
        return found


SEVERAL = -2


def meant_rows(codes: Indices, changes: ChangeSet) -> Indices:
    """For each row the one that inserts the record of its value, as in `Awaited`; `codes` are numbers of the values."""
    size = int(codes.max(initial=-1)) + 2
    inserted = changes.inserts.rows
    found = np.full(size, -1, np.int64)
    found[codes[inserted]] = inserted
    found[np.bincount(codes[inserted][codes[inserted] >= 0], minlength=size) > 1] = SEVERAL
    found[-1] = -1  # of blanks
    meant: Indices = found[codes]
    return meant


class Coming(Struct, frozen=True):
    """Rows as a look-up sees them: what is sought in each, and what is taken; rows that were rejected, by their number.

    Where rows may `repeat` each other, the first one counts.
    """

    where: pa.Array
    take: pa.Array
    rejected: pa.Array
    rejected_numbers: Indices
    repeat: bool = False


class Parents(Struct, frozen=True):
    """The rows of a table that others refer to: typed, what became of them, and their numbers, for people."""

    values: pa.Table
    outcomes: npt.NDArray[np.uint8]
    numbers: Indices


def stand_for(ids: pa.Array, columns: Sequence[TargetColumn], rows: int, table: str) -> Stand:
    """Numbers for the ids of so many rows, which none of the `ids` has and all of the columns hold.

    Raises BadOption where the ids are no whole numbers, or all numbers are taken.
    """
    take = columns[0]
    if any(column.type.kind is not Kind.INTEGER for column in columns):
        raise BadOption(
            f"New records of {table} get their {take.name} from the database, and others of this run refer to it. That "
            f"can be followed only for whole numbers: load {table} by a run of its own first."
        )
    low = max(*(column.type.minimum for column in columns), -_FAR)
    high = min(*(column.type.maximum for column in columns), _FAR)
    known = pc.min_max(ids) if len(ids) else {"min": pa.scalar(None), "max": pa.scalar(None)}
    least, most = (known[side].as_py() for side in ("min", "max"))
    if most is None or most <= high - rows:  # a check is more likely to refuse negative numbers
        return Stand(high - rows + 1, rows)
    if low < 0 and (least is None or least >= low + rows):
        return Stand(low, rows)
    raise BadOption(f"All numbers of {table}.{take.name} are taken, so none is left to stand for new records.")


def orphans(awaited: Awaited, parent: ChangeSet, numbers: Indices, changes: ChangeSet, pairing: Pairing) -> list[Flaw]:
    """The rows whose parent is not inserted after all; `numbers` are the parents' row numbers, for people."""
    pair = next(pair for pair in pairing.pairs if pair.target.name == awaited.column)
    both = ((changes.updates.rows, changes.updates.after), (changes.inserts.rows, changes.inserts.after))
    asked = [(rows, awaited.parents_of(as_array(values[awaited.column]))) for rows, values in both if len(rows)]
    if not asked:
        return []
    rows, parents = (np.concatenate(side) for side in zip(*asked, strict=True))
    outcomes = np.append(parent.outcomes, Outcome.INSERTED)[np.maximum(parents, -1)]
    rejected, several = outcomes == Outcome.REJECTED, parents == SEVERAL
    other = ~np.isin(outcomes, (Outcome.INSERTED, Outcome.REJECTED))
    place = f"{awaited.called} ({awaited.where})"
    told = [of_rejected_parents(pair, rows[rejected], awaited.called, numbers[parents[rejected]])]
    for reason, mask, wanted in (
        (Reason.SEVERAL_FOUND, several, f"a value that stands once in {place}"),
        (Reason.NO_SUCH_RECORD, other, f"a value that a record of {place} has already, or a new one"),
    ):
        told.append(Flaw(reason, rows[mask], wanted, pair.incoming, None, pair.rule.sources))
    return [flaw for flaw in told if len(flaw.rows)]


def told_by_parent(
    flaw: Flaw, key: ForeignKey, changes: ChangeSet, parents: Parents, pairing: Pairing
) -> Sequence[Flaw]:
    """A flaw of rows that found no parent, divided: of some the parent is in a row that was rejected."""
    if flaw.reason is not Reason.NO_SUCH_RECORD or not set(key.referred) <= set(parents.values.column_names):
        return [flaw]
    rejected = np.flatnonzero(parents.outcomes == Outcome.REJECTED)
    wanted = parents.values.select(list(key.referred)).take(pa.array(rejected))
    own = pa.concat_tables([changes.updates.after, changes.inserts.after]).select(list(key.columns))
    rows = np.r_[changes.updates.rows, changes.inserts.rows]
    at = np.isin(rows, flaw.rows)
    pair = next(pair for pair in pairing.pairs if pair.target.name == key.columns[0])
    if not len(rejected) or flaw.column is None or not {pair.incoming} <= set(flaw.column.split(" / ")):
        return [flaw]
    sides = list(zip(own.filter(pa.array(at)).columns, wanted.columns, strict=True))
    if any(one.type != other.type for one, other in sides):
        return [flaw]
    codes, size = code_rows([pa.chunked_array([*one.chunks, *other.chunks]) for one, other in sides])
    count = int(at.sum())
    found = match(KeyCodes(codes[:count], codes[count:], size)).record
    known = found >= 0
    rest = ~np.isin(flaw.rows, rows[at][known])
    told = of_rejected_parents(pair, rows[at][known], key.table, parents.numbers[rejected[found[known]]])
    values = None if flaw.values is None else flaw.values.filter(pa.array(rest))
    left = replace(flaw, rows=flaw.rows[rest], values=values)
    return [one for one in (told, left) if len(one.rows)]


def of_rejected_parents(pair: Pair, rows: Indices, table: str, numbers: Indices) -> Flaw:
    """The flaw of rows whose parents were rejected; `numbers` are those of the parents' rows."""
    said = pa.array([f"row {number}" for number in numbers.tolist()], pa.string())
    return Flaw(
        Reason.PARENT_REJECTED, rows, f"a row of {table} that is loaded", pair.incoming, said, pair.rule.sources
    )


def with_ids(changes: ChangeSet, awaited: Awaited, ids: pa.Array) -> ChangeSet:
    """The changes with the ids that the database gave, one for each row of the parents' table."""
    column = awaited.column

    def given(array: pa.Array) -> pa.Array:
        rows = awaited.parents_of(array)
        return pc.if_else(pa.array(rows >= 0), ids.take(pa.array(rows, mask=rows < 0)).cast(array.type), array)

    updates = replace(changes.updates, after=_with(changes.updates.after, column, given))
    inserts = replace(changes.inserts, after=_with(changes.inserts.after, column, given))
    return replace(changes, updates=updates, inserts=inserts)


def with_names(changes: ChangeSet, awaited: Awaited, names: pa.Array) -> ChangeSet:
    """The changes as people read them: for an id that is not known yet stands the key of its record."""
    column = awaited.column

    def named(array: pa.Array) -> pa.Array:
        rows = awaited.parents_of(array)
        texts = names.take(pa.array(rows, mask=rows < 0))
        told = pc.binary_join_element_wise("(new)", texts, " ")
        return pc.if_else(pa.array(rows >= 0), told, array.cast(pa.string()))

    return changes.with_values(lambda values: _with(values, column, named))


def _with(values: pa.Table, column: str, make: Callable[[pa.Array], pa.Array]) -> pa.Table:
    """The values with another column in place of one, if that is there."""
    if column not in values.column_names or not pa.types.is_integer(values[column].type):
        return values  # what goes is kept as text
    return values.set_column(values.column_names.index(column), column, make(as_array(values[column])))

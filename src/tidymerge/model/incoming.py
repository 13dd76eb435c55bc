"""The rows to load."""

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.model.arrays import Indices
from tidymerge.model.flaws import Flaw, of_rows

NO_ROW = -1  # in place of an incoming row, where none asked for a change


class IncomingColumn(Struct, frozen=True):
    """A column as it arrived.

    A spreadsheet's column may mix numbers, text and dates, so it travels as one array a type
    (`arrays`, equally long); a row holds a value in at most one of them, and in none if blank. No two columns have one
    `name`; `called` is what the header says if that is another: nothing, or what an earlier column is called too.
    """

    name: str
    arrays: tuple[pa.Array, ...]
    called: str | None = None


class Incoming(Struct, frozen=True):
    """The rows to load. `row_numbers` are as the person sees them, 1 for the top line.

    A flaw of a column counts where that column is used. `assumed` is the encoding of a text file that does not tell
    its own; `uncalculated` counts, by column, the formulas whose result is not stored; `merged` has, by column, the
    first rows whose cells are one, so that only the upper one has the value; `reads` are the tables of a query.

    Where rows are records of the target, `records` has their keys as texts: numbers say nothing of them. Rows that are
    `corrected` are from a file of ours, of rows that were rejected before, or marked.

    Rows gathered from several addresses have these in `origins`, and in `origin` which one each row is from.
    """

    address: str
    columns: tuple[IncomingColumn, ...]
    row_numbers: Indices
    header_row: int
    sheet: str | None = None
    flaws: tuple[Flaw, ...] = ()
    notes: tuple[str, ...] = ()
    origins: tuple[str, ...] = ()
    origin: Indices | None = None
    assumed: str | None = None
    uncalculated: Mapping[str, int] = field(default_factory=dict)
    merged: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    reads: tuple[str, ...] = ()
    records: pa.Array | None = None
    corrected: bool = False

    def numbers_of(self, rows: Indices) -> Indices:
        """The numbers of some rows as the person sees them; 0 for NO_ROW."""
        numbers: Indices = np.append(self.row_numbers, 0)[rows]
        return numbers

    def only(self, rows: Indices) -> "Incoming":
        """Some of the rows."""
        at = pa.array(rows)
        return replace(
            self,
            columns=tuple(replace(one, arrays=tuple(part.take(at) for part in one.arrays)) for one in self.columns),
            row_numbers=self.row_numbers[rows],
            flaws=of_rows(self.flaws, rows, len(self.row_numbers)),
            origin=None if self.origin is None else self.origin[rows],
            records=None if self.records is None else self.records.take(at),
        )

    def beyond(self, records: pa.Array) -> "Incoming":
        """The rows, and behind them as many blank ones as there are `records`, which are called so."""
        rows, more = len(self.row_numbers), len(records)
        columns = tuple(
            replace(one, arrays=tuple(pa.concat_arrays([part, pa.nulls(more, part.type)]) for part in one.arrays))
            for one in self.columns
        )
        return replace(
            self,
            columns=columns,
            row_numbers=np.r_[self.row_numbers, np.zeros(more, np.int64)],
            origin=None if self.origin is None else np.r_[self.origin, np.zeros(more, np.int64)],
            records=pa.concat_arrays([pa.nulls(rows, pa.string()), records]),
        )

    def record(self, row: int) -> str | None:
        """The key of a row that is a record; None of a row that came in."""
        found: str | None = None if self.records is None else self.records[row].as_py()
        return found

    def place(self, row: int) -> str:
        """Where a row stands, for people: its number, with its file or sheet if the rows come from several."""
        record = self.record(row)
        if record is not None:
            return record
        number = str(self.row_numbers[row])
        return number if self.origin is None else f"{self.origins[self.origin[row]]} row {number}"

    @property
    def called(self) -> dict[str, str]:
        """What the header calls those columns whose names are ours: of several with one name, all but the first."""
        return {column.name: column.called for column in self.columns if column.called}

    def column(self, name: str) -> IncomingColumn:
        """The column of that exact name. Raises KeyError."""
        for column in self.columns:
            if column.name == name:
                return column
        raise KeyError(name)


class Sample(Struct, frozen=True):
    """The first of the incoming rows, by which columns are told. How many rows there are in all it does not say."""

    rows: Incoming

    @property
    def names(self) -> list[str]:
        """The names of the columns."""
        return [column.name for column in self.rows.columns]

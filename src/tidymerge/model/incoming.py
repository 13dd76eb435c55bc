"""The rows to load."""

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from tidymerge.model.arrays import Indices
from tidymerge.model.flaws import Flaw

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

    Where the rows are records of the target, `records` has their keys as texts: numbers say nothing of them.

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

    def numbers_of(self, rows: Indices) -> Indices:
        """The numbers of some rows as the person sees them; 0 for NO_ROW."""
        numbers: Indices = np.append(self.row_numbers, 0)[rows]
        return numbers

    def place(self, row: int) -> str:
        """Where a row stands, for people: its number, with its file or sheet if the rows come from several."""
        if self.records is not None:
            return str(self.records[row])
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

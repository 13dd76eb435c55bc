"""From rows of cells to incoming columns: what all sheet-like sources share."""

from collections.abc import Iterable, Sequence
from datetime import date, datetime, time, timedelta
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from tidymerge.core.naming.letters import column_names
from tidymerge.core.naming.mapping import listing
from tidymerge.core.tidy.convert import blank_rows
from tidymerge.core.tidy.times import spelled
from tidymerge.model import Flaw, Incoming, IncomingColumn, Indices, Reason

_ARROW = {
    str: pa.string(),
    float: pa.float64(),
    int: pa.int64(),
    bool: pa.bool_(),
    date: pa.date32(),
    datetime: pa.timestamp("us"),
    time: pa.time64("us"),
}


def columns_under(
    header: Sequence[str], arrays: Iterable[tuple[pa.Array, ...]], first: int = 0
) -> list[IncomingColumn]:
    """The columns under a header row, of which the first is number `first` of the sheet."""
    return [
        IncomingColumn(name, arrays, None if name == said.strip() else said.strip())
        for name, said, arrays in zip(column_names(header, first), header, arrays, strict=True)
    ]


def _alike(columns: Sequence[IncomingColumn]) -> list[str]:
    """A note for each name that several columns have."""
    several: dict[str, list[str]] = {}
    for column in columns:
        if column.called:
            several.setdefault(column.called, [column.called]).append(column.name)
    return [
        f"{len(names)} columns are called {name!r}; here they are {listing(names)}." for name, names in several.items()
    ]


def arrays_of(cells: Sequence[Any]) -> tuple[pa.Array, ...]:
    """Python cells of mixed types as one Arrow array a type; '' and None are blank."""
    kinds = set(map(type, cells)) - {type(None)}
    if timedelta in kinds:
        return arrays_of([_duration(cell) if type(cell) is timedelta else cell for cell in cells])
    if kinds == {str}:
        texts = pa.array(cells, pa.string())
        return (pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts),)
    arrays = []
    for kind in sorted(kinds, key=lambda kind: list(_ARROW).index(kind)):
        own = [cell if type(cell) is kind and cell != "" else None for cell in cells]
        if any(cell is not None for cell in own):
            arrays.append(pa.array(own, _ARROW[kind]))
    return tuple(arrays) or (pa.nulls(len(cells), pa.string()),)


def _duration(cell: timedelta) -> time | str:
    """A spreadsheet's duration: a time of day if below 24 hours, else text that only some time columns take."""
    if timedelta(0) <= cell < timedelta(days=1):
        hours, rest = divmod(cell.seconds, 3600)
        return time(hours, *divmod(rest, 60), cell.microseconds)
    return spelled(cell // timedelta(microseconds=1))


def as_incoming(
    columns: Sequence[IncomingColumn],
    row_numbers: Indices,
    flaws: Sequence[Flaw] = (),
    *,
    all_columns: bool = False,
    **about: Any,
) -> Incoming:
    """Incoming rows without those that are wholly blank; nameless columns that hold nothing go too.

    With `all_columns` these stay, so that every piece of a file has the same columns.
    """
    blank = blank_rows(columns, len(row_numbers))
    for flaw in flaws:
        blank[flaw.rows] = False
    about["notes"] = (*about.get("notes", ()), *_alike(columns))
    kept = [
        column
        for column in columns
        if all_columns or column.called != "" or any(array.null_count < len(array) for array in column.arrays)
    ]
    if not blank.any():
        return Incoming(columns=tuple(kept), row_numbers=row_numbers, flaws=tuple(flaws), **about)
    stays = ~blank
    mask, place = pa.array(stays), np.cumsum(stays) - 1
    return Incoming(
        columns=tuple(replace(column, arrays=tuple(array.filter(mask) for array in column.arrays)) for column in kept),
        row_numbers=row_numbers[stays],
        flaws=tuple(replace(flaw, rows=place[flaw.rows]) for flaw in flaws),
        **about,
    )


def wrong_length(rows: Indices, counts: Indices, wanted: int) -> list[Flaw]:
    """Flaws for rows that have more or fewer cells than the header has names."""
    expected = f"{wanted} cells, one for each column name"
    values = pa.array([f"{count} cells" for count in counts.tolist()], pa.string())
    return [Flaw(Reason.WRONG_CELLS, rows, expected, None, values)] if len(rows) else []

"""Numbered columns as rows: Frame 1, Frame 2, … become a row each, with the number and the value.

Source: docs/job-file.md, `each`.
"""

import re
from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.naming.mapping import listing
from tidymerge.core.tidy.cells import valid
from tidymerge.core.tidy.tidying import tidy
from tidymerge.errors import BadOption, NoSuchColumn
from tidymerge.model import Flaw, Incoming, IncomingColumn, Indices, Mask

NUMBER = "each"  # the column of what stands for the *


def spread(incoming: Incoming, patterns: Sequence[str]) -> Incoming:
    """A row for each set of columns that fit the patterns; where all of a set are blank, none.

    The value of a pattern has its name without the *; what stands for the * is in the column `each`. Rows that are so
    already stay as they are. Raises BadOption and NoSuchColumn.
    """
    names = [column.name for column in incoming.columns]
    values = {_value_name(pattern): pattern for pattern in patterns}
    if not patterns or {NUMBER, *values} <= set(names):
        return incoming
    found = {name: _fitting(pattern, names) for name, pattern in values.items()}
    taken = {column for columns in found.values() for column in columns.values()}
    others = [column for column in incoming.columns if column.name not in taken]
    double = {NUMBER, *values} & {column.name for column in others}
    if double:
        raise BadOption(f"{min(double)!r} is a column of the rows already: rename it, or say other columns by `each`.")
    numbers = list(dict.fromkeys(number for columns in found.values() for number in columns))
    count, each = len(incoming.row_numbers), len(numbers)
    rows, sets = np.repeat(np.arange(count), each), np.tile(np.arange(each), count)
    spread_columns = {name: _stacked(incoming, columns, numbers) for name, columns in found.items()}
    keep = np.zeros(count * each, bool)
    for arrays in spread_columns.values():
        for array in arrays:
            keep |= valid(tidy(array) if pa.types.is_string(array.type) else array)
    rows, sets = rows[keep], sets[keep]
    kept = pa.array(np.flatnonzero(keep))
    columns = [replace(one, arrays=tuple(array.take(pa.array(rows)) for array in one.arrays)) for one in others]
    columns.append(IncomingColumn(NUMBER, (pa.array(numbers, pa.string()).take(pa.array(sets)),)))
    columns += [
        IncomingColumn(name, tuple(array.take(kept) for array in arrays)) for name, arrays in spread_columns.items()
    ]
    return replace(
        incoming,
        columns=tuple(columns),
        row_numbers=incoming.row_numbers[rows],
        flaws=_flaws(incoming.flaws, found, numbers, rows, sets),
        origin=None if incoming.origin is None else incoming.origin[rows],
        merged={name: at for name, at in incoming.merged.items() if name not in taken},
    )


def _value_name(pattern: str) -> str:
    """What the values of a pattern are called. Raises BadOption."""
    if pattern.count("*") != 1 or not pattern.replace("*", "").strip():
        raise BadOption(f'`each` takes names with one *, as in "Frame *", not {pattern!r}.')
    return " ".join(pattern.replace("*", " ").split())


def _fitting(pattern: str, names: Sequence[str]) -> dict[str, str]:
    """The columns that fit a pattern, by what stands for the *: a word with a digit. Raises NoSuchColumn."""
    before, _, after = (re.escape(piece.strip()) for piece in pattern.partition("*"))
    sought = re.compile(rf"{before}\s*(\S*\d\S*?)\s*{after}", re.IGNORECASE)
    found = {match[1]: name for name in names if (match := sought.fullmatch(name.strip()))}
    if not found:
        raise NoSuchColumn(
            f"No column fits {pattern!r}; there are {listing(names)}.", column=pattern, known=tuple(names)
        )
    return found


def _stacked(incoming: Incoming, columns: Mapping[str, str], numbers: Sequence[str]) -> list[pa.Array]:
    """The values of one pattern, one array for each type, the columns of a row one after another."""
    count, each = len(incoming.row_numbers), len(numbers)
    parts = [incoming.column(columns[number]).arrays if number in columns else () for number in numbers]
    order = pa.array(np.arange(count * each).reshape(each, count).T.ravel())
    kinds = list(dict.fromkeys(array.type for arrays in parts for array in arrays))
    return [
        pa.concat_arrays(
            [next((array for array in arrays if array.type == kind), pa.nulls(count, kind)) for arrays in parts]
        ).take(order)
        for kind in kinds
    ]


def _flaws(
    flaws: Sequence[Flaw], found: Mapping[str, Mapping[str, str]], numbers: Sequence[str], rows: Indices, sets: Indices
) -> tuple[Flaw, ...]:
    """The flaws of the rows: one of a column that was spread is that of its value alone."""
    places = {column: (name, number) for name, columns in found.items() for number, column in columns.items()}
    told = []
    for flaw in flaws:
        at = np.full(int(max(rows.max(initial=-1), flaw.rows.max(initial=-1))) + 1, -1)
        at[flaw.rows] = np.arange(len(flaw.rows))
        mask: Mask = at[rows] >= 0 if len(rows) else np.zeros(0, bool)
        if flaw.column in places:
            name, number = places[flaw.column]
            mask = mask & (sets == numbers.index(number))
            flaw = replace(flaw, column=name, cells=(name,))  # noqa: PLW2901 - the same flaw, by its new name
        new = np.flatnonzero(mask)
        if len(new):
            values = None if flaw.values is None else flaw.values.take(pa.array(at[rows[new]]))
            told.append(replace(flaw, rows=new, values=values))
    return tuple(told)

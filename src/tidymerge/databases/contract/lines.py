r"""Filling temporary tables, by the lines of text that both COPY and LOAD DATA read.

There are tabs between the values, \N stands for null, and a backslash takes a sign's meaning away.
"""

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import as_array, only_bytes, text_bytes
from tidymerge.databases.contract.database import CHANGED, POSITION, ConstraintBroken, Staged, place_name
from tidymerge.model import ColumnType, Kind, TargetColumn
from tidymerge.model.changes import Refusal

_ROWS = 100_000  # in one block, so that its texts stay far below Arrow's limit of 2 GB
_ESCAPED = (("\\", "\\\\"), ("\t", "\\t"), ("\n", "\\n"), ("\r", "\\r"))
_PLAIN = bytes(byte for byte in range(256) if byte not in b"\\\t\n\r")


def tab_lines(rows: pa.Table) -> Iterator[bytes]:
    """The lines of a table, whose columns are all text, in blocks."""
    for start in range(0, rows.num_rows, _ROWS):
        block = rows.slice(start, _ROWS)
        columns = [_escaped(as_array(column)).fill_null("\\N") for column in block.columns]
        columns[-1] = pc.binary_join_element_wise(columns[-1], "\n", "")
        lines = pc.binary_join_element_wise(*columns, "\t") if len(columns) > 1 else columns[0]
        yield text_bytes(lines).tobytes()


def staged_columns(
    columns: Sequence[TargetColumn], places: Sequence[TargetColumn], *, marked: bool
) -> list[tuple[str, TargetColumn]]:
    """The columns of the staging table: position, places, values, each with the column whose type it has.

    Where it is `marked`, which columns change follows the position.
    """
    number = ColumnType(Kind.INTEGER, "bigint")
    own = [TargetColumn(name, number) for name in (POSITION, *([CHANGED] if marked else []))]
    located = [(place_name(index), place) for index, place in enumerate(places)]
    return [*((column.name, column) for column in own), *located, *((column.name, column) for column in columns)]


def staged_rows(
    staged: Staged,
    columns: Sequence[tuple[str, TargetColumn]],
    to_stored: Callable[[pa.Array, TargetColumn], pa.Array],
) -> pa.Table:
    """The rows of the staging table, all of them text."""
    positions = pa.array(np.arange(staged.first, staged.first + staged.rows))
    own = [positions, *([] if staged.changed is None else [pa.array(staged.changed)])]
    arrays = [*own, *map(as_array, staged.places.columns)]
    arrays += [as_array(staged.values[column.name]) for column in staged.columns]
    texts = [to_stored(array, column) for array, (_, column) in zip(arrays, columns, strict=True)]
    return pa.Table.from_arrays(texts, [name for name, _ in columns])


def sql_type(column: TargetColumn) -> str:
    """A column's type and collation in SQL."""
    return f"{column.type.declared} COLLATE {column.collation}" if column.collation else column.type.declared


def ranked(texts: pa.Array, numbered: pa.Table) -> pa.Array:
    """A number for each text from `numbered` (n: index of the text, r: its rank); one without a rank equals none."""
    codes = np.arange(len(texts), dtype=np.int64) + len(texts) + 1
    codes[as_array(numbered["n"]).to_numpy()] = as_array(numbered["r"]).to_numpy()
    return pa.array(codes)


def filled(
    fill: Callable[[pa.Table], None],
    savepoint: Callable[[], AbstractContextManager[None]],
    rows: pa.Table,
    first: int,
) -> list[Refusal]:
    """Fill in `rows`, the first at position `first`; where values are refused, halve until the bad rows are single."""
    try:
        with savepoint():
            fill(rows)
    except ConstraintBroken as broken:
        if rows.num_rows == 1:
            return [Refusal(first, str(broken))]
        half = rows.num_rows // 2
        before = filled(fill, savepoint, rows.slice(0, half), first)
        return before + filled(fill, savepoint, rows.slice(half), first + half)
    return []


def _escaped(texts: pa.Array) -> pa.Array:
    if only_bytes(texts, _PLAIN):
        return texts
    for sign, written in _ESCAPED:
        texts = pc.replace_substring(texts, sign, written)
    return texts

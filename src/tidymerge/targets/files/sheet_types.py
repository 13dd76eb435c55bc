"""What the columns of a sheet mean, told by their cells and by how these are shown."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import valid
from tidymerge.core.convert import cast_cells
from tidymerge.model import ColumnType, Kind

_TEXT = ColumnType(Kind.TEXT, "text")
_NUMBER = ColumnType(Kind.DECIMAL, "number", digits=15)
_MOST_OTHER = 0.1  # of the cells: a column of numbers with more texts than that is one of texts
_SCALE = 3  # a sheet keeps milliseconds


def type_of(parts: Sequence[pa.Array], shown: int | None) -> ColumnType:
    """The type of a column: text unless nearly all cells are of another kind.

    `shown` is how many decimals the cells are shown with, if that is the same for all.
    """
    counts = {str(part.type): len(part) - part.null_count for part in parts}
    total = sum(counts.values())
    texts = counts.pop("string", 0)
    if not counts or not total or texts > _MOST_OTHER * total:
        return _TEXT
    kinds = set(counts)
    if kinds == {"bool"}:
        return ColumnType(Kind.BOOLEAN, "true or false")
    if kinds == {"date32[day]"}:
        return ColumnType(Kind.DATE, "date")
    if kinds <= {"date32[day]", "timestamp[us]"}:
        return ColumnType(Kind.TIMESTAMP, "timestamp", scale=_SCALE)
    if kinds == {"time64[us]"}:
        return ColumnType(Kind.TIME, "time", scale=_SCALE)
    if not kinds <= {"double", "int64"}:
        return _TEXT
    return _NUMBER if shown is None else _number_type(parts, shown)


def _number_type(parts: Sequence[pa.Array], shown: int) -> ColumnType:
    """The type of numbers that are shown with so many decimals, but may have more."""
    numbers = [part for part in parts if str(part.type) != "string"]
    values = cast_cells(numbers, _NUMBER, len(numbers[0])).values
    scale = shown
    for decimals in range(shown, _NUMBER.decimals + 1):
        scale = decimals
        if bool(np.all(~valid(values) | pc.equal(pc.round(values, decimals), values).fill_null(True).to_numpy(False))):
            break
    if scale == 0:
        return ColumnType(Kind.INTEGER, "whole number", minimum=-(10**15) + 1, maximum=10**15 - 1)
    return ColumnType(Kind.DECIMAL, f"number with {scale} decimals", scale=scale, digits=15)

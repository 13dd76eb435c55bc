"""What the columns of a sheet mean, told by their cells and by how these are shown."""

from collections.abc import Sequence

import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.infer.told import NUMBER, TEXT, decimals_of
from tidymerge.model import ColumnType, Kind

_MOST_OTHER = 0.1  # of the cells: a column of numbers with more texts than that is one of texts
_MOST_DECIMALS = 15  # of a column whose decimals count
_SCALE = 3  # a sheet keeps milliseconds


def type_of(parts: Sequence[pa.Array], shown: int | None) -> ColumnType:
    """The type of a column: text unless nearly all cells are of another kind.

    `shown` is how many decimals the cells are shown with, if that is the same for all.
    """
    counts = {str(part.type): len(part) - part.null_count for part in parts}
    total = sum(counts.values())
    texts = counts.pop("string", 0)
    if not counts or not total or texts > _MOST_OTHER * total:
        return TEXT
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
        return TEXT
    return NUMBER if shown is None else _number_type(parts, shown)


def bounded(found: ColumnType) -> ColumnType:
    """A declared type within what a sheet can keep: 15 digits, and milliseconds."""
    match found.kind:
        case Kind.INTEGER:
            return replace(found, minimum=-(10**15) + 1, maximum=10**15 - 1)
        case Kind.DECIMAL:
            return replace(found, digits=15)
        case Kind.TIMESTAMP | Kind.TIME:
            return replace(found, scale=_SCALE)
        case _:
            return found


def _number_type(parts: Sequence[pa.Array], shown: int) -> ColumnType:
    """The type of numbers that are shown with so many decimals, but may have more."""
    scale = decimals_of([part for part in parts if str(part.type) != "string"], shown)
    if scale > _MOST_DECIMALS:
        return NUMBER
    if scale == 0:
        return bounded(ColumnType(Kind.INTEGER, "whole number"))
    return bounded(ColumnType(Kind.DECIMAL, f"number with {scale} decimals", scale=scale))

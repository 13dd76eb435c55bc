"""Cells of any type to a column's type; what can't be converted is pointed out."""

from collections.abc import Callable, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy import texts, times
from tidymerge.core.tidy.cells import BadCells, Cast, valid
from tidymerge.core.tidy.numbers import NUMBER_CASTS
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import ColumnType, IncomingColumn, Kind, Reason

_CASTS: dict[Kind, Callable[[pa.Array, ColumnType], Cast]] = {
    **NUMBER_CASTS,
    Kind.TEXT: texts.to_text,
    Kind.BOOLEAN: texts.to_boolean,
    Kind.DATE: times.to_date,
    Kind.TIME: times.to_time,
    Kind.TIMESTAMP: times.to_timestamp,
    Kind.UUID: texts.to_uuid,
    Kind.JSON: texts.to_json,
    Kind.BINARY: texts.to_binary,
}
_FORMULA_ERROR = r"^#(DIV/0!|N/A|NAME\?|NULL!|NUM!|REF!|VALUE!|SPILL!|CALC!|GETTING_DATA)$"


def tidy_arrays(arrays: Sequence[pa.Array]) -> list[pa.Array]:
    """The arrays of a column with their text tidied; arrays that hold nothing are left out."""
    tidied = [tidy(array) if pa.types.is_string(array.type) else array for array in arrays]
    return [array for array in tidied if array.null_count < len(array)]


def cast_cells(arrays: Sequence[pa.Array], to: ColumnType, length: int) -> Cast:
    """Cast a column of `length` rows that may mix types to the target's type."""
    if not arrays:
        return Cast(pa.nulls(length, to.arrow))
    casts = [_cast_part(array, arrays, to) for array in arrays]
    values = casts[0].values if len(casts) == 1 else pc.coalesce(*(cast.values for cast in casts))
    return Cast(values, tuple(bad for cast in casts for bad in cast.bad), sum(cast.rounded for cast in casts))


def _cast_part(array: pa.Array, arrays: Sequence[pa.Array], to: ColumnType) -> Cast:
    if pa.types.is_boolean(array.type) and to.kind in NUMBER_CASTS:
        return times.refuse(array, to, Reason.NOT_A_NUMBER, "a number, not true or false")
    if pa.types.is_temporal(array.type):
        if to.kind in NUMBER_CASTS:
            return times.refuse(array, to, Reason.NOT_A_NUMBER, "a number, not a date")
        if to.kind is Kind.TEXT and any(pa.types.is_string(other.type) for other in arrays):
            # Spreadsheets turn codes such as 3-4 or MAR1 into dates; the code can't be known again.
            return times.refuse(array, to, Reason.TURNED_INTO_DATE, "text like the rest of the column")
    if len(arrays) > 1 and pa.types.is_string(array.type):
        return _with_formula_errors(array, to)
    return _CASTS[to.kind](array, to)


def _with_formula_errors(array: pa.Array, to: ColumnType) -> Cast:
    """Text beside numbers may be a spreadsheet's formula error, which says nothing about the value."""
    errors = np.flatnonzero(
        pc.match_substring_regex(array, _FORMULA_ERROR).fill_null(False).to_numpy(zero_copy_only=False)
    )
    if not len(errors):
        return _CASTS[to.kind](array, to)
    clean = np.ones(len(array), bool)
    clean[errors] = False
    cast = _CASTS[to.kind](pc.if_else(pa.array(clean), array, pa.scalar(None, array.type)), to)
    return Cast(cast.values, (*cast.bad, BadCells(errors, Reason.FORMULA_ERROR, "a value")), cast.rounded)


def as_text(column: IncomingColumn) -> pa.Array:
    """A column as the person would read it in the sheet; null where blank.

    A float of more digits than a spreadsheet keeps has an exponent, so that it is never taken for those digits.
    """
    written = [texts.shown(array) for array in column.arrays]
    return written[0] if len(written) == 1 else pc.coalesce(*written)


def blank_rows(columns: Sequence[IncomingColumn], length: int) -> np.ndarray:
    """Which rows hold nothing at all but white space."""
    blank = np.ones(length, bool)
    for column in columns:
        for array in column.arrays:
            blank &= ~valid(tidy(array) if pa.types.is_string(array.type) else array)
        if not blank.any():  # most often known after the first column
            break
    return blank

"""Typed values as the exact text of a sheet's cells: dates are numbers of days (ECMA-376, 18.17.4)."""

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import valid
from tidymerge.model import Kind
from tidymerge.targets.files.sheet_xml import number

FIRST_DAY = 61  # 1 March 1900: before it the count is off, as 1900 is taken for a leap year
DATES = (Kind.DATE, Kind.TIMESTAMP, Kind.TIME)
_UNIX, _BASE_1904 = 25_569, 1_462  # day numbers of 1 January 1970, and of 1 January 1904
_DAY = 86_400_000_000  # microseconds


def serials(values: pa.Array, kind: Kind, *, base_1904: bool) -> pa.Array:
    """The exact texts, marked with the letter of the cell's kind; null stays null."""
    present = valid(values)
    match kind:
        case Kind.BOOLEAN:
            return pc.if_else(values, "b1", "b0")
        case Kind.INTEGER | Kind.DECIMAL | Kind.FLOAT:
            # By way of text: a decimal of many digits is not always cast to the nearest float.
            texts = pc.cast(values, pa.string()) if kind is Kind.DECIMAL else values
            numbers = pc.cast(texts, pa.float64()).fill_null(0).to_numpy(zero_copy_only=False)
        case Kind.DATE:
            numbers = pc.cast(pc.cast(values, pa.int32()), pa.float64()).fill_null(0).to_numpy() + _UNIX
        case Kind.TIMESTAMP:
            numbers = pc.cast(values, pa.int64()).fill_null(0).to_numpy() / _DAY + _UNIX
        case Kind.TIME:
            return _numbered(pc.cast(values, pa.int64()).fill_null(0).to_numpy() / _DAY, present)
        case _:
            return pc.binary_join_element_wise("s", values, "")
    shift = _BASE_1904 if base_1904 and kind in (Kind.DATE, Kind.TIMESTAMP) else 0
    return _numbered(numbers - shift, present)


def _numbered(numbers: np.ndarray, present: np.ndarray) -> pa.Array:
    return pa.array(
        [f"n{number(one)}" if there else None for one, there in zip(numbers.tolist(), present.tolist(), strict=True)],
        pa.string(),
    )

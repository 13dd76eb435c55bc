"""What is wrong with incoming rows."""

from collections.abc import Sequence
from enum import StrEnum

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.model.arrays import Indices


class Reason(StrEnum):
    """Why a row was rejected."""

    WRONG_CELLS = "wrong number of cells"
    BLANK_KEY = "blank key"
    NOT_A_NUMBER = "not a number"
    NOT_WHOLE = "not a whole number"
    TOO_MANY_DECIMALS = "too many decimals"
    DIGITS_LOST = "digits lost"
    OUT_OF_RANGE = "out of range"
    TOO_LONG = "too long"
    WRONG_LENGTH = "wrong length"
    NOT_A_DATE = "not a date"
    NOT_A_TIME = "not a time"
    NOT_A_TIMESTAMP = "not a timestamp"
    NOT_TRUE_OR_FALSE = "not true or false"
    NOT_A_UUID = "not a UUID"
    NOT_JSON = "not JSON"
    NOT_BINARY = "not binary"
    NOT_ALLOWED = "not an allowed value"
    TURNED_INTO_DATE = "a date among text"
    STORED_AS_NUMBER = "text that would be stored as a number"
    FORMULA_ERROR = "a formula error"
    NOT_SPLIT = "wrong number of pieces"
    PATTERN_NOT_FOUND = "pattern not found"
    NOT_IN_MAP = "not in the value map"
    NOT_COMPUTED = "can't be computed"
    UNKNOWN_INSTRUCTION = "unknown instruction"
    ALREADY_THERE = "already there"
    NOT_THERE = "not there"
    SAME_KEY_TWICE = "same key twice"
    SEVERAL_RECORDS = "several records"
    BLANK_NOT_ALLOWED = "blank not allowed"
    NO_SUCH_RECORD = "no such record"
    PARENT_REJECTED = "its parent was rejected"
    SEVERAL_FOUND = "several found"
    BLANK_INSTRUCTION = "no instruction"
    NOT_UNIQUE = "not unique"
    CHECK_FAILED = "check failed"
    REFUSED = "refused by the target"
    CHANGED_SINCE = "changed since"
    GONE_SINCE = "gone since"
    CAME_SINCE = "came since"
    KEY_EDITED = "key edited"
    REFERRED_TO = "referred to"


class Flaw(Struct, frozen=True):
    """Something wrong with one column (or with whole rows) in `rows`, indices into the incoming rows.

    `column` is what is at fault, for people; `cells` are the incoming columns that it is made of. `values` are the
    cells as text, one a row in `rows`, or None when the flaw is not about a cell.
    """

    reason: Reason
    rows: Indices
    expected: str
    column: str | None = None
    values: pa.Array | None = None
    cells: tuple[str, ...] = ()


def of_rows(flaws: Sequence[Flaw], rows: Indices, length: int) -> tuple[Flaw, ...]:
    """The flaws of some of `length` rows, which are numbered anew."""
    number = np.full(length, -1, np.int64)
    number[rows] = np.arange(len(rows))
    found = []
    for flaw in flaws:
        there = number[flaw.rows] >= 0
        if there.any():
            values = None if flaw.values is None else flaw.values.filter(pa.array(there))
            found.append(replace(flaw, rows=number[flaw.rows[there]], values=values))
    return tuple(found)

"""The types of expressions, and the columns that an expression is worked out over."""

from collections.abc import Callable, Mapping
from datetime import datetime
from enum import StrEnum

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from tidymerge.model import ColumnType, Kind, Mask


class Type(StrEnum):
    """What an expression is. CELL is an incoming cell as it arrived: it is read as what it meets."""

    NUMBER = "a number"
    TEXT = "text"
    BOOLEAN = "a condition"
    DATE = "a date"
    TIME = "a time"
    TIMESTAMP = "a timestamp"
    CELL = "a cell"
    NULL = "null"


_BY_KIND = {
    Kind.INTEGER: Type.NUMBER,
    Kind.DECIMAL: Type.NUMBER,
    Kind.FLOAT: Type.NUMBER,
    Kind.BOOLEAN: Type.BOOLEAN,
    Kind.DATE: Type.DATE,
    Kind.TIME: Type.TIME,
    Kind.TIMESTAMP: Type.TIMESTAMP,
}


def type_of(column: ColumnType) -> Type:
    """The expression type of a target column; UUIDs and JSON count as text."""
    return _BY_KIND.get(column.kind, Type.TEXT)


class Failure(Struct, frozen=True):
    """Rows in which a part of an expression has no value because of an error, not because of a null."""

    rows: Mask
    words: str


class Frame(Struct):
    """The columns to work over, by (scope, name), all of `length` rows; failures gather here."""

    columns: Mapping[tuple[str, str], pa.Array]
    length: int
    now: datetime
    failures: list[Failure] = field(default_factory=list)

    def fail(self, rows: Mask, words: str) -> None:
        """Note rows in which something went wrong."""
        if rows.any():
            self.failures.append(Failure(rows, words))

    def failed(self) -> Mask:
        """All rows in which something went wrong."""
        rows: Mask = np.logical_or.reduce([np.zeros(self.length, bool), *(failure.rows for failure in self.failures)])
        return rows


class Cells(Struct, frozen=True):
    """Incoming cells as they arrived, and the type that all of them have, if there is one: NULL if all are blank."""

    nature: Type | None = None


Run = Callable[[Frame], pa.Array]


class Checked(Struct, frozen=True):
    """A checked part of an expression: its type, how to work it out, and its text if it is a text literal.

    Of cells, `nature` is the type that all of them have, if there is one.
    """

    type: Type
    run: Run
    literal: str | None = None
    nature: Type | None = None


Scopes = Mapping[str, Mapping[str, Type | Cells]]

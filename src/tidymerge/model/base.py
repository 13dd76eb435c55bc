"""What rows were when they were taken out of a table."""

from enum import StrEnum

import pyarrow as pa
from msgspec import Struct

from tidymerge.model.arrays import Indices

ROW_MARK = "extract: row"  # the column of an extract that says which row of which extract it is


class Side(StrEnum):
    """Whose value stays where a sheet and the table both changed a field since it was taken out."""

    SHEET = "sheet"
    TABLE = "table"


class Clashes(Struct, frozen=True):
    """Fields that the person and somebody else both changed: the incoming row, the key, the column, three values."""

    rows: Indices
    keys: tuple[str, ...]
    columns: tuple[str, ...]
    was: tuple[str | None, ...]
    sheet: tuple[str | None, ...]
    now: tuple[str | None, ...]


class Base(Struct, frozen=True):
    """The rows of the extract `run` as they were then: of which `target`, and by which `key` they are found.

    The columns of `values` have the target's types, or are exact text where some values were not of their type. In
    `guarded` rows an apostrophe stands before what a spreadsheet would run.
    """

    run: str
    target: str
    key: tuple[str, ...]
    values: pa.Table
    guarded: bool = False

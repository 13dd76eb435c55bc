"""Rows that are newer than those of the last run, by a column of dates, times or whole numbers."""

import re
from datetime import UTC, datetime, timedelta

import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.tidy.cells import mask_of, valid
from tidymerge.core.tidy.convert import cast_cells, tidy_arrays
from tidymerge.errors import BadOption
from tidymerge.model import ColumnType, Incoming, Kind

_UNITS = {"second": 1, "minute": 60, "hour": 3600, "day": 86_400, "week": 604_800}
_TYPES = (
    ColumnType(Kind.INTEGER, "a whole number"),
    ColumnType(Kind.TIMESTAMP, "a date or time"),
    ColumnType(Kind.TIMESTAMP, "a time with its zone", zone=True),
)


class Newer(Struct, frozen=True):
    """The incoming column by which rows are new, the greatest value of the run before, and how far to go back."""

    column: str
    last: str | None = None
    overlap: str | None = None

    @property
    def least(self) -> int | datetime | None:
        """The least value that is read; None for all. Raises BadOption."""
        if self.last is None:
            return None
        if re.fullmatch(r"-?\d+", self.last):
            return int(self.last) - _whole(self.overlap)
        return datetime.fromisoformat(self.last) - _period(self.overlap)


def _whole(text: str | None) -> int:
    if text is None:
        return 0
    if not text.strip().isdecimal():
        raise BadOption(f"newer_overlap is a whole number beside a column of numbers, not {text!r}.")
    return int(text)


def _period(text: str | None) -> timedelta:
    if text is None:
        return timedelta()
    found = re.fullmatch(r"\s*(\d+)\s*([a-z]+?)s?\s*", text)
    if not found or found[2] not in _UNITS:
        raise BadOption(f"newer_overlap is written as in '1 hour' or '2 days', not {text!r}.")
    return timedelta(seconds=int(found[1]) * _UNITS[found[2]])


class Told(Struct, frozen=True):
    """The rows that are new, and the greatest value among all, to go on from; None if there is none."""

    rows: Incoming
    newest: str | None


def only_newer(rows: Incoming, newer: Newer, name: str) -> Told:
    """The rows that are as new as the last one, or have no value, by the column `name`. Raises BadOption."""
    values = _typed(rows, name)
    least = newer.least
    newest = pc.max(values).as_py() if len(values) else None
    told = max((one for one in (_text(newest), newer.last) if one is not None), key=in_order, default=None)
    if least is None:
        return Told(rows, told)
    if isinstance(least, int) is not pa.types.is_integer(values.type) and values.null_count < len(values):
        raise BadOption(
            f"{name} had other values in the run before: read all rows once more.", give=((("from_start", ""),),)
        )
    stays = ~valid(values) | mask_of(pc.greater_equal(values, _like(least, values.type)))
    return Told(rows if stays.all() else rows.only(pc.indices_nonzero(pa.array(stays)).to_numpy()), told)


def _like(least: int | datetime, kind: pa.DataType) -> pa.Scalar:
    """The bound as a value of the column; nothing is known of the zone of one that has none."""
    if isinstance(least, datetime):
        zoned = pa.types.is_timestamp(kind) and kind.tz is not None
        least = least.astimezone(UTC) if zoned and least.tzinfo else least.replace(tzinfo=UTC if zoned else None)
    return pa.scalar(least, kind)


def _typed(rows: Incoming, name: str) -> pa.Array:
    """The column as numbers, or as times."""
    arrays = tidy_arrays(rows.column(name).arrays)
    if not arrays:
        return pa.nulls(len(rows.row_numbers), pa.int64())
    for kind in _TYPES:
        cast = cast_cells(arrays, kind, len(rows.row_numbers))
        if not cast.bad:
            return cast.values
    raise BadOption(f"{name} can't tell which rows are new: it holds values that are no dates, times or whole numbers.")


def _text(value: int | datetime | None) -> str | None:
    return None if value is None else str(value) if isinstance(value, int) else value.isoformat()


def in_order(text: str) -> tuple[int, str]:
    """What compares texts of one kind by their values."""
    return (int(text), "") if re.fullmatch(r"-?\d+", text) else (0, text)

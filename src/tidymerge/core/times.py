"""Cells to dates, times and timestamps. Text must be ISO 8601: any other order of day and month is a guess."""

import re
from datetime import UTC, date, datetime, time

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import BadCells, Cast, TextRule, Wrong, cast_text, mask_of, valid
from tidymerge.model import ColumnType, Reason

_DATE = "a date as year-month-day, such as 2026-05-04"
_TIME = "a time such as 09:30 or 09:30:15"
_STAMP = "a date and time such as 2026-05-04 09:30:00"
_MICROSECONDS = 6  # decimals of a second
_MIDNIGHT = re.compile(r"(\d{4}-\d{2}-\d{2})[T ]00:00(:00(\.0+)?)?")


def to_date(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast ISO text, dates, or timestamps at midnight to dates."""
    if pa.types.is_string(cells.type):
        return cast_text(cells, TextRule(pa.date32(), _one_date, r"\d{4}-\d{2}-\d{2}", b"0123456789-"))
    if pa.types.is_date(cells.type):
        return Cast(pc.cast(cells, pa.date32()))
    if pa.types.is_timestamp(cells.type):
        days = pc.cast(cells, pa.date32(), safe=False)
        whole = pc.equal(pc.cast(days, cells.type), cells)
        part = np.flatnonzero(valid(cells) & ~mask_of(whole))
        bad = (BadCells(part, Reason.NOT_A_DATE, "a date without a time of day"),) if len(part) else ()
        return Cast(pc.if_else(whole, days, pa.scalar(None, pa.date32())), bad)
    return refuse(cells, to, Reason.NOT_A_DATE, _DATE)


def _one_date(text: str) -> date | Wrong:
    midnight = _MIDNIGHT.fullmatch(text)
    try:
        if midnight or re.fullmatch(r"\d{4}-\d{2}-\d{2}", text):
            return date.fromisoformat(midnight[1] if midnight else text)
    except ValueError:
        return Wrong(Reason.NOT_A_DATE, "a day that exists in the calendar")
    return Wrong(Reason.NOT_A_DATE, _DATE)


def to_time(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast ISO text or times to times of day."""
    if pa.types.is_string(cells.type):
        return _to_the_second(cast_text(cells, TextRule(pa.time64("us"), _one_time)), to)
    if pa.types.is_time(cells.type):
        return _to_the_second(Cast(pc.cast(cells, pa.time64("us"))), to)
    return refuse(cells, to, Reason.NOT_A_TIME, _TIME)


def _one_time(text: str) -> time | Wrong:
    if re.fullmatch(r"\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?", text):
        try:
            return time.fromisoformat(text)
        except ValueError:
            pass
    return Wrong(Reason.NOT_A_TIME, _TIME)


def to_timestamp(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast ISO text, dates or timestamps. A zone must be there if the column keeps one, and not otherwise."""
    if pa.types.is_string(cells.type):
        zone = r"(Z|[+-]\d{2}:\d{2})" if to.zone else ""
        plain = rf"\d{{4}}-\d{{2}}-\d{{2}}[T ]\d{{2}}:\d{{2}}(:\d{{2}}(\.\d{{1,6}})?)?{zone}"
        rule = TextRule(to.arrow, lambda text: _one_timestamp(text, zone=to.zone), plain, b"0123456789-:.T Z+")
        return _to_the_second(cast_text(cells, rule), to)
    if pa.types.is_date(cells.type) and not to.zone:
        return Cast(pc.cast(cells, to.arrow))
    if pa.types.is_timestamp(cells.type) and (cells.type.tz is not None) == to.zone:
        return _to_the_second(Cast(pc.cast(cells, to.arrow)), to)
    wanted = f"{_STAMP} with its zone, such as +02:00" if to.zone else _STAMP
    return refuse(cells, to, Reason.NOT_A_TIMESTAMP, wanted)


def _one_timestamp(text: str, *, zone: bool) -> datetime | Wrong:
    wanted = f"{_STAMP}+02:00, with its zone" if zone else _STAMP
    if not re.fullmatch(r"\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?(Z|[+-]\d{2}:?\d{2})?)?", text):
        return Wrong(Reason.NOT_A_TIMESTAMP, wanted)
    try:
        stamp = datetime.fromisoformat(text)
    except ValueError:
        return Wrong(Reason.NOT_A_TIMESTAMP, "a day and time that exist")
    if (stamp.tzinfo is not None) != zone:
        return Wrong(Reason.NOT_A_TIMESTAMP, wanted if zone else f"{_STAMP} without a zone: the column keeps none")
    return stamp.astimezone(UTC) if zone else stamp


def _to_the_second(cast: Cast, to: ColumnType) -> Cast:
    """Point out values finer than the column keeps: rounding them would be silent."""
    if to.scale is None or to.scale >= _MICROSECONDS:
        return cast
    unit = 10 ** (_MICROSECONDS - to.scale)
    micros = pc.cast(cast.values, pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
    fine = micros % unit != 0
    if not fine.any():
        return cast
    expected = f"at most {to.scale} decimals of a second" if to.scale else "no fractions of a second"
    values = pc.if_else(pa.array(fine), pa.scalar(None, cast.values.type), cast.values)
    return Cast(values, (*cast.bad, BadCells(np.flatnonzero(fine), Reason.TOO_MANY_DECIMALS, expected)))


def refuse(cells: pa.Array, to: ColumnType, reason: Reason, expected: str) -> Cast:
    """Reject every cell: nothing of this type can become the target's."""
    rows = np.flatnonzero(valid(cells))
    bad = (BadCells(rows, reason, expected),) if len(rows) else ()
    return Cast(pa.nulls(len(cells), to.arrow), bad)

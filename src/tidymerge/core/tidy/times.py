"""Cells to dates, times and timestamps. Text must be ISO 8601: any other order of day and month is a guess."""

import re
from datetime import UTC, date, datetime, time

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import BadCells, Cast, TextRule, Wrong, cast_text, mask_of, valid
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
        array = np.flatnonzero(valid(cells) & ~mask_of(whole))
        bad = (BadCells(array, Reason.NOT_A_DATE, "a date without a time of day"),) if len(array) else ()
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
    """Cast ISO text or times to times of day, or to longer ones where the column holds such."""
    if to.beyond_day:
        return _long_times(cells, to)
    if pa.types.is_string(cells.type):
        return _to_the_second(cast_text(cells, TextRule(pa.time64("us"), _one_time)), to)
    if pa.types.is_time(cells.type):
        return _to_the_second(Cast(pc.cast(cells, pa.time64("us"))), to)
    return refuse(cells, to, Reason.NOT_A_TIME, _TIME)


def _long_times(cells: pa.Array, to: ColumnType) -> Cast:
    if not (pa.types.is_string(cells.type) or pa.types.is_time(cells.type)):
        return refuse(cells, to, Reason.NOT_A_TIME, _TIME)
    texts = pc.cast(cells, pa.string())
    return cast_text(texts, TextRule(pa.string(), lambda text: _one_long_time(text, to)))


def _one_long_time(text: str, to: ColumnType) -> str | Wrong:
    micros = microseconds(text)
    if micros is None:
        return Wrong(Reason.NOT_A_TIME, _TIME)
    if not to.minimum <= micros <= to.maximum:
        return Wrong(Reason.OUT_OF_RANGE, f"a time from {spelled(to.minimum)} to {spelled(to.maximum)}")
    if to.scale is not None and micros % 10 ** (_MICROSECONDS - to.scale):
        return Wrong(Reason.TOO_MANY_DECIMALS, _decimals(to.scale))
    return spelled(micros)


def microseconds(text: str) -> int | None:
    """How long a time is, as in 09:30, 24:00:00.5 or -838:59:59; None if it is none."""
    found = re.fullmatch(r"(-?)(\d{2,3}):([0-5]\d)(?::([0-5]\d)(?:\.(\d{1,6}))?)?", text, re.ASCII)
    if found is None:
        return None
    seconds = int(found[2]) * 3600 + int(found[3]) * 60 + int(found[4] or 0)
    size: int = seconds * 1_000_000 + int((found[5] or "").ljust(_MICROSECONDS, "0"))
    return -size if found[1] else size


def spelled(micros: int) -> str:
    """A time in one spelling: hours of two digits at least, and no zeros that say nothing after its seconds."""
    seconds, fraction = divmod(abs(micros), 10**_MICROSECONDS)
    minutes, second = divmod(seconds, 60)
    hour, minute = divmod(minutes, 60)
    end = f".{fraction:0{_MICROSECONDS}}".rstrip("0") if fraction else ""
    return f"{'-' if micros < 0 else ''}{hour:02}:{minute:02}:{second:02}{end}"


def durations(times: pa.Array) -> pa.Array:
    """Times, or times in their one spelling, as microseconds, so that they can be compared."""
    if not pa.types.is_string(times.type):
        return pc.cast(times, pa.int64())
    coded = times.dictionary_encode()
    return pa.array([microseconds(text) for text in coded.dictionary.to_pylist()], pa.int64()).take(coded.indices)


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
    values = pc.if_else(pa.array(fine), pa.scalar(None, cast.values.type), cast.values)
    return Cast(values, (*cast.bad, BadCells(np.flatnonzero(fine), Reason.TOO_MANY_DECIMALS, _decimals(to.scale))))


def _decimals(scale: int) -> str:
    return f"at most {scale} decimals of a second" if scale else "no fractions of a second"


def refuse(cells: pa.Array, to: ColumnType, reason: Reason, expected: str) -> Cast:
    """Reject every cell: nothing of this type can become the target's."""
    rows = np.flatnonzero(valid(cells))
    bad = (BadCells(rows, reason, expected),) if len(rows) else ()
    return Cast(pa.nulls(len(cells), to.arrow), bad)

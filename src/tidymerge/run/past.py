"""Asking the log: which runs there were, what became of a record, and a run's changes as a file."""

import re
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.address import reopened
from tidymerge.core.undo.reverse import near, touches_at
from tidymerge.errors import BadOption, LogDamaged, NotUndoable
from tidymerge.history.folder import FolderLog
from tidymerge.model.changes import Logged
from tidymerge.model.receipt import Receipt, State, Touch
from tidymerge.model.run import Run
from tidymerge.ports.log import RunLog
from tidymerge.reports.changes_file import changes_table, write_changes
from tidymerge.run.record import settle_all

_UNITS = {"min": 1, "minute": 1, "h": 60, "hour": 60, "d": 1440, "day": 1440, "w": 10080, "week": 10080}  # minutes
_AGE = re.compile(r"(\d{1,6}) ?([a-z]+)")
_DAYS = {"today": 0, "yesterday": 1}


class PastRun(Struct, frozen=True):
    """A run, and the later run that took it back, if one did."""

    run: Run
    undone_by: str | None


class Past(Struct, frozen=True):
    """The runs asked for, the latest first, and what was found out or found damaged on the way."""

    runs: tuple[PastRun, ...]
    told: tuple[str, ...]


def past_runs(*, target: str | None = None, since: str | None = None, state: str | None = None) -> Past:
    """The runs of the log: those into a target, since a time, of a state. Raises BadOption."""
    if state is not None and state not in _STATES:
        raise BadOption(f"The state of a run is one of {', '.join(_STATES)}, not {state!r}.")
    start = None if since is None else time_of(since)
    log = FolderLog()
    told = settle_all(log)
    runs, damaged = _all_runs(log)
    undone = _undone(runs)
    found = [
        PastRun(run, undone.get(run.name))
        for run in runs
        if (target is None or _is_into(run, target))
        and (start is None or run.started >= start)
        and (state is None or run.state == state)
    ]
    return Past(tuple(found), (*told, *damaged))


_STATES = tuple(state.value for state in State if state is not State.PREVIEWED)


def _all_runs(log: RunLog) -> tuple[list[Run], list[str]]:
    runs, damaged = [], []
    for name in log.names():
        try:
            runs.append(log.read(name))
        except LogDamaged as error:
            damaged.append(str(error))
    return runs, damaged


def _undone(runs: Sequence[Run]) -> dict[str, str]:
    """For each run that is taken back the run that did it; `runs` are the latest first."""
    by: dict[str, str] = {}
    for run in runs:
        if run.undoes and run.wrote and run.name not in by:
            by[run.undoes] = run.name
    return by


def _is_into(run: Run, target: str) -> bool:
    """Whether a run went into the target named: an address or its end, a whole file or database, or just the table."""
    if any(_is_into(own, target) for own in run.each if run.others):
        return True
    if run.target == target or run.target.endswith((f"/{target}", f"#{target}")):
        return True
    wanted = reopened(target)
    return run.target == wanted or run.target.startswith(f"{wanted}#")


def time_of(text: str) -> datetime:
    """A date, a date and time, a day such as "yesterday", or an age such as "3 days" or "2h". Raises BadOption."""
    plain = text.strip().lower()
    try:
        if plain in _DAYS:
            midnight = datetime.combine(datetime.now().astimezone().date(), datetime.min.time())
            return (midnight - timedelta(days=_DAYS[plain])).astimezone()
        if age := _AGE.fullmatch(plain):
            unit = age[2] if age[2] in _UNITS else age[2].removesuffix("s")
            return datetime.now(UTC) - timedelta(minutes=int(age[1]) * _UNITS[unit])
        return datetime.fromisoformat(text).astimezone()
    except (ValueError, OverflowError, KeyError):
        raise BadOption(
            f"A time is a date, as in 2026-05-04, or yesterday, or an age, as in '3 days' or 2h, but not {text!r}."
        ) from None


def one_run(text: str) -> Past:
    """The run whose name is, or begins with, `text`. Raises NoSuchRun and LogDamaged."""
    log = FolderLog()
    told = settle_all(log)
    run = log.find(text)
    return Past((PastRun(run, _undone(_all_runs(log)[0]).get(run.name)),), tuple(told))


def touched_of(receipt: Receipt, most: int) -> list[Touch]:
    """What a run did to the first records of its log, in the order of its incoming rows as far as they go."""
    found: list[Touch] = []
    log = FolderLog()
    if receipt.run in log.names():
        run = log.read(receipt.run)
        for own in run.each if run.wrote else ():
            for part in log.changes(own):
                order = np.argsort(part.rows, kind="stable")[: most - len(found)]
                touches = touches_at(part, own, order)
                found += [replace(touch, table=own.called) for touch in touches] if run.others else touches
    return found


def story(keys: Sequence[str], past: Past, most: int | None = None) -> list[tuple[PastRun, Touch]]:
    """What the runs did to the record of that key, the earliest first. `keys` are as the target spells them.

    Once more than `most` changes are found, earlier runs are not looked at. Raises BadOption where no run's key has so
    many columns.
    """
    log = FolderLog()
    found: list[tuple[PastRun, list[Touch]]] = []  # the latest first
    count = 0
    each = [PastRun(own, one.undone_by) for one in past.runs if one.run.wrote for own in one.run.each]
    wrote = [one for one in each if one.run.key]
    if wrote and all(len(one.run.key) != len(keys) for one in wrote):
        known = " or ".join(dict.fromkeys(" + ".join(one.run.key) for one in wrote))
        raise BadOption(
            f"Records have the key {known}: give a value for each of its columns, in that order.",
            give=((("record", "VALUE"), ("record", "VALUE")),),
        )
    for one in wrote:
        if len(one.run.key) == len(keys):
            wanted = partial(near, run=one.run, keys=[tuple(keys)])
            parts = [touches_at(part, one.run, np.arange(len(part.rows))) for part in log.changes(one.run, wanted)]
            found.append((one, [touch for touches in parts for touch in touches]))
            count += len(found[-1][1])
        if most is not None and count > most:
            break
    return [(one, touch) for one, touches in reversed(found) for touch in touches]


def save_changes(run: Run, path: Path) -> int:
    """Write what a run changed, a line for each field; how many. The ending says how. Raises BadOption, NotUndoable."""
    return write_changes(_logs(run), run, path)


def changes_of(run: Run) -> pa.Table:
    """What a run changed, a row for each field, as text. Raises NotUndoable."""
    return changes_table(_logs(run), run)


def _logs(run: Run) -> Iterator[tuple[Run, Logged]]:
    if not run.wrote:
        raise NotUndoable(f"The run {run.name} {run.nothing_done}.", run=run.name)
    log = FolderLog()
    return ((own, part) for own in run.each for part in log.changes(own))

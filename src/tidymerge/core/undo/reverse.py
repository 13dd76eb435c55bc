"""What a run did, for the log; and from the log, what there is to undo.

Values are the target's own exact text, so that what is written back is what was there, to the last sign.
"""

from collections.abc import Callable, Iterator, Sequence
from enum import IntEnum

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.change_set import shapes_of, told_apart, with_changed
from tidymerge.core.decide.rows import flawed
from tidymerge.core.match.order import generations
from tidymerge.core.tidy.cells import as_array, differs, mask_of, valid
from tidymerge.model import Existing, Flaw, Incoming, Indices, Kind, Mask, Pairing, Reason, TableShape
from tidymerge.model.changes import ChangeSet, Inserts, Logged, Matches, Outcome, Removals, Updates
from tidymerge.model.receipt import Conflict, Touch
from tidymerge.model.run import Run


def touched(changes: Sequence[ChangeSet]) -> list[str]:
    """The columns, keys aside, that the changes write in some existing record."""
    names = dict.fromkeys(name for part in changes for name in part.updates.columns)
    return list(names)


def logged(
    incoming: Incoming,
    changes: ChangeSet,
    before: pa.Table,
    after: pa.Table,
    key: Sequence[str],
    *,
    whole: bool = False,
) -> Logged:
    """What the log keeps of some changes.

    `before` has the updated records, `after` the updated and then the new ones, all columns as exact text. Records that
    are known by all that they hold, as a `whole`, have that as their key.
    """
    updates, inserts, removals = len(changes.updates), len(changes.inserts), len(changes.removals)
    names = [name for name in after.column_names if whole or name not in key]
    nothing = {name: pa.nulls(removals, pa.string()) for name in after.column_names}
    removed = {name: changes.removals.before[name] if removals else nothing[name] for name in after.column_names}
    keys = {name: _stacked(after[name], removed[name]) for name in key}
    old, new, masks = {}, {}, {}
    for name in names:
        changed = changes.updates.changing(name)
        masks[name] = np.r_[changed, np.zeros(inserts + removals, bool)]
        was = _only(before[name], changed) if name in before.column_names else pa.nulls(updates, pa.string())
        old[name] = _stacked(was, pa.nulls(inserts, pa.string()), removed[name])
        new[name] = _stacked(_only(after[name], np.r_[changed, np.ones(inserts, bool)]), nothing[name])
    rows = np.concatenate([part.rows for part in (changes.updates, changes.inserts, changes.removals)])
    return Logged(
        np.repeat(
            np.array([Outcome.UPDATED, Outcome.INSERTED, Outcome.REMOVED], np.uint8), [updates, inserts, removals]
        ),
        incoming.numbers_of(rows),
        pa.table(keys),
        pa.table(old),
        pa.table(new),
        masks,
        None
        if incoming.origin is None
        else pa.array(incoming.origins, pa.string()).take(pa.array(incoming.origin[rows])),
    )


def joined(logs: Sequence[Logged]) -> Logged:
    """All parts of a log in one."""
    if len(logs) == 1:
        return logs[0]
    keys, before, after = (
        pa.concat_tables(tables) for tables in zip(*((p.keys, p.before, p.after) for p in logs), strict=True)
    )
    return Logged(
        np.concatenate([part.outcomes for part in logs]),
        np.concatenate([part.rows for part in logs]),
        keys,
        before,
        after,
        {name: np.concatenate([part.changed[name] for part in logs]) for name in logs[0].changed},
        None if logs[0].files is None else pa.concat_arrays([part.files for part in logs]),
    )


def _only(values: pa.ChunkedArray, mask: Mask) -> pa.Array:
    return pc.if_else(pa.array(mask), as_array(values), pa.scalar(None, pa.string()))


def _stacked(*arrays: pa.Array | pa.ChunkedArray) -> pa.Array:
    filled = [as_array(array) for array in arrays if len(array)]
    return filled[0] if len(filled) == 1 else pa.concat_arrays(filled or [as_array(arrays[0])])


class Standing(IntEnum):
    """How a record stands to what the log says of it."""

    HOLDS = 0  # what the run wrote
    BACK = 1  # what was there before the run
    CHANGED = 2  # neither
    GONE = 3
    SEVERAL = 4  # more than one record has its key


class Comparison(Struct, frozen=True):
    """The log held against the target: how each record stands, and by column where it has something else."""

    standing: np.ndarray
    record: Indices
    other: dict[str, Mask]
    now: dict[str, pa.Array]


def compare(
    log: Logged, existing: Existing, matches: Matches, came_since: Sequence[str] = (), *, keyed: bool = True
) -> Comparison:
    """How the records of the log stand. `existing` has their columns as exact text.

    A new record that holds something in a column which `came_since`, without a default, was changed by somebody.
    """
    there = matches.times > 0
    at = pa.array(matches.record, mask=~there)
    updated, inserted, removed = (
        log.outcomes == outcome for outcome in (Outcome.UPDATED, Outcome.INSERTED, Outcome.REMOVED)
    )
    holds, back = np.ones(len(there), bool), np.ones(len(there), bool)
    other, now = {}, {}
    for name in log.after.column_names:
        current = as_array(existing.values[name].take(at))
        wrote, was = as_array(log.after[name]), as_array(log.before[name])
        written = (updated & log.changed[name]) | inserted
        replaced = (updated & log.changed[name]) | removed
        differs_now, differed = differs(current, wrote), differs(current, was)
        holds &= ~(written & differs_now)
        back &= ~(replaced & differed)
        other[name] = there & ((written & differs_now) | (removed & differed))
        now[name] = current
    for name in came_since:
        now[name] = as_array(existing.values[name].take(at))
        other[name] = there & inserted & valid(now[name])
        holds &= ~other[name]
    standing = np.full(len(there), Standing.CHANGED, np.uint8)
    standing[there & updated & back] = Standing.BACK
    standing[there & removed & back] = Standing.BACK
    standing[there & ~removed & holds] = Standing.HOLDS
    standing[~there & updated] = Standing.GONE
    standing[~there & inserted] = Standing.BACK
    # Without a key it can't be told whether a record that holds the same is the one that was removed.
    standing[(~there | (not keyed)) & removed] = Standing.HOLDS
    # The database may have given a new record the number of one that went: that place is free once the new one goes.
    ours = np.zeros(existing.values.num_rows + 1, bool)
    ours[matches.record[inserted & (standing == Standing.HOLDS)]] = True
    standing[there & removed & ours[np.where(there, matches.record, -1)]] = Standing.HOLDS
    standing[matches.times > 1] = Standing.SEVERAL
    return Comparison(standing, np.where(there, matches.record, -1), other, now)


def reversal(
    log: Logged,
    run: Run,
    existing: Existing,
    found: Comparison,
    pairing: Pairing,
    shape: TableShape,
    readable: Callable[[pa.Table], pa.Table],
) -> ChangeSet:
    """The changes that put things back, for the records that still hold what the run wrote; the others are rejected.

    `readable` makes exact texts fit for people.
    """
    flaws = _flaws(_for_people(found, readable), run)
    good = found.standing == Standing.HOLDS
    names = [column.name for column in pairing.columns]
    logged_before = _before(log, names)
    restored = np.flatnonzero(good & (log.outcomes == Outcome.UPDATED))
    masks = {name: mask[restored] for name, mask in log.changed.items()}
    # Read as exact text, no value is unreadable: a date may be none.
    dates = (column.name for column in shape.columns if column.type.kind in (Kind.DATE, Kind.TIMESTAMP))
    shapes = shapes_of(told_apart(masks, shape, {*pairing.key, *dates}), len(restored))
    order = np.lexsort((found.record[restored], shapes))
    restored, shapes = restored[order], shapes[order]
    changed = {name: mask[order] for name, mask in masks.items()}
    again = np.flatnonzero(good & (log.outcomes == Outcome.REMOVED))
    fresh = logged_before.take(pa.array(again))
    first = np.argsort(generations(fresh, shape), kind="stable")
    fresh, again = fresh.take(pa.array(first)), again[first]
    before = existing.values.select(names).take(pa.array(found.record[restored]))
    old = logged_before.take(pa.array(restored))
    leaving_rows = np.flatnonzero(good & (log.outcomes == Outcome.INSERTED))
    removed = existing.values.select(names).take(pa.array(found.record[leaving_rows]))
    last = np.argsort(-generations(removed, shape), kind="stable")
    leaving_rows, removed = leaving_rows[last], removed.take(pa.array(last))
    # A column that the table has got since is left to its default.
    known = {*log.keys.column_names, *log.before.column_names}
    given = {name: np.full(len(again), name in known) for name in names}
    positions = np.arange(len(restored) + len(again) + len(leaving_rows))
    of_updates, of_inserts, of_removals = np.split(positions, [len(restored), len(restored) + len(again)])
    after = with_changed(before, old, changed)
    return ChangeSet(
        outcomes=_outcomes(len(log.rows), restored, again, leaving_rows, flaws),
        flaws=tuple(flaws),
        key=pairing.key,
        updates=Updates(found.record[restored], restored, of_updates, before, after, changed, shapes),
        inserts=Inserts(again, of_inserts, fresh, given),
        removals=Removals(found.record[leaving_rows], leaving_rows, of_removals, removed),
    )


def _for_people(found: Comparison, readable: Callable[[pa.Table], pa.Table]) -> Comparison:
    now = readable(pa.table(found.now)) if found.now else pa.table({})
    return replace(found, now={name: as_array(now[name]) for name in now.column_names})


def _outcomes(
    rows: int, restored: Indices, again: Indices, leaving: Indices, flaws: Sequence[Flaw]
) -> npt.NDArray[np.uint8]:
    outcomes = np.full(rows, Outcome.UNCHANGED, np.uint8)
    outcomes[restored], outcomes[again], outcomes[leaving] = Outcome.UPDATED, Outcome.INSERTED, Outcome.REMOVED
    outcomes[flawed(flaws, rows)] = Outcome.REJECTED
    return outcomes


def _before(log: Logged, names: Sequence[str]) -> pa.Table:
    """The columns as they were before the run; null for a column that the table did not have yet."""
    known = {name: log.before[name] for name in log.before.column_names}
    for name in log.keys.column_names:  # of a record that is known by all that it holds, as it was written
        key = as_array(log.keys[name])
        known[name] = pc.if_else(pa.array(log.changed[name]), as_array(known[name]), key) if name in known else key
    return pa.table({name: known.get(name, pa.nulls(len(log.rows), pa.string())) for name in names})


def _flaws(found: Comparison, run: Run) -> list[Flaw]:
    """The records that hold something else by now, with what they hold."""
    flaws = []
    for name, mask in found.other.items():
        rows = np.flatnonzero(mask & (found.standing == Standing.CHANGED))
        if len(rows):
            values = _readable(found.now[name].take(pa.array(rows)), run)
            flaws.append(Flaw(Reason.CHANGED_SINCE, rows, "what the run left there", name, values))
    for standing, reason, wanted in (
        (Standing.GONE, Reason.GONE_SINCE, "the record that the run updated"),
        (Standing.SEVERAL, Reason.SEVERAL_RECORDS, "one record of that key"),
    ):
        rows = np.flatnonzero(found.standing == standing)
        if len(rows):
            flaws.append(Flaw(reason, rows, wanted))
    return flaws


def shown(changes: ChangeSet) -> ChangeSet:
    """Changes of marked text for people: without the letter at the start of each value. Flaws are so already."""
    return changes.with_values(unmarked_table)


def unmarked(texts: pa.Array) -> pa.Array:
    """Marked texts without their mark."""
    return pc.utf8_slice_codeunits(texts, 1)


def unmarked_table(table: pa.Table) -> pa.Table:
    """The same for every column."""
    return pa.table({name: unmarked(as_array(table[name])) for name in table.column_names})


def conflicts(log: Logged, changes: ChangeSet, run: Run) -> Iterator[Conflict]:
    """The records that can't be put back: what the run wrote, and what is there now or stands in the way."""
    for flaw in changes.flaws:
        rows = pa.array(flaw.rows)
        keys = [_readable(log.keys[name].take(rows), run).to_pylist() for name in run.key]
        wrote: list[str | None] = [None] * len(rows)
        now = wrote if flaw.values is None else flaw.values.to_pylist()
        if flaw.reason is Reason.CHANGED_SINCE and flaw.column in log.after.column_names:
            wrote = _readable(log.after[flaw.column].take(rows), run).to_pylist()
        for number, *key, left, found in zip(log.rows[flaw.rows].tolist(), *keys, wrote, now, strict=True):
            yield Conflict(number, tuple(key), flaw.reason.value, flaw.expected, flaw.column, left, found)


def touches(log: Logged, run: Run, keys: Sequence[tuple[str, ...]]) -> list[Touch]:
    """What a part of a run did to the records of the given keys, which are spelled as the target has them."""
    wanted = set(keys)
    found = touches_at(log, run, np.flatnonzero(near(log.keys, run, keys)))
    return [touch for touch in found if touch.key in wanted]


def near(found: pa.Table, run: Run, keys: Sequence[tuple[str, ...]]) -> Mask:
    """Which logged keys have in each column what any of the given keys has there."""
    mask = np.ones(found.num_rows, bool)
    for at, name in enumerate(run.key):
        texts = pa.array(sorted({key[at] for key in keys}), pa.string())
        mask &= mask_of(pc.is_in(_readable(found[name], run), texts))
    return mask


def touches_at(log: Logged, run: Run, records: Indices) -> list[Touch]:
    """What a part of a run did to some of its records, given by their index, in that order."""
    at = pa.array(records)
    keys = [_readable(log.keys[name].take(at), run).to_pylist() for name in run.key]
    both = {
        name: [_readable(side[name].take(at), run).to_pylist() for side in (log.before, log.after)]
        for name in log.after.column_names
    }
    found = []
    for index, (record, *key) in enumerate(zip(records.tolist(), *keys, strict=True)):
        fields = tuple(
            (name, before[index], after[index])
            for name, (before, after) in both.items()
            if log.changed[name][record] or before[index] is not None or after[index] is not None
        )
        outcome = Outcome(log.outcomes[record]).name.lower()
        file = None if log.files is None else log.files[record].as_py()
        found.append(Touch(outcome, int(log.rows[record]), tuple(key), fields, file))
    return found


def _readable(texts: pa.ChunkedArray, run: Run) -> pa.Array:
    return unmarked(as_array(texts)) if run.marked else as_array(texts)

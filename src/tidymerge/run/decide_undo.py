"""The log held against the target: what there is to undo, and whether a run that was cut off had committed."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.address import same_table
from tidymerge.core.account import account
from tidymerge.core.match.match import by_number, code_keys, match, match_contents, texts_to_tell
from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.core.undo.reverse import Comparison, Standing, compare, conflicts, joined, reversal, shown, touches
from tidymerge.errors import NoSuchTable, NotUndoable
from tidymerge.model import Existing, Incoming, NewColumn, Pair, Pairing, Sample, TableShape
from tidymerge.model.changes import ChangeSet, Logged, Matches, Outcome, Refusal
from tidymerge.model.existing import put_together
from tidymerge.model.receipt import Conflict
from tidymerge.model.rules import ColumnRule
from tidymerge.model.run import Run
from tidymerge.ports.log import RunLog
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import AmongOthers, Piecewise, Target
from tidymerge.run.ask import equal_texts
from tidymerge.run.decided import Beside, Decided, Part, as_they_are
from tidymerge.run.settle import Staged, settle


def held_against(
    run: Run, logs: Iterable[Logged], target: Target, shape: TableShape
) -> Iterator[tuple[Logged, Pairing, Existing, Comparison]]:
    """Each part of a run's log, exact, with the records as they are now. Raises NotUndoable if a column is gone."""
    # Without a key, what a record is found by may be in several parts: no record is to be taken twice.
    for readable in [joined(list(logs))] if run.whole else logs:
        log = replace(
            readable,
            keys=target.exact(readable.keys),
            before=target.exact(readable.before),
            after=target.exact(readable.after),
        )
        pairing = _pairing(run, log, shape)
        existing, found = _found(run, log, pairing, target)
        known = {*log.keys.column_names, *log.after.column_names}
        came_since = [
            column.name
            for column in shape.columns
            if not column.has_default and column.name in existing.values.column_names and column.name not in known
        ]
        yield log, pairing, existing, compare(log, existing, found, came_since, keyed=not run.whole)


def _found(run: Run, log: Logged, pairing: Pairing, target: Target) -> tuple[Existing, Matches]:
    """The records that a part of a log may mean, and which each of its entries means."""
    key = pairing.key_columns
    if run.whole:
        existing = put_together(list(target.read_in_batches(pairing.columns, ())))
        return existing, match_contents(log.keys, existing.values)
    existing = target.fetch(pairing.columns, key, log.keys.select(pairing.key))
    equal = by_number(equal_texts(target, key, texts_to_tell([log.keys, existing.values], key)))
    return existing, match(code_keys(log.keys, existing.values, key, equal))


def _pairing(run: Run, log: Logged, shape: TableShape) -> Pairing:
    """The columns of the log, or all columns where whole records come or go; values travel as exact text."""
    names = {*log.keys.column_names, *log.after.column_names}
    gone = names - {column.name for column in shape.columns}
    if gone:
        raise NotUndoable(
            f"The run {run.name} can't be undone: {run.target} no longer has the column {min(gone)}, which it wrote.",
            run=run.name,
        )
    whole = bool((log.outcomes != Outcome.UPDATED).any())
    columns = [column for column in shape.columns if not column.generated and (whole or column.name in names)]
    pairs = tuple(Pair(column.as_stored(), column.name, ColumnRule(sources=(column.name,))) for column in columns)
    return Pairing(pairs, () if run.whole else run.record_key, (), ())


class Verdict(Struct, frozen=True):
    """Whether the target shows that a run `lasted`: None where nothing tells, or records speak against each other.

    Where it is written in pieces, `holds` has the places in the log, by table, of what is there, if only a part is; so
    many records are `unclear`, as somebody changed them since.
    """

    lasted: bool | None
    holds: Mapping[int, tuple[int, ...]] | None = None
    unclear: int = 0


def committed(log: RunLog, run: Run, target: Target) -> Verdict:
    """What the target shows of a run that was cut off."""
    if isinstance(target, Piecewise):
        return _by_pieces(log, run, target)
    told = {_told(own, log, target) for own in run.each}
    clear = next((one for one in told if one is not None), None)
    return Verdict(None if {True, False} <= told else clear)


def _by_pieces(log: RunLog, run: Run, target: Target) -> Verdict:
    """The same where some records may hold what the run wrote, and others what was before."""
    holds: dict[int, tuple[int, ...]] = {}
    back = total = 0
    for own in run.each:
        there = beside(target, own)
        found = [one.standing for *_, one in held_against(own, log.changes(own), there, there.describe())]
        standing = np.concatenate(found) if found else np.zeros(0, np.uint8)
        if own.whole and own.receipt is not None and not own.receipt.rows.updated + own.receipt.rows.removed:
            standing = _by_count(own, there, len(standing))
        holds[own.table] = tuple(np.flatnonzero(standing == Standing.HOLDS).tolist())
        back += int((standing == Standing.BACK).sum())
        total += len(standing)
    held = sum(map(len, holds.values()))
    unclear = total - back - held
    if not held:
        return Verdict(False if back else None, unclear=unclear)
    return Verdict(None, holds, unclear) if back else Verdict(True, unclear=unclear)


def _by_count(run: Run, target: Target, changes: int) -> np.ndarray:
    """How new records stand that no key tells from others: so many came as there are more, the first ones first."""
    assert run.receipt is not None  # noqa: S101 - asked only then
    came = min(max(target.count() - run.receipt.tables[0].rows_before, 0), changes)
    return np.repeat(np.array([Standing.HOLDS, Standing.BACK], np.uint8), [came, changes - came])


def _told(run: Run, log: RunLog, target: Target) -> bool | None:
    """The same by one of its tables: one that was made with it, or went, tells by being there."""
    try:
        return _committed(run, log.changes(run), beside(target, run))
    except NoSuchTable:
        if run.table and (run.made or run.gone):
            return run.gone
        raise


def beside(target: Target, run: Run, *, create: bool = False) -> Target:
    """The table of a run: that of the target, or another one of its place."""
    if not run.table:
        return target
    assert isinstance(target, AmongOthers)  # noqa: S101 - only there a run has several tables
    return target.beside(run.called, create=create)


def _committed(run: Run, logs: Iterable[Logged], target: Target) -> bool | None:
    """The same by one of its tables."""
    yes, no = 0, 0
    shape = target.describe()
    there = {column.name for column in shape.columns}
    if not there.issuperset((*run.added, *run.dropped)):  # columns come and go with the commit
        return there.issuperset(run.added)
    if run.dropped and run.receipt is not None and not run.receipt.changed:  # they held no values, and are still there
        return False
    if run.whole and run.receipt is not None:  # equal records may be somebody else's: how many there are tells
        (table,) = run.receipt.tables
        if table.rows_after != table.rows_before:
            return {table.rows_after: True, table.rows_before: False}.get(target.count())
    for _, _, _, found in held_against(run, logs, target, shape):
        yes += int((found.standing == Standing.HOLDS).sum())
        no += int((found.standing == Standing.BACK).sum())
    return None if bool(yes) == bool(no) else yes > 0


def undoable(log: RunLog, text: str) -> Run:
    """The run to undo. Raises NoSuchRun and NotUndoable."""
    run = log.find(text, wrote=True)
    if not run.wrote:
        raise NotUndoable(f"The run {run.name} {run.nothing_done}, so there is nothing to undo.", run=run.name)
    by = undone_by(log, run) if any(own.whole for own in run.each) else None
    if by is not None:  # what holds the same now may be somebody else's
        raise NotUndoable(f"The run {run.name} was undone by {by} already.", run=run.name)
    if not run.settled:
        with log.ended(run.name) as gone:
            if not gone:
                raise NotUndoable(
                    f"The run {run.name} is still running; wait until it has ended, then undo it.", run=run.name
                )
    return run


def undone_by(log: RunLog, run: Run) -> str | None:
    """The run that took this one back, if one did that is not taken back itself."""
    undone: dict[str, str] = {}
    for name in log.names():
        other = log.read(name) if name > run.name else run
        if other.undoes and other.wrote and name not in undone:
            undone[other.undoes] = name
        if name <= run.name:
            break
    return undone.get(run.name)


def later_runs(log: RunLog, run: Run) -> Iterator[tuple[Run, Iterable[Logged]]]:
    """The runs that may have changed the same records since, in order of time, with their logs."""
    for later in (log.read(name) for name in reversed(log.names()) if name > run.name):
        for other in later.each if later.wrote else ():
            if other.key == run.key and same_table(other.target, run.target):
                yield other, log.changes(other)


def decide_undo(log: RunLog, run: Run, target: Target, progress: Progress) -> Decided:
    """Compare every record of a run with the log, stage what puts it back, and settle the constraints."""
    # All are opened first: MariaDB begins anew where a table is made again.
    opened = [(own, beside(target, own, create=own.gone)) for own in run.each]
    tables = [_staged_undo(log, own, there, progress) for own, there in opened]
    progress.stage("testing the constraints")
    settled = settle([one.staged for one in tables])
    first, *others = [_decided_undo(log, one, parts) for one, parts in zip(tables, settled, strict=True)]
    found = (Beside(one.staged.target, decided) for one, decided in zip(tables[1:], others, strict=True))
    return replace(first, beside=tuple(found))


class _Undoing(Struct, frozen=True):
    """A table of a run that is undone: what the log has, its shape with columns that come back, what is staged."""

    run: Run
    shape: TableShape
    again: Sequence[NewColumn]
    logs: Sequence[Logged]
    rows_before: int
    staged: Staged


def _staged_undo(log: RunLog, run: Run, target: Target, progress: Progress) -> _Undoing:
    """Stage what puts one table back."""
    shape, again = _made_again(run, target) if run.gone else _with_dropped(run, target)
    progress.stage("comparing the target with the log")
    parts: list[Part] = []
    refusals: list[Refusal] = []
    seen: list[Logged] = []
    staged = 0
    pairing = None
    for kept, pairing, existing, found in held_against(run, log.changes(run), target, shape):
        changes = reversal(kept, run, existing, found, pairing, shape, target.readable)
        changes = changes.staged_from(staged)
        staged += changes.touched
        tables = (target.readable(table) for table in (kept.keys, kept.before, kept.after))
        seen.append(replace(kept, **dict(zip(("keys", "before", "after"), tables, strict=True))))
        incoming = Incoming(f"run {run.name}", (), kept.rows, 0)
        parts.append(Part(_always(incoming), changes, len(kept.rows)))
        refusals += target.stage(changes, existing, pairing)
        progress.rows(len(kept.rows))
    if pairing is None:
        raise NotUndoable(f"The run {run.name} changed nothing, so there is nothing to undo.", run=run.name)
    readable = _for_people(target) if run.marked else as_they_are
    staged_so = Staged(target, parts, refusals, pairing, readable)
    return _Undoing(run, shape, again, seen, target.count(), staged_so)


def _decided_undo(log: RunLog, undoing: _Undoing, settled: Sequence[Part]) -> Decided:
    """What was decided about one table."""
    run, shape, again = undoing.run, undoing.shape, undoing.again
    target, rows_before = undoing.staged.target, undoing.rows_before
    changed = [part.changes for part in settled]
    for part in settled:
        account.prove_tally(account.tally([part.changes]), part.changes, part.read)
    goes, dropped, notes = _what_goes(run, settled, target, shape, rows_before)
    notes += [] if run.gone else [f"The column {one.name} comes back, as the last one." for one in again]
    return Decided(
        target=target.address,
        sample=Sample(settled[0].rows()),
        shape=shape,
        pairing=undoing.staged.pairing,
        rows_before=rows_before,
        parts=tuple(settled),
        tally=account.tally(changed),
        fingerprint=account.fingerprint(changed),
        warnings=(),
        notes=(*shape.notes, *notes),
        view=(),
        shown=undoing.staged.shown,
        conflicts=lambda decided: _conflicts(log, run, undoing.logs, decided),
        added=tuple(again),
        back=bool(again) and not run.gone,
        dropped=dropped,
        made=run.gone,
        goes=goes,
    )


def _for_people(target: Target) -> Callable[[ChangeSet], ChangeSet]:
    """What makes changes of exact text fit to be read."""

    def readable(changes: ChangeSet) -> ChangeSet:
        return shown(changes.with_values(target.readable))

    return readable


def _with_dropped(run: Run, target: Target) -> tuple[TableShape, list[NewColumn]]:
    """The target's shape with the columns that the run took away, which are added again."""
    shape = target.describe()
    there = {column.name for column in shape.columns}
    again = [
        NewColumn(name, kind, definition=run.definitions.get(name))
        for name, kind in run.dropped.items()
        if name not in there
    ]
    return (target.add(again) if again else shape), again


def _what_goes(
    run: Run, parts: Sequence[Part], target: Target, shape: TableShape, rows: int
) -> tuple[bool, tuple[NewColumn, ...], list[str]]:
    """Whether the table goes that the run had made; else the columns that it had added; and what is said of them."""
    if not run.made:
        return False, *_columns_to_drop(run, parts, target, shape)
    only_ours = {column.name for column in shape.columns} == set(run.added)
    goes = only_ours and rows == sum(len(part.changes.removals) for part in parts)
    return goes, *_with_its_table(run, target, goes)


def _with_its_table(run: Run, target: Target, goes: bool) -> tuple[tuple[NewColumn, ...], list[str]]:
    """The columns of the table that the run had made, if it `goes`: nobody else has put anything there. And a note."""
    if not goes:
        return (), [f"The table {_table(run)}, which the run had made, stays: it has other records or columns by now."]
    known = target.definitions(list(run.added))
    note = f"The table {_table(run)}, which the run had made, goes."
    return tuple(replace(one, type=run.added[one.name]) for one in known), [note]


def _table(run: Run) -> str:
    return run.called or run.target.rpartition("#")[2].rpartition("/")[2]


def _made_again(run: Run, target: Target) -> tuple[TableShape, list[NewColumn]]:
    """The table that went with the run, made again."""
    columns = [
        NewColumn(name, kind, required=how is not None and how.required, definition=how)
        for name, kind in run.dropped.items()
        for how in [run.definitions.get(name)]
    ]
    key = () if run.whole else run.record_key
    return target.create(columns, key), columns


def _columns_to_drop(
    run: Run, parts: Sequence[Part], target: Target, shape: TableShape
) -> tuple[tuple[NewColumn, ...], list[str]]:
    """The columns that the run had added, unless anybody else has put values there; and what is said of them."""
    goes, notes = [], []
    for column in shape.columns:
        if column.name not in run.added:
            continue
        held = int(valid(as_array(target.read([column.as_stored()])[column.name])).sum())
        left = held - sum(_values_taken(part.changes, column.name) for part in parts)
        if left:
            notes.append(f"The column {column.name}, which the run had added, stays: {left:,} of its values do.")
        else:
            goes.append(column.name)
    if goes and target.depending(goes):  # which of them are needed?
        needed = {name: target.depending([name]) for name in goes}
        notes += [
            f"The column {name}, which the run had added, stays: {', '.join(by)} would break."
            for name, by in needed.items()
            if by
        ]
        goes = [name for name in goes if not needed[name]]
    notes += [f"The column {name}, which the run had added, goes." for name in goes]
    return tuple(replace(one, type=run.added[one.name]) for one in target.definitions(goes)), notes


def _values_taken(changes: ChangeSet, name: str) -> int:
    """How many values of a column the changes take away."""
    updates, removals = changes.updates, changes.removals
    count = int(valid(as_array(removals.before[name])).sum()) if len(removals) else 0
    if name in updates.columns:
        before, after = as_array(updates.before[name]), as_array(updates.after[name])
        count += int((updates.changed[name] & valid(before) & ~valid(after)).sum())
    return count


def _conflicts(log: RunLog, run: Run, logs: Sequence[Logged], parts: Sequence[Part]) -> list[Conflict]:
    """What can't be put back, each with the latest of the later runs that wrote what is there now."""
    found = [one for kept, part in zip(logs, parts, strict=True) for one in conflicts(kept, part.changes, run)]
    wanted = [conflict.key for conflict in found]
    wrote: dict[tuple[tuple[str, ...], str], tuple[str | None, str]] = {}
    for other, their_logs in later_runs(log, run) if found else ():
        for kept in their_logs:
            for touch in touches(kept, other, wanted):
                wrote |= {(touch.key, column): (after, other.name) for column, _, after in touch.fields}
    blamed = []
    for conflict in found:
        value, name = wrote.get((conflict.key, conflict.column or ""), (None, None))
        blamed.append(replace(conflict, by=name) if name and value == conflict.now else conflict)
    return blamed


def _always(incoming: Incoming) -> Callable[[], Incoming]:
    return lambda: incoming

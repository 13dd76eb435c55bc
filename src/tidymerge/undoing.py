"""The log held against the target: what there is to undo, and whether a run that was cut off had committed."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from functools import partial
from typing import TypeVar

from tidymerge.changes import Logged, Outcome
from tidymerge.core import account
from tidymerge.core.match import code_keys, match
from tidymerge.core.reverse import Comparison, Standing, compare, conflicts, reversal, shown, touches
from tidymerge.deciding import Decided, Part, settle_constraints, without_refused
from tidymerge.errors import NotUndoable
from tidymerge.model import Existing, Incoming, Pair, Pairing, TableShape
from tidymerge.ports import Progress, Refusal, Target
from tidymerge.receipt import Conflict
from tidymerge.rules import ColumnRule
from tidymerge.run import Run
from tidymerge.splitting import Gathered

_Thing = TypeVar("_Thing")
_LISTED = 1000  # conflicts in a receipt


def held_against(
    run: Run, logs: Iterable[Logged], target: Target, shape: TableShape
) -> Iterator[tuple[Logged, Pairing, Existing, Comparison]]:
    """Each part of a run's log with the records as they are now. Raises NotUndoable if a column is gone."""
    for log in logs:
        pairing = _pairing(run, log, shape)
        existing = target.fetch(pairing.columns, pairing.key_columns, log.keys.select(pairing.key))
        codes = code_keys(log.keys, existing.values, pairing.key_columns, target.equal_codes)
        yield log, pairing, existing, compare(log, existing, match(codes))


def _pairing(run: Run, log: Logged, shape: TableShape) -> Pairing:
    """The columns of the log, or all columns where whole records come or go; values travel as exact text."""
    names = {*log.keys.column_names, *log.after.column_names}
    gone = names - {column.name for column in shape.columns}
    if gone:
        raise NotUndoable(
            f"The run {run.name} can't be undone: {run.target} no longer has the column {min(gone)}, which it wrote."
        )
    whole = bool((log.outcomes != Outcome.UPDATED).any())
    columns = [column for column in shape.columns if not column.generated and (whole or column.name in names)]
    pairs = tuple(Pair(column.as_stored(), column.name, ColumnRule(sources=(column.name,))) for column in columns)
    return Pairing(pairs, run.record_key, (), ())


def committed(run: Run, logs: Iterable[Logged], target: Target) -> bool | None:
    """Whether the target shows that a run committed: None where nothing tells, or records speak against each other."""
    yes, no = 0, 0
    for _, _, _, found in held_against(run, logs, target, target.describe()):
        yes += int((found.standing == Standing.HOLDS).sum())
        no += int((found.standing == Standing.BACK).sum())
    return None if bool(yes) == bool(no) else yes > 0


def decide_undo(run: Run, logs: Iterable[Logged], target: Target, progress: Progress) -> Decided:
    """Compare every record of a run with the log, stage what puts it back, and settle the constraints."""
    shape = target.describe()
    progress.stage("comparing the target with the log")
    parts: list[Part] = []
    refusals: list[Refusal] = []
    staged = 0
    pairing = None
    seen: list[Logged] = []
    for log, pairing, existing, found in held_against(run, logs, target, shape):
        changes = reversal(log, existing, found, pairing, shape)
        changes = replace(changes, positions=changes.positions + staged, departures=changes.departures + staged)
        staged += len(changes.positions) + changes.deletes
        seen.append(log)
        incoming = Incoming(f"run {run.name}", (), log.rows, 0)
        parts.append(Part(partial(_same, incoming), changes, len(log.rows)))
        refusals += target.stage(changes, existing, pairing)
        progress.rows(len(log.rows))
    if pairing is None:
        raise NotUndoable(f"The run {run.name} changed nothing, so there is nothing to undo.")
    rows_before = target.count()
    progress.stage("testing the constraints")
    settled = settle_constraints(target, without_refused(parts, refusals, target), pairing)
    changes_of_all = [part.changes for part in settled]
    for part in settled:
        account.prove_tally(account.tally([part.changes]), part.changes, part.read)
    return Decided(
        target.address,
        Gathered(parts[0].rows()),
        shape,
        pairing,
        rows_before,
        tuple(settled),
        account.tally(changes_of_all),
        account.fingerprint(changes_of_all),
        (),
        (),
        (),
        shown if target.marks_text else _same,
        tuple(_conflicts(run, seen, settled)),
    )


def _conflicts(run: Run, logs: Sequence[Logged], parts: Sequence[Part]) -> list[Conflict]:
    found: list[Conflict] = []
    for log, part in zip(logs, parts, strict=True):
        found += conflicts(log, part.changes, run, _LISTED - len(found))
    return found


def blamed(found: Sequence[Conflict], later: Iterable[tuple[Run, Iterable[Logged]]]) -> tuple[Conflict, ...]:
    """The conflicts, each with the latest of the later runs, given in order of time, that wrote what is there now."""
    by: dict[tuple[tuple[str, ...], str | None], tuple[str | None, str]] = {}
    keys = [conflict.key for conflict in found]
    for run, logs in later:
        for log in logs:
            for touch in touches(log, run, keys):
                by |= {(touch.key, column): (after, run.name) for column, _, after in touch.fields}
                if touch.outcome == "deleted":
                    by[touch.key, None] = (None, run.name)
    wrote = [by.get((conflict.key, conflict.column), ("", "")) for conflict in found]
    return tuple(
        replace(conflict, by=run) if run and value == conflict.now else conflict
        for conflict, (value, run) in zip(found, wrote, strict=True)
    )


def _same(thing: _Thing) -> _Thing:
    return thing

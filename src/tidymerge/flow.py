"""A run from start to end. It reads as a table of contents; the work is in `core`, `deciding` and the adapters."""

import secrets
import time
from collections.abc import Callable, Iterator
from contextlib import nullcontext
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

from tidymerge.changes import Logged
from tidymerge.committing import Orders, Saved, Shield, carry_out
from tidymerge.core import caution
from tidymerge.deciding import Decided, decide_all
from tidymerge.errors import NotUndoable, Stopped, TargetChanged
from tidymerge.gathering import Gathering
from tidymerge.history.folder import FolderLog
from tidymerge.history.place import user
from tidymerge.job.model import Job
from tidymerge.ports import Progress, Recording, RunLog, Target
from tidymerge.receipt import Receipt, State, Touch
from tidymerge.recording import recorded, settle_all
from tidymerge.reporting import Clock, first_touches, make_receipt, save_conflicts, save_marked, save_rejects
from tidymerge.reports.rejects_file import default_path
from tidymerge.run import Run
from tidymerge.targets import open_target, reopened
from tidymerge.undoing import decide_undo

ATTEMPTS = 4  # how often a load that others stood in the way of is started


class _Quiet:
    def stage(self, words: str, rows: int | None = None) -> None:
        """Say nothing."""

    def rows(self, count: int) -> None:
        """Say nothing."""


QUIET: Progress = _Quiet()


def preview(job: Job, *, rejects: Path | None = None, progress: Progress = QUIET) -> Receipt:
    """Decide everything and write nothing; a file is opened read-only, a server's transaction is rolled back."""
    return preview_in_full(job, 0, rejects=rejects, progress=progress)[0]


def preview_in_full(
    job: Job, most: int, *, rejects: Path | None = None, marked: Path | None = None, progress: Progress = QUIET
) -> tuple[Receipt, list[Touch]]:
    """A preview, and the first `most` records that would change. `marked` is the file of the sender's copy."""
    clock = _clock(named=False)
    with Gathering(job) as gathering, open_target(job.target, write=False, types=job.types) as target:
        decided = decide_all(job, target, gathering.rows, ("(preview)", clock.started), progress)
        if rejects is not None:
            save_rejects(decided, rejects)
        if marked is not None and (note := save_marked(decided, marked, clock, preview=True)):
            decided = replace(decided, notes=(*decided.notes, note))
        return make_receipt(decided, State.PREVIEWED, clock, rejects=rejects), first_touches(decided, most)


def load(
    job: Job,
    *,
    accept_warnings: bool = False,
    expect: str | None = None,
    rejects: Path | None = None,
    marked: Path | None = None,
    progress: Progress = QUIET,
    shield: Shield = nullcontext,
) -> Receipt:
    """Decide, write, prove, log and commit, in one transaction; where others stand in the way, again from the start.

    `marked` is the file of the sender's copy. `shield` guards the moment of the commit against interruption, so that
    what is said afterwards is true. Raises Stopped when a limit of the job is exceeded, when `expect` (a fingerprint)
    differs, when there are warnings that are not accepted, or when the job is strict and a row was rejected;
    TargetChanged when others stood in the way every time; LogUnwritable when the log can't keep what undo needs.
    """
    clock = _clock(named=True)
    log = FolderLog()
    address = reopened(job.target)
    told = settle_all(log, address)
    run = Run(clock.run or "", State.LOADED, clock.started, user(), address, job=job.file)
    with Gathering(job) as gathering, recorded(log, run := replace(run, files=gathering.checksums())) as recording:

        def once() -> Receipt:
            with open_target(job.target, write=True, types=job.types) as target:
                decided = decide_all(job, target, gathering.rows, (run.name, clock.started), progress)
                gathering.unchanged()
                decided = replace(decided, notes=(*told, *decided.notes))
                _check_expectations(decided, job, clock, accept_warnings, expect, rejects)
                orders = Orders(
                    run,
                    clock,
                    recording,
                    lambda found: _check_strict(found, job, clock, rejects),
                    lambda found: _save(found, job, clock, rejects, marked),
                    progress,
                    shield,
                    job.trust_triggers,
                )
                return carry_out(target, decided, orders)

        return _attempts(once, recording, progress)


def preview_undo(
    text: str, *, into: str | None = None, conflicts: Path | None = None, progress: Progress = QUIET
) -> Receipt:
    """What undoing a run would do. Raises NoSuchRun and NotUndoable."""
    return preview_undo_in_full(text, 0, into=into, conflicts=conflicts, progress=progress)[0]


def preview_undo_in_full(
    text: str, most: int, *, into: str | None = None, conflicts: Path | None = None, progress: Progress = QUIET
) -> tuple[Receipt, list[Touch]]:
    """A preview of undoing a run, and the first `most` records that would change."""
    clock = _clock(named=False)
    log = FolderLog()
    told = settle_all(log)
    run = _undoable(log, text)
    with open_target(into or run.target, write=False) as target:
        decided = _decide_undo(log, run, target, progress)
        decided = replace(decided, notes=(*told, *decided.notes))
        if conflicts is not None:
            save_conflicts(decided, run.key, conflicts)
        receipt = make_receipt(decided, State.PREVIEWED, clock, rejects=conflicts)
        return replace(receipt, undoes=run.name), first_touches(decided, most)


def undo(
    text: str,
    *,
    into: str | None = None,
    rest: bool = False,
    expect: str | None = None,
    conflicts: Path | None = None,
    trust_triggers: bool = False,
    progress: Progress = QUIET,
    shield: Shield = nullcontext,
) -> Receipt:
    """Put back what a run changed, where it still is what the run wrote; itself a run, in one transaction.

    `text` is a run's name or how it begins; `into` an address to use in place of the one in the log. Raises NoSuchRun
    and NotUndoable; Stopped where records were changed since or can't be put back, unless the `rest` is to be
    undone, or when `expect` (a fingerprint) differs; and what `load` raises.
    """
    clock = _clock(named=True)
    log = FolderLog()
    told = settle_all(log)
    undone = _undoable(log, text)
    address = into or undone.target
    run = Run(clock.run or "", State.UNDONE, clock.started, user(), reopened(address), undoes=undone.name)
    with recorded(log, run) as recording:

        def check(decided: Decided) -> None:
            if decided.tally.rejected and not rest:
                raise _conflicting(decided, undone, clock, conflicts)

        def save(decided: Decided) -> Saved:
            if conflicts is None:
                return Saved()
            save_conflicts(decided, undone.key, conflicts)
            return Saved(conflicts, (conflicts,))

        def once() -> Receipt:
            with open_target(address, write=True) as target:
                decided = _decide_undo(log, undone, target, progress)
                decided = replace(decided, notes=(*told, *decided.notes))
                _check_fingerprint(decided, clock, expect)
                check(decided)
                orders = Orders(run, clock, recording, check, save, progress, shield, trust_triggers)
                return carry_out(target, decided, orders)

        return _attempts(once, recording, progress)


def _clock(*, named: bool) -> Clock:
    now = datetime.now(UTC)
    # Names sort by time, to the millisecond.
    name = f"{now:%Y%m%d-%H%M%S}-{now.microsecond // 1000:03d}{secrets.token_hex(2)}" if named else None
    return Clock(now, time.perf_counter(), name)


def _attempts(once: Callable[[], Receipt], recording: Recording, progress: Progress) -> Receipt:
    for attempt in range(1, ATTEMPTS + 1):
        try:
            return once()
        except TargetChanged as changed:
            if attempt == ATTEMPTS:
                raise TargetChanged(
                    f"{changed} Tried {ATTEMPTS} times; nothing was written. Run it again when it is quieter there."
                ) from changed
            recording.restart()
            progress.stage("others changed the same records: starting again")
            time.sleep(secrets.randbelow(100) / 1000)  # so that two loads don't meet again in step
    raise AssertionError("every attempt returns or raises")


def _check_expectations(
    decided: Decided, job: Job, clock: Clock, accept_warnings: bool, expect: str | None, rejects: Path | None
) -> None:
    _check_fingerprint(decided, clock, expect)
    _check_strict(decided, job, clock, rejects)
    if decided.limits:
        if decided.tally.rejected and rejects is not None:
            save_rejects(decided, rejects)
        raise Stopped(
            f"Stopped by a limit; nothing was written. {' '.join(decided.limits)}",
            make_receipt(decided, State.STOPPED, clock, rejects=rejects if decided.tally.rejected else None),
        )
    if decided.warnings and not accept_warnings:
        count = len(decided.warnings)
        raise Stopped(
            f"Stopped at {count} {caution.plural(count, 'warning', 'warnings')}; nothing was written. "
            "If all is as it should be, load again with --yes.",
            make_receipt(decided, State.STOPPED, clock),
        )


def _check_fingerprint(decided: Decided, clock: Clock, expect: str | None) -> None:
    if expect is not None and expect != decided.fingerprint:
        raise Stopped(
            f"The changes are not the expected ones: the fingerprint is {decided.fingerprint}, not {expect}. "
            "The incoming rows or the target changed since; preview again. Nothing was written.",
            make_receipt(decided, State.STOPPED, clock),
        )


def _check_strict(decided: Decided, job: Job, clock: Clock, rejects: Path | None) -> None:
    if not job.strict or not decided.tally.rejected:
        return
    if rejects is not None:
        save_rejects(decided, rejects)
    count = decided.tally.rejected
    raise Stopped(
        f"Stopped: {count:,} {caution.plural(count, 'row was', 'rows were')} rejected and the load is strict; "
        "nothing was written. Mend the rows, or load without --strict to take the good ones.",
        make_receipt(decided, State.STOPPED, clock, rejects=rejects),
    )


def _save(decided: Decided, job: Job, clock: Clock, asked: Path | None, marked: Path | None) -> Saved:
    """Write the rejects, if there are any or they were asked for, and the sender's copy."""
    path = asked
    if path is None and decided.tally.rejected:
        path = default_path(job.incoming[0], Path())
    if path is not None:
        save_rejects(decided, path)
    note = None if marked is None else save_marked(decided, marked, clock, preview=False)
    return Saved(path, tuple(file for file in (path, marked) if file is not None), (note,) if note else ())


def _undoable(log: RunLog, text: str) -> Run:
    """The run to undo. Raises NoSuchRun and NotUndoable."""
    run = log.find(text)
    if not run.wrote:
        raise NotUndoable(f"The run {run.name} was {run.state} and changed nothing, so there is nothing to undo.")
    if not run.settled:
        with log.ended(run.name) as gone:
            if not gone:
                raise NotUndoable(f"The run {run.name} is still at work; wait until it has ended, then undo it.")
    return run


def _decide_undo(log: RunLog, run: Run, target: Target, progress: Progress) -> Decided:
    def later() -> Iterator[tuple[Run, Iterator[Logged]]]:
        for other in (log.read(name) for name in reversed(log.names()) if name > run.name):
            if other.wrote and (other.target, other.key) == (run.target, run.key):
                yield other, log.changes(other)

    return decide_undo(run, log.changes(run), target, progress, later)


def _conflicting(decided: Decided, run: Run, clock: Clock, conflicts: Path | None) -> Stopped:
    if conflicts is not None:
        save_conflicts(decided, run.key, conflicts)
    count, total = decided.tally.rejected, decided.tally.read
    receipt = make_receipt(decided, State.STOPPED, clock, rejects=conflicts)
    return Stopped(
        f"Stopped: {count:,} of {total:,} {caution.plural(total, 'record', 'records')} of the run "
        f"{run.name} can't be put back, as listed; nothing was undone. To undo the rest and leave these as they are, "
        "give --rest.",
        replace(receipt, undoes=run.name),
    )

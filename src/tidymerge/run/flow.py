"""A run from start to end. It reads as a table of contents; the work is in `core`, `deciding` and the adapters."""

import secrets
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, nullcontext
from dataclasses import replace
from datetime import UTC, datetime
from itertools import count
from pathlib import Path
from types import MappingProxyType

from tidymerge.address import reopened, same_table
from tidymerge.core.words import counted, plural
from tidymerge.errors import NotUndoable, Stopped, TargetChanged, about
from tidymerge.history.folder import FolderLog
from tidymerge.history.who import user
from tidymerge.job.model import Job
from tidymerge.model.changes import Logged
from tidymerge.model.receipt import Receipt, State, Touch
from tidymerge.model.run import Run
from tidymerge.ports.log import Recording, RunLog
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.commit import Orders, Saved, Shield, carry_out, full_address
from tidymerge.run.decide import Decided, decide_all
from tidymerge.run.earlier import older_than_before
from tidymerge.run.gather import Gathering
from tidymerge.run.outputs import Outputs
from tidymerge.run.record import recorded, settle_all
from tidymerge.run.report import Clock, first_touches, make_receipt, save_conflicts, save_marked, save_rejects
from tidymerge.run.undo import decide_undo
from tidymerge.settings import wait
from tidymerge.targets import open_target

NO_OUTPUTS = Outputs()
FIRMLY_FROM = 3  # the attempt from which on nobody else may write to the table meanwhile
_FIRST_PAUSE, _LONGEST_PAUSE = 0.05, 5.0  # seconds


class _Quiet:
    def stage(self, words: str, rows: int | None = None) -> None:
        """Say nothing."""

    def rows(self, count: int) -> None:
        """Say nothing."""


QUIET: Progress = _Quiet()
_NONE: Mapping[str, str] = MappingProxyType({})


@contextmanager
def _opened(address: str, *, write: bool, types: Mapping[str, str] = _NONE, firmly: bool = False) -> Iterator[Target]:
    with about(target=reopened(address)):
        with about(address=reopened(address)):
            found = open_target(address, write=write, types=types, firmly=firmly)
        with found as target:
            yield target


def preview(job: Job, *, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET) -> Receipt:
    """Decide everything and write nothing; a file is opened read-only, a server's transaction is rolled back."""
    return preview_in_full(job, 0, outputs=outputs, progress=progress)[0]


def preview_in_full(
    job: Job, most: int, *, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET
) -> tuple[Receipt, list[Touch]]:
    """A preview, and the first `most` records that would change. Of the `outputs`, page and chart are the caller's."""
    clock = _clock(named=False)
    with Gathering(job) as gathering:
        outputs.check(gathering.job)
        with _opened(job.target, write=False, types=job.types) as target:
            decided = decide_all(job, target, gathering.rows, ("(preview)", clock.started), progress)
            decided = _looked_back(FolderLog(), job, gathering.checksums, decided)
            if outputs.rejects is not None:
                save_rejects(decided, outputs.rejects, job.incoming[0]).keep()
            if outputs.marked is not None:
                file, note = save_marked(decided, outputs.marked, clock, preview=True)
                file.keep()
                decided = replace(decided, notes=(*decided.notes, *([note] if note else [])))
            receipt = make_receipt(decided, State.PREVIEWED, clock, rejects=outputs.rejects)
            return receipt, first_touches(decided, most)


def load(
    job: Job,
    *,
    accept_warnings: bool = False,
    expect: str | None = None,
    outputs: Outputs = NO_OUTPUTS,
    wait_seconds: int | None = None,
    progress: Progress = QUIET,
    shield: Shield = nullcontext,
) -> Receipt:
    """Decide, write, prove, log and commit, in one transaction; where others stand in the way, again from the start.

    Of the `outputs`, page and chart are written by the caller, as the commit is done then. `shield` guards the moment
    of the commit against interruption, so that what is said afterwards is true. Raises Stopped when a limit of the job
    is exceeded, when `expect` (a fingerprint) differs, when there are warnings that are not accepted, or when the job
    is strict and a row was rejected; BadOption for outputs that may not be written; TargetChanged when others stood in
    the way for `wait_seconds` (else as the settings say); LogUnwritable when the log can't keep what undo needs.
    """
    clock = _clock(named=True)
    log = FolderLog()
    address = reopened(job.target)
    told = settle_all(log, address)
    run = Run(clock.run or "", State.LOADED, clock.started, user(), address, job=job.file)
    with Gathering(job) as gathering, recorded(log, run := replace(run, files=gathering.checksums())) as recording:
        outputs.check(gathering.job)

        def once(firmly: bool) -> Receipt:
            with _opened(job.target, write=True, types=job.types, firmly=firmly) as target:
                decided = decide_all(job, target, gathering.rows, (run.name, clock.started), progress)
                gathering.unchanged()
                decided = _looked_back(log, job, lambda: run.files, decided)
                decided = replace(decided, notes=(*told, *decided.notes))
                _check_expectations(decided, job, clock, accept_warnings, expect, outputs)
                orders = Orders(
                    run,
                    clock,
                    recording,
                    lambda found: _check_strict(found, job, clock, outputs),
                    lambda found: _save(found, job, clock, outputs),
                    progress,
                    shield,
                    job.trust_triggers,
                )
                return carry_out(target, decided, orders)

        return _attempts(once, recording, progress, wait_seconds)


def preview_undo(
    text: str, *, into: str | None = None, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET
) -> Receipt:
    """What undoing a run would do. Raises NoSuchRun and NotUndoable."""
    return preview_undo_in_full(text, 0, into=into, outputs=outputs, progress=progress)[0]


def preview_undo_in_full(
    text: str, most: int, *, into: str | None = None, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET
) -> tuple[Receipt, list[Touch]]:
    """A preview of undoing a run, and the first `most` records that would change."""
    clock = _clock(named=False)
    log = FolderLog()
    told = settle_all(log)
    run = _undoable(log, text)
    outputs.check(target=into or run.target)
    with _opened(into or run.target, write=False) as target:
        decided = _decide_undo(log, run, target, progress)
        decided = replace(decided, notes=(*told, *decided.notes))
        if outputs.conflicts is not None:
            save_conflicts(decided, run.key, outputs.conflicts).keep()
        receipt = make_receipt(decided, State.PREVIEWED, clock, rejects=outputs.conflicts)
        return replace(receipt, undoes=run.name), first_touches(decided, most)


def undo(
    text: str,
    *,
    into: str | None = None,
    rest: bool = False,
    expect: str | None = None,
    outputs: Outputs = NO_OUTPUTS,
    trust_triggers: bool = False,
    wait_seconds: int | None = None,
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
    outputs.check(target=address)
    run = Run(clock.run or "", State.UNDONE, clock.started, user(), reopened(address), undoes=undone.name)
    with recorded(log, run) as recording:

        def check(decided: Decided) -> None:
            if decided.tally.rejected and not rest:
                raise _conflicting(decided, undone, clock, outputs.conflicts)

        def save(decided: Decided) -> Saved:
            if outputs.conflicts is None:
                return Saved()
            return Saved(outputs.conflicts, (save_conflicts(decided, undone.key, outputs.conflicts),))

        def once(firmly: bool) -> Receipt:
            with _opened(address, write=True, firmly=firmly) as target:
                decided = _decide_undo(log, undone, target, progress)
                decided = replace(decided, notes=(*told, *decided.notes))
                _check_fingerprint(decided, clock, expect)
                check(decided)
                orders = Orders(run, clock, recording, check, save, progress, shield, trust_triggers)
                return carry_out(target, decided, orders)

        return _attempts(once, recording, progress, wait_seconds)


def _looked_back(log: RunLog, job: Job, files: Callable[[], Mapping[str, str | None]], decided: Decided) -> Decided:
    """What was decided, with a warning if the log knows of later rows of the same kind. Where nothing changes, none."""
    if not decided.tally.inserted + decided.tally.updated:
        return decided
    address = full_address(reopened(job.target), decided.target)
    older = older_than_before(log, address, files(), decided.latest)
    return replace(decided, warnings=(*decided.warnings, *older))


def _clock(*, named: bool) -> Clock:
    now = datetime.now(UTC)
    # Names sort by time, to the millisecond.
    name = f"{now:%Y%m%d-%H%M%S}-{now.microsecond // 1000:03d}{secrets.token_hex(2)}" if named else None
    return Clock(now, time.perf_counter(), name)


def _attempts(
    once: Callable[[bool], Receipt], recording: Recording, progress: Progress, seconds: int | None
) -> Receipt:
    """Start again, after pauses that grow, while others stand in the way; from the third time on they are kept out."""
    began, longest = time.monotonic(), wait() if seconds is None else seconds
    for attempt in count(1):
        try:
            return once(attempt >= FIRMLY_FROM)
        except TargetChanged as changed:
            # At random, so that two loads don't meet again in step.
            pause = min(_FIRST_PAUSE * 2**attempt, _LONGEST_PAUSE) * (0.5 + secrets.randbelow(100) / 100)
            if time.monotonic() + pause > began + longest:
                times = counted(attempt, "time")
                raise TargetChanged(
                    f"{changed} Tried {times} in {time.monotonic() - began:.0f} seconds; nothing was written. Run it "
                    "again when it is quieter there, or wait longer (--wait).",
                    **changed.facts,
                ) from changed
            recording.restart()
            progress.stage("others changed the same records: starting again")
            time.sleep(pause)
    raise AssertionError("every attempt returns or raises")


def _check_expectations(
    decided: Decided, job: Job, clock: Clock, accept_warnings: bool, expect: str | None, outputs: Outputs
) -> None:
    _check_fingerprint(decided, clock, expect)
    _check_strict(decided, job, clock, outputs)
    if decided.limits:
        rejects = _rejects_of_a_stopped(decided, job, outputs)
        raise Stopped(
            f"Stopped by a limit; nothing was written. {' '.join(decided.limits)}",
            receipt=make_receipt(decided, State.STOPPED, clock, rejects=rejects),
            reason="limit",
        )
    if decided.warnings and not accept_warnings:
        count = len(decided.warnings)
        raise Stopped(
            f"Stopped at {count} {plural(count, 'warning', 'warnings')}; nothing was written. "
            "If all is as it should be, load again with --yes.",
            receipt=make_receipt(decided, State.STOPPED, clock),
            reason="warnings",
        )


def _check_fingerprint(decided: Decided, clock: Clock, expect: str | None) -> None:
    if expect is not None and expect != decided.fingerprint:
        raise Stopped(
            f"The changes are not the expected ones: the fingerprint is {decided.fingerprint}, not {expect}. "
            "The incoming rows or the target changed since; preview again. Nothing was written.",
            receipt=make_receipt(decided, State.STOPPED, clock),
            reason="fingerprint",
        )


def _rejects_of_a_stopped(decided: Decided, job: Job, outputs: Outputs) -> Path | None:
    """The rejected rows in the file that was asked for, so that it is seen what is wrong with them."""
    if outputs.rejects is None or not decided.tally.rejected:
        return None
    save_rejects(decided, outputs.rejects, job.incoming[0]).keep()
    return outputs.rejects


def _check_strict(decided: Decided, job: Job, clock: Clock, outputs: Outputs) -> None:
    if not job.strict or not decided.tally.rejected:
        return
    rejects = _rejects_of_a_stopped(decided, job, outputs)
    count = decided.tally.rejected
    raise Stopped(
        f"Stopped: {count:,} {plural(count, 'row was', 'rows were')} rejected and the load is strict; "
        "nothing was written. Mend the rows, or load without --strict to take the good ones.",
        receipt=make_receipt(decided, State.STOPPED, clock, rejects=rejects),
        reason="strict",
    )


def _save(decided: Decided, job: Job, clock: Clock, outputs: Outputs) -> Saved:
    """Write the rejects, if there are any or they were asked for, and the sender's copy."""
    files, notes, rejects = [], [], None
    if outputs.rejects is not None or (decided.tally.rejected and outputs.save_rejects and job.save_rejects):
        files.append(save_rejects(decided, outputs.rejects, job.incoming[0]))
        rejects = files[-1].path
    try:
        if outputs.marked is not None:
            file, note = save_marked(decided, outputs.marked, clock, preview=False)
            files.append(file)
            notes += [note] if note else []
    except BaseException:
        for file in files:
            file.back()
        raise
    return Saved(rejects, tuple(files), tuple(notes))


def _undoable(log: RunLog, text: str) -> Run:
    """The run to undo. Raises NoSuchRun and NotUndoable."""
    run = log.find(text)
    if not run.wrote:
        raise NotUndoable(f"The run {run.name} {run.nothing_done}, so there is nothing to undo.", run=run.name)
    if not run.settled:
        with log.ended(run.name) as gone:
            if not gone:
                raise NotUndoable(
                    f"The run {run.name} is still at work; wait until it has ended, then undo it.", run=run.name
                )
    return run


def _decide_undo(log: RunLog, run: Run, target: Target, progress: Progress) -> Decided:
    def later() -> Iterator[tuple[Run, Iterator[Logged]]]:
        for other in (log.read(name) for name in reversed(log.names()) if name > run.name):
            if other.wrote and other.key == run.key and same_table(other.target, run.target):
                yield other, log.changes(other)

    return decide_undo(run, log.changes(run), target, progress, later)


def _conflicting(decided: Decided, run: Run, clock: Clock, conflicts: Path | None) -> Stopped:
    if conflicts is not None:
        save_conflicts(decided, run.key, conflicts).keep()
    count, total = decided.tally.rejected, decided.tally.read
    receipt = make_receipt(decided, State.STOPPED, clock, rejects=conflicts)
    return Stopped(
        f"Stopped: {count:,} of {total:,} {plural(total, 'record', 'records')} of the run "
        f"{run.name} can't be put back, as listed; nothing was undone. To undo the rest and leave these as they are, "
        "give --rest.",
        receipt=replace(receipt, undoes=run.name),
        reason="conflicts",
    )

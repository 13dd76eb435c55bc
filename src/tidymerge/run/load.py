"""A load from start to end, as a table of contents: each step is a call, and its result goes on to the next.

Describe, gather, widen, plan, decide, settle, sum up; then check, write, prove, save, seal, commit.
"""

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, ExitStack, nullcontext

from msgspec.structs import replace

from tidymerge.address import reopened, without_fragment
from tidymerge.history.folder import FolderLog
from tidymerge.history.who import user
from tidymerge.job.model import Job
from tidymerge.job.tables import TablesJob, jobs_of
from tidymerge.model.access import NO_SERVICES
from tidymerge.model.receipt import Receipt, State, Touch
from tidymerge.model.run import Run
from tidymerge.ports.log import RunLog
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.attempts import attempts
from tidymerge.run.carry_out import Manner, carry_out
from tidymerge.run.checks import check_fingerprint, check_limits, check_referred, check_strict
from tidymerge.run.come_back import brought_back
from tidymerge.run.commit import Shield, full_address
from tidymerge.run.decided import Decided
from tidymerge.run.earlier import older_than_before
from tidymerge.run.once import alone, held_to_once
from tidymerge.run.opening import NO_OUTPUTS, QUIET, opened
from tidymerge.run.outputs import Outputs
from tidymerge.run.pair_tables import paired
from tidymerge.run.record import recorded, settle_all
from tidymerge.run.report import (
    Clock,
    first_touches,
    make_receipt,
    save_clashes,
    save_marked,
    save_rejects,
    save_script,
)
from tidymerge.run.save import save_of_load
from tidymerge.run.settle import settle
from tidymerge.run.stage_load import request_of, stage_load
from tidymerge.run.structure import with_changes_since
from tidymerge.run.tables import Gatherings, decide_tables


def _decide_load(
    asked: Job | TablesJob, target: Target, gatherings: Gatherings, clock: Clock, log: RunLog, progress: Progress
) -> tuple[Target, Decided]:
    """All that is decided about a load before anything is written: about its first table, and others beside it."""
    if isinstance(asked, TablesJob):
        first, decided = decide_tables(gatherings, target, clock, log, progress)
        return first, decided.noting(*asked.notes)
    staged = stage_load(asked, target, gatherings.each[0], clock, log, progress)
    progress.stage("testing the constraints")
    return target, staged.decided(settle(staged.staged))


def _told(asked: Job | TablesJob, log: RunLog) -> Job | TablesJob:
    """The job, with what its files, their sheets, and the runs before tell."""
    asked = brought_back(asked, log)
    if isinstance(asked, Job) and (asked.newer is not None or asked.only_changed or asked.files_once):
        from tidymerge.run.reading_on import going_on  # late: few jobs need it

        asked = going_on(asked, log)
    return paired(asked)


def _opened(job: Job, *, write: bool, firmly: bool = False) -> AbstractContextManager[Target]:
    """The target of a job."""
    services = job.read.services or NO_SERVICES
    return opened(job.target, write=write, types=_types(job), firmly=firmly, create=job.create, services=services)


def _types(job: Job) -> Mapping[str, str]:
    """The types of columns that are there."""
    return {} if job.create else job.types


def _run_of(jobs: tuple[Job, ...], clock: Clock, address: str) -> Run:
    """The run, before anything is known of it."""
    job = jobs[0]
    request = request_of(job)
    done = State.LOADED if request is None else State.REMOVED
    return Run(
        clock.run or "", done, clock.started, user(), address, job=job.file, request=request, once=job.rules.once,
        appends=job.rules.append,
    )  # fmt: skip


def preview(asked: Job | TablesJob, *, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET) -> Receipt:
    """Decide everything and write nothing; a file is opened read-only, a server's transaction is rolled back."""
    return preview_in_full(asked, 0, outputs=outputs, progress=progress)[0]


def preview_in_full(
    asked: Job | TablesJob, most: int, *, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET
) -> tuple[Receipt, list[Touch]]:
    """A preview, and the first `most` records that would change. Of the `outputs`, page and chart are the caller's."""
    clock, log = Clock.begin(named=False), FolderLog()
    asked = _told(asked, log)
    job = jobs_of(asked)[0]
    with Gatherings(jobs_of(asked)) as gatherings:
        check_outputs(gatherings.jobs, outputs)
        with _opened(job, write=False) as target:
            _, decided = _decide_load(asked, target, gatherings, clock, log, progress)
            decided = _looked_back(log, asked, gatherings.checksums, decided)
            if outputs.rejects is not None:
                save_rejects(decided, outputs.rejects, job.incoming[0]).keep()
            if outputs.conflicts is not None:
                save_clashes(decided, outputs.conflicts).keep()
            if outputs.sql is not None:
                save_script(decided, outputs.sql)
            if outputs.marked is not None:
                file, note = save_marked(decided, outputs.marked, clock, preview=True)
                file.keep()
                decided = replace(decided, notes=(*decided.notes, *([note] if note else [])))
            receipt = make_receipt(decided, State.PREVIEWED, clock, rejects=outputs.rejects)
            return receipt, first_touches(decided, most)


def check_outputs(jobs: Sequence[Job], outputs: Outputs) -> None:
    """Make sure that no file is overwritten that was not meant. Raises BadOption and MissingPackage."""
    job, *others = jobs
    outputs.check(job, incoming=[address for other in others for address in other.incoming])


def load(
    asked: Job | TablesJob,
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
    clock, log = Clock.begin(named=True), FolderLog()
    asked = _told(asked, log)
    jobs = jobs_of(asked)
    job, address = jobs[0], reopened(jobs[0].target)
    told = settle_all(log, address)
    with ExitStack() as stack:
        gatherings = stack.enter_context(Gatherings(jobs))
        stack.enter_context(alone(log, job))
        files = gatherings.checksums()
        run = replace(_run_of(jobs, clock, address), files=files)
        recording = stack.enter_context(recorded(log, run))
        stack.enter_context(files)
        check_outputs(gatherings.jobs, outputs)
        for attempt in attempts(recording, progress, wait_seconds):
            with attempt, _opened(job, write=True, firmly=attempt.firmly) as target:
                first, decided = _decide_load(asked, target, gatherings, clock, log, progress)
                gatherings.unchanged()
                decided = _looked_back(log, asked, lambda: files, decided).noting(*told)
                _check(decided, clock, outputs, expect, strict=asked.strict, accept_warnings=accept_warnings)
                manner = Manner(
                    check=lambda decided: check_strict(decided, clock, outputs, strict=asked.strict),
                    save=lambda decided: save_of_load(decided, job, clock, outputs),
                    trusting=all(one.trust_triggers for one in jobs),
                    only_changed=False,
                    shield=shield,
                )
                if len(jobs) > 1:
                    run = replace(run, target=f"{without_fragment(address)}#{decided.called}")
                return carry_out(first, decided, run, clock, recording, progress, manner)
    raise AssertionError("an attempt that neither ends nor raises")


def _check(
    decided: Decided, clock: Clock, outputs: Outputs, expect: str | None, *, strict: bool, accept_warnings: bool
) -> None:
    """Make sure that the load may go on. Raises Stopped."""
    check_fingerprint(decided, clock, expect)
    check_strict(decided, clock, outputs, strict=strict)
    check_referred(decided, clock, outputs)
    check_limits(decided, clock, outputs, accept_warnings=accept_warnings)


def _looked_back(
    log: RunLog, asked: Job | TablesJob, files: Callable[[], Mapping[str, str | None]], decided: Decided
) -> Decided:
    """What was decided, with a warning if the log knows of later rows of the same kind. Where nothing changes, none.

    Rows that may count only once are held to that. What has become of the target's structure is said.
    """
    job = jobs_of(asked)[0]
    decided = held_to_once(log, job, files() if job.rules.once or job.rules.append else {}, decided)
    decided = with_changes_since(log, asked, job.target, decided)
    if not decided.tally.inserted + decided.tally.updated + decided.tally.removed:
        return decided
    address = full_address(reopened(job.target), decided.target)
    if decided.related:  # the log keeps the dates of the first table
        address = f"{without_fragment(address)}#{decided.called}"
    older = older_than_before(log, address, files(), decided.latest)
    return decided.warned(*older)

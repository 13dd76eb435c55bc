"""What is asked of records that are there, from start to end; from the decision on its steps are those of a load."""

from collections.abc import Callable, Mapping
from contextlib import nullcontext

from msgspec import Struct

from tidymerge.address import reopened
from tidymerge.history.folder import FolderLog
from tidymerge.history.who import user
from tidymerge.job.services import services_in
from tidymerge.model.receipt import Receipt, Request, State, Touch
from tidymerge.model.run import Run
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.attempts import attempts
from tidymerge.run.carry_out import Manner, carry_out
from tidymerge.run.checks import check_fingerprint, check_limits
from tidymerge.run.commit import Shield
from tidymerge.run.decided import Decided
from tidymerge.run.opening import NO_OUTPUTS, QUIET, opened
from tidymerge.run.outputs import Outputs
from tidymerge.run.record import recorded, settle_all
from tidymerge.run.report import Clock, first_touches, make_receipt, save_rejects
from tidymerge.run.save import save_of_records


class Task(Struct, frozen=True):
    """A change or a removal: of which target, how it is decided, and the state that it ends in.

    `check` raises Stopped where records that can't take part stop the run; `job` is the job file; `trusting` says that
    differences which the target's own triggers make are noted; `firmly` keeps all others from writing to the table.
    """

    target: str
    types: Mapping[str, str]
    request: Request
    done: State
    decide: Callable[[Target, Clock, Progress], Decided]
    check: Callable[[Decided, Clock, Outputs], None]
    trusting: bool
    job: str | None
    firmly: bool = False


def preview_task(
    task: Task, most: int = 0, *, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET
) -> tuple[Receipt, list[Touch]]:
    """What it would do, and the first `most` records that it would touch. Nothing is written."""
    clock = Clock.begin(named=False)
    outputs.check(target=task.target, archives=list(task.request.archive.values()))
    with opened(task.target, write=False, types=task.types, services=services_in(task.job)) as target:
        decided = task.decide(target, clock, progress)
        if outputs.rejects is not None:
            save_rejects(decided, outputs.rejects, "").keep()
        receipt = make_receipt(decided, State.PREVIEWED, clock, rejects=outputs.rejects)
        return receipt, first_touches(decided, most)


def perform_task(
    task: Task,
    *,
    expect: str | None = None,
    outputs: Outputs = NO_OUTPUTS,
    wait_seconds: int | None = None,
    progress: Progress = QUIET,
    shield: Shield = nullcontext,
) -> Receipt:
    """Decide, write, prove, log and commit, in one transaction; where others stand in the way, again from the start.

    Raises Stopped when a limit is exceeded or there is no condition, when `expect` (a fingerprint) differs, or when the
    task's own check says so; and what a load raises.
    """
    clock, log, address = Clock.begin(named=True), FolderLog(), reopened(task.target)
    told = settle_all(log, address)
    run = Run(clock.run or "", task.done, clock.started, user(), address, job=task.job, request=task.request)
    with recorded(log, run) as recording:
        outputs.check(target=task.target, archives=list(task.request.archive.values()))
        for attempt in attempts(recording, progress, wait_seconds):
            firmly, services = attempt.firmly or task.firmly, services_in(task.job)
            opening = opened(task.target, write=True, types=task.types, firmly=firmly, services=services)
            with attempt, opening as target:
                decided = task.decide(target, clock, progress).noting(*told)
                check_fingerprint(decided, clock, expect)
                check_limits(decided, clock, outputs, accept_warnings=True)  # a condition that is forgotten comes first
                task.check(decided, clock, outputs)
                manner = Manner(
                    check=lambda decided: task.check(decided, clock, outputs),
                    save=lambda decided: save_of_records(decided, outputs),
                    trusting=task.trusting,
                    only_changed=True,
                    shield=shield,
                )
                return carry_out(target, decided, run, clock, recording, progress, manner)
    raise AssertionError("an attempt that neither ends nor raises")

"""An undo from start to end: it decides by the log; from there on its steps are those of a load."""

from contextlib import nullcontext

from msgspec.structs import replace

from tidymerge.address import reopened
from tidymerge.history.folder import FolderLog
from tidymerge.history.who import user
from tidymerge.job.services import services_in
from tidymerge.model.receipt import Receipt, State, Touch
from tidymerge.model.run import Run
from tidymerge.ports.progress import Progress
from tidymerge.run.attempts import attempts
from tidymerge.run.carry_out import Manner, carry_out
from tidymerge.run.checks import check_fingerprint, check_undo
from tidymerge.run.commit import Shield
from tidymerge.run.decide_undo import decide_undo, undoable
from tidymerge.run.opening import NO_OUTPUTS, QUIET, opened
from tidymerge.run.outputs import Outputs
from tidymerge.run.record import job_of, recorded, settle_all
from tidymerge.run.report import Clock, first_touches, make_receipt, save_conflicts
from tidymerge.run.save import save_of_undo


def preview_undo(
    text: str, *, into: str | None = None, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET
) -> Receipt:
    """What undoing a run would do. Raises NoSuchRun and NotUndoable."""
    return preview_undo_in_full(text, 0, into=into, outputs=outputs, progress=progress)[0]


def preview_undo_in_full(
    text: str, most: int, *, into: str | None = None, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET
) -> tuple[Receipt, list[Touch]]:
    """A preview of undoing a run, and the first `most` records that would change."""
    clock = Clock.begin(named=False)
    log = FolderLog()
    told = settle_all(log)
    run = undoable(log, text)
    outputs.check(target=into or run.target)
    services = services_in(job_of(log, run))
    with opened(into or run.target, write=False, create=run.gone, services=services) as target:
        decided = decide_undo(log, run, target, progress).noting(*told)
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
    clock, log = Clock.begin(named=True), FolderLog()
    told = settle_all(log)
    undone = undoable(log, text)
    address = into or undone.target
    outputs.check(target=address)
    run = Run(clock.run or "", State.UNDONE, clock.started, user(), reopened(address), undoes=undone.name)
    with recorded(log, run) as recording:
        for attempt in attempts(recording, progress, wait_seconds):
            services = services_in(job_of(log, undone))
            opening = opened(address, write=True, firmly=attempt.firmly, create=undone.gone, services=services)
            with attempt, opening as target:
                decided = decide_undo(log, undone, target, progress).noting(*told)
                check_fingerprint(decided, clock, expect)
                check_undo(decided, undone, clock, outputs.conflicts, rest=rest)
                manner = Manner(
                    check=lambda decided: check_undo(decided, undone, clock, outputs.conflicts, rest=rest),
                    save=lambda decided: save_of_undo(decided, undone, outputs),
                    trusting=trust_triggers,
                    only_changed=True,
                    shield=shield,
                )
                return carry_out(target, decided, run, clock, recording, progress, manner)
    raise AssertionError("an attempt that neither ends nor raises")

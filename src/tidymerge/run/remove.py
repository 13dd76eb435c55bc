"""A removal of records, from start to end; from the decision on its steps are those of a load."""

from contextlib import nullcontext

from tidymerge.address import reopened
from tidymerge.history.folder import FolderLog
from tidymerge.history.who import user
from tidymerge.job.model import Removal
from tidymerge.model.receipt import Receipt, State, Touch
from tidymerge.model.run import Run
from tidymerge.ports.progress import Progress
from tidymerge.run.attempts import attempts
from tidymerge.run.carry_out import Manner, carry_out
from tidymerge.run.checks import check_fingerprint, check_hindered, check_limits
from tidymerge.run.commit import Shield
from tidymerge.run.decide_remove import decide_removal, request_of
from tidymerge.run.opening import NO_OUTPUTS, QUIET, opened
from tidymerge.run.outputs import Outputs
from tidymerge.run.record import recorded, settle_all
from tidymerge.run.report import Clock, first_touches, make_receipt, save_rejects
from tidymerge.run.save import save_of_change


def preview_removal(
    asked: Removal, most: int = 0, *, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET
) -> tuple[Receipt, list[Touch]]:
    """What a removal would do, and the first `most` records that would go. Nothing is written."""
    clock = Clock.begin(named=False)
    outputs.check(target=asked.target)
    with opened(asked.target, write=False, types=asked.types) as target:
        decided = decide_removal(asked, target, clock, progress)
        if outputs.rejects is not None:
            save_rejects(decided, outputs.rejects, "").keep()
        receipt = make_receipt(decided, State.PREVIEWED, clock, rejects=outputs.rejects)
        return receipt, first_touches(decided, most)


def remove(
    asked: Removal,
    *,
    expect: str | None = None,
    outputs: Outputs = NO_OUTPUTS,
    wait_seconds: int | None = None,
    progress: Progress = QUIET,
    shield: Shield = nullcontext,
) -> Receipt:
    """Decide, write, prove, log and commit, in one transaction; where others stand in the way, again from the start.

    Raises Stopped when a limit is exceeded or there is no condition, when `expect` (a fingerprint) differs, or when
    other records refer to some of them; and what a load raises.
    """
    clock, log, address = Clock.begin(named=True), FolderLog(), reopened(asked.target)
    told = settle_all(log, address)
    run = Run(clock.run or "", State.REMOVED, clock.started, user(), address, job=asked.file, request=request_of(asked))
    with recorded(log, run) as recording:
        outputs.check(target=asked.target)
        for attempt in attempts(recording, progress, wait_seconds):
            opening = opened(asked.target, write=True, types=asked.types, firmly=attempt.firmly)
            with attempt, opening as target:
                decided = decide_removal(asked, target, clock, progress).noting(*told)
                check_fingerprint(decided, clock, expect)
                check_hindered(decided, clock, outputs)
                check_limits(decided, clock, outputs, accept_warnings=True)
                manner = Manner(
                    check=lambda decided: check_hindered(decided, clock, outputs),
                    save=lambda decided: save_of_change(decided, outputs),
                    trusting=asked.trust_triggers,
                    only_changed=True,
                    shield=shield,
                )
                return carry_out(target, decided, run, clock, recording, progress, manner)
    raise AssertionError("an attempt that neither ends nor raises")

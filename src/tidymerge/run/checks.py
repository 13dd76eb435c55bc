"""What a run must hold to before it writes: the fingerprint asked for, strictness, limits, warnings."""

from pathlib import Path

from msgspec.structs import replace

from tidymerge.core.words import plural
from tidymerge.errors import Stopped
from tidymerge.job.model import Job
from tidymerge.model.receipt import State
from tidymerge.model.run import Run
from tidymerge.run.decided import Decided
from tidymerge.run.outputs import Outputs
from tidymerge.run.report import Clock, make_receipt, save_conflicts, save_rejects


def check_load(
    decided: Decided, job: Job, clock: Clock, outputs: Outputs, *, accept_warnings: bool, expect: str | None
) -> None:
    """Raise Stopped where a load may not go on."""
    check_fingerprint(decided, clock, expect)
    check_strict(decided, job, clock, outputs)
    if decided.limits:
        rejects = _rejects_of_a_stopped(decided, job, outputs)
        raise Stopped(
            f"Stopped by a limit; nothing was written. {' '.join(excess.words for excess in decided.limits)} "
            "If that is meant, allow it.",
            receipt=make_receipt(decided, State.STOPPED, clock, rejects=rejects),
            reason="limit",
            give=(tuple((excess.name, str(excess.count)) for excess in decided.limits),),
        )
    if decided.warnings and not accept_warnings:
        count = len(decided.warnings)
        raise Stopped(
            f"Stopped at {count} {plural(count, 'warning', 'warnings')}; nothing was written. "
            "If all is as it should be, load again and accept them.",
            receipt=make_receipt(decided, State.STOPPED, clock),
            reason="warnings",
            give=((("accept_warnings", ""),),),
        )


def check_fingerprint(decided: Decided, clock: Clock, expect: str | None) -> None:
    """Raise Stopped if the changes are not those that were expected."""
    if expect is not None and expect != decided.fingerprint:
        raise Stopped(
            f"The changes are not the expected ones: the fingerprint is {decided.fingerprint}, not {expect}. "
            "The incoming rows or the target changed since; preview again. Nothing was written.",
            receipt=make_receipt(decided, State.STOPPED, clock),
            reason="fingerprint",
        )


def check_strict(decided: Decided, job: Job, clock: Clock, outputs: Outputs) -> None:
    """Raise Stopped if a row was rejected and the load is strict."""
    if not job.strict or not decided.tally.rejected:
        return
    rejects = _rejects_of_a_stopped(decided, job, outputs)
    count = decided.tally.rejected
    raise Stopped(
        f"Stopped: {count:,} {plural(count, 'row was', 'rows were')} rejected and the load is strict; "
        "nothing was written. Correct the rows, or load without `strict` to take the good ones.",
        receipt=make_receipt(decided, State.STOPPED, clock, rejects=rejects),
        reason="strict",
    )


def _rejects_of_a_stopped(decided: Decided, job: Job, outputs: Outputs) -> Path | None:
    """The rejected rows in the file that was asked for, so that it is seen what is wrong with them."""
    if outputs.rejects is None or not decided.tally.rejected:
        return None
    save_rejects(decided, outputs.rejects, job.incoming[0]).keep()
    return outputs.rejects


def check_undo(decided: Decided, run: Run, clock: Clock, conflicts: Path | None, *, rest: bool) -> None:
    """Raise Stopped if not all of a run can be put back, unless the `rest` is to be."""
    if rest or not decided.tally.rejected:
        return
    if conflicts is not None:
        save_conflicts(decided, run.key, conflicts).keep()
    count, total = decided.tally.rejected, decided.tally.read
    receipt = make_receipt(decided, State.STOPPED, clock, rejects=conflicts)
    raise Stopped(
        f"Stopped: {count:,} of {total:,} {plural(total, 'record', 'records')} of the run "
        f"{run.name} can't be put back, as listed; nothing was undone. The rest can be undone, and these left as "
        "they are.",
        give=((("rest", ""),),),
        receipt=replace(receipt, undoes=run.name),
        reason="conflicts",
    )

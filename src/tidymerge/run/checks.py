"""What a run must hold to before it writes: the fingerprint asked for, strictness, limits, warnings."""

from pathlib import Path

from msgspec.structs import replace

from tidymerge.core.account import account
from tidymerge.core.words import counted, plural
from tidymerge.errors import Stopped
from tidymerge.model import Reason
from tidymerge.model.receipt import State
from tidymerge.model.run import Run
from tidymerge.run.decided import Decided
from tidymerge.run.outputs import Outputs
from tidymerge.run.report import Clock, going_ahead, make_receipt, save_conflicts, save_rejects


def check_fingerprint(decided: Decided, clock: Clock, expect: str | None) -> None:
    """Raise Stopped if the changes are not those that were expected."""
    if expect is not None and expect != decided.mark:
        changed = "The incoming rows or the target" if decided.request is None else "The target"
        raise Stopped(
            f"The changes are not the expected ones: the fingerprint is {decided.mark}, not {expect}. "
            f"{changed} changed since; preview again. Nothing was written.",
            receipt=make_receipt(decided, State.STOPPED, clock),
            reason="fingerprint",
        )


def check_strict(decided: Decided, clock: Clock, outputs: Outputs, *, strict: bool) -> None:
    """Raise Stopped if a row or record was rejected and the run is strict."""
    if not strict or not decided.total.rejected:
        return
    count, rejects = decided.total.rejected, _rejects_of_a_stopped(decided, outputs)
    if decided.request is None:
        said = f"{count:,} {plural(count, 'row was', 'rows were')} rejected and the load is strict"
        next_step = "Correct the rows, or load without `strict` to take the good ones."
    else:
        said = f"{count:,} {plural(count, 'record was', 'records were')} rejected and the change is strict"
        next_step = "Say the change otherwise, or leave `strict` out to change the others."
    raise Stopped(
        f"Stopped: {said}; nothing was written. {next_step}",
        receipt=make_receipt(decided, State.STOPPED, clock, rejects=rejects),
        reason="strict",
    )


def check_hindered(decided: Decided, clock: Clock, outputs: Outputs) -> None:
    """Raise Stopped if not all records that are meant can go: nothing is removed then."""
    count, total = decided.total.rejected, decided.total.read
    if not count:
        return
    rejects = _rejects_of_a_stopped(decided, outputs)
    receipt = make_receipt(decided, State.STOPPED, clock, rejects=rejects)
    asked = decided.request is not None and decided.request.with_referring
    referred = not asked and not decided.alone and set(receipt.rejects.reasons) == {Reason.REFERRED_TO.value}
    along = "" if decided.alone else " or along with them"
    raise Stopped(
        f"Stopped: {count:,} of {total:,} {plural(total, 'record', 'records')} can't go, as listed; nothing was "
        f"removed. Remove what refers to them first{along}, or say the condition otherwise.",
        receipt=receipt,
        reason="hindered",
        give=((("with_referring", ""),),) if referred else (),
    )


def check_referred(decided: Decided, clock: Clock, outputs: Outputs) -> None:
    """Raise Stopped if others refer to records that rows name to be removed, or if what goes along can't go.

    No record is removed then.
    """
    if decided.request is None:
        return
    stuck = sum(one.tally.rejected for one in decided.all[1:])
    reasons = account.reasons([part.changes for part in decided.parts])
    count = reasons.get(Reason.REFERRED_TO.value, 0)
    if not stuck and not count:
        return
    if stuck:
        said = f"{counted(stuck, 'record')} can't go, or can't be copied, as listed; nothing was removed."
        next_step = "See to them first, or leave out the rows that lead to them."
    else:
        said = f"others refer to {count:,} of the records, as listed; nothing was removed."
        along = "" if decided.alone else " or along with them"
        next_step = f"Remove what refers to them first{along}, or leave them out."
    raise Stopped(
        f"Stopped: {said} {next_step}",
        receipt=make_receipt(decided, State.STOPPED, clock, rejects=_rejects_of_a_stopped(decided, outputs)),
        reason="hindered",
        give=() if stuck or decided.alone or decided.request.with_referring else ((("with_referring", ""),),),
    )


def check_drop(decided: Decided, clock: Clock, outputs: Outputs) -> None:
    """Raise Stopped where something needs the columns that are to go, or an undo would not find a record again."""
    names = " and ".join(column.name for column in decided.dropped)
    if decided.needed:
        raise Stopped(
            f"Stopped: {names} {plural(len(decided.dropped), 'is', 'are')} needed by {', '.join(decided.needed)}; "
            "nothing was written. Change what needs it, or take it away first.",
            receipt=make_receipt(decided, State.STOPPED, clock),
            reason="needed",
        )
    if decided.tally.rejected:
        raise Stopped(
            f"Stopped: {counted(decided.tally.rejected, 'record')} without a key of its own, so that an undo could not "
            f"bring the values of {names} back; nothing was written. Name the records by other columns.",
            receipt=make_receipt(decided, State.STOPPED, clock, rejects=_rejects_of_a_stopped(decided, outputs)),
            reason="hindered",
            give=((("key", "COLUMN"),),),
        )


def check_limits(decided: Decided, clock: Clock, outputs: Outputs, *, accept_warnings: bool) -> None:
    """Raise Stopped at a limit, and at warnings that are not accepted."""
    limits = [excess for one in decided.all for excess in one.limits]
    if limits:
        rejects = _rejects_of_a_stopped(decided, outputs)
        raise Stopped(
            f"Stopped by a limit; nothing was written. {' '.join(excess.words for excess in limits)} "
            "If that is meant, allow it.",
            receipt=make_receipt(decided, State.STOPPED, clock, rejects=rejects),
            reason="limit",
            give=(tuple((name, "" if count is True else str(count)) for name, count in going_ahead(limits).items()),),
        )
    if decided.warnings and not accept_warnings:
        count = len(decided.warnings)
        raise Stopped(
            f"Stopped at {count} {plural(count, 'warning', 'warnings')}; nothing was written. "
            "If all is as it should be, run it again and accept them.",
            receipt=make_receipt(decided, State.STOPPED, clock),
            reason="warnings",
            give=((("accept_warnings", ""),),),
        )


def _rejects_of_a_stopped(decided: Decided, outputs: Outputs) -> Path | None:
    """The rejected rows in the file that was asked for, so that it is seen what is wrong with them."""
    if outputs.rejects is None or not decided.total.rejected:
        return None
    save_rejects(decided, outputs.rejects, "").keep()
    return outputs.rejects


def check_undo(decided: Decided, run: Run, clock: Clock, conflicts: Path | None, *, rest: bool) -> None:
    """Raise Stopped if not all of a run can be put back, unless the `rest` is to be."""
    count, total = decided.total.rejected, decided.total.read
    if rest or not count:
        return
    if conflicts is not None:
        save_conflicts(decided, run.key, conflicts).keep()
    receipt = make_receipt(decided, State.STOPPED, clock, rejects=conflicts)
    raise Stopped(
        f"Stopped: {count:,} of {total:,} {plural(total, 'record', 'records')} of the run "
        f"{run.name} can't be put back, as listed; nothing was undone. The rest can be undone, and these left as "
        "they are.",
        give=((("rest", ""),),),
        receipt=replace(receipt, undoes=run.name),
        reason="conflicts",
    )

"""Around every run: its entry in the log however it ends, and the verdict on runs that were cut off."""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress

from msgspec.structs import replace

from tidymerge.address import same_place, same_table
from tidymerge.core.words import counted, plural
from tidymerge.errors import (
    Interrupted,
    LogDamaged,
    LogUnwritable,
    NoSuchFile,
    NoSuchTable,
    ServerAway,
    Stopped,
    TidyMergeError,
    UsageError,
)
from tidymerge.job.services import services_in
from tidymerge.model.receipt import State
from tidymerge.model.run import Run
from tidymerge.ports.log import Recording, RunLog
from tidymerge.run.decide_undo import Verdict, committed
from tidymerge.run.in_part import in_part
from tidymerge.targets import open_target


@contextmanager
def recorded(log: RunLog, run: Run) -> Iterator[Recording]:
    """Record what happens inside as `run`. Its errors go on, but for the doubt about a commit where that can be ended.

    Only wrong usage leaves no entry: nothing was tried.
    """
    recording = log.begin(run.name)
    try:
        yield recording
    except Stopped as stopped:
        recording.settle(replace(run, state=State.STOPPED, message=str(stopped), receipt=stopped.receipt))
        raise
    except BaseException as error:
        recording.leave()
        if run.name in log.names():  # the commit may have been under way
            said = settle(log, run.name)
            _say_why(log, run.name, error)
            if isinstance(error, ServerAway) and said:
                raise ServerAway(f"{error} {said}", **error.facts) from error
            raise
        if isinstance(error, UsageError):
            log.tidy()
            raise
        recording.settle(replace(run, state=State.FAILED, message=_said(error)))
        raise
    log.tidy()


def _say_why(log: RunLog, name: str, error: BaseException) -> None:
    """Let the log say why a run failed while it was written, as far as it is known to be gone again."""
    if not isinstance(error, TidyMergeError) or isinstance(error, ServerAway):
        return
    with suppress(LogDamaged):
        run = log.read(name)
        if run.settled and run.state is State.FAILED:
            _note(log, replace(run, message=str(error)))


def _said(error: BaseException) -> str:
    return str(error) if isinstance(error, TidyMergeError) else f"{type(error).__name__}: {error}"


def settle_all(log: RunLog, target: str | None = None) -> list[str]:
    """Find out about all runs that were cut off, or those into the file or server of `target`; a sentence each."""
    return [said for name in log.unsettled() if (said := settle(log, name, target))]


def settle(log: RunLog, name: str, target_of: str | None = None) -> str | None:
    """Look at the target for whether a run that was cut off committed, note it in the log, and say it.

    The target is opened for writing, so that this waits for a commit that still runs on the server.
    """
    with log.ended(name) as gone:
        if not gone:
            return None
        try:
            run = log.read(name)
            elsewhere = target_of is not None and not same_place(run.target, target_of)
            if run.settled or elsewhere:
                return None
            verdict = _verdict(log, run)
            lasted = verdict.lasted
            since = _written_since(log, run) if lasted else None
        except Interrupted:
            raise  # asked to end, no verdict on the run
        except TidyMergeError as error:
            return f"The run {name} was cut off while it committed, and whether it did can't be told yet: {error}"
        if verdict.holds is not None:
            return _partly(log, run, verdict.holds) + _of_others(verdict)
        if lasted is None:
            return (
                f"The run {name} was cut off while it committed, and {run.target} no longer tells whether it did: its "
                "records were changed since. Undo it to see each of them."
            )
        if since is not None:
            return (
                f"The run {name} was cut off while it committed. {run.target} holds what it wrote, but the later run "
                f"{since} wrote there too, so whether it committed itself can't be told. Undo it to see each record."
            )
        if lasted:
            _note(log, replace(run, settled=True))
            return (
                f"The run {name} was cut off, but {run.target} shows that it had committed: it counts as {run.state} "
                "(unless somebody without this log wrote the same values since, which can't be told apart)."
            )
        message = f"Cut off before it committed: {run.target} is as it was before the run."
        _note(log, replace(run, settled=True, state=State.FAILED, message=message, receipt=None))
        return (
            f"The run {name} was cut off, and {run.target} shows that it had not committed: nothing of it was written."
            f"{_of_others(verdict)}"
        )


def _of_others(verdict: Verdict) -> str:
    """What is said of records that somebody changed since, where a run may have been there in part."""
    count = verdict.unclear
    if not count:
        return ""
    hold = plural(count, "holds", "hold")
    return (
        f" But {counted(count, 'record')} of it {hold} something else by now: somebody changed "
        f"{plural(count, 'it', 'them')} since, so whether the run had written there can't be told."
    )


def _partly(log: RunLog, run: Run, holds: Mapping[int, tuple[int, ...]]) -> str:
    """Note that only a part of a run is there, and say it."""
    part = in_part(log, run, holds)
    _note(log, part)
    return f"The run {run.name} was cut off. {part.message}"


def _verdict(log: RunLog, run: Run) -> Verdict:
    """What the target shows of a run; a table that it made, or that went with it, tells by being there."""
    try:
        with open_target(run.target, write=True, services=services_in(job_of(log, run))) as target:
            return committed(log, run, target)
    except (NoSuchTable, NoSuchFile):
        if run.made or run.gone:
            return Verdict(run.gone)
        raise


def job_of(log: RunLog, run: Run) -> str | None:
    """The job file of a run, or of the one that it undoes."""
    if run.job is None and run.undoes is not None and run.undoes in log.names():
        return log.read(run.undoes).job
    return run.job


def _written_since(log: RunLog, run: Run) -> str | None:
    """The first later run of the log that wrote to the same table."""
    for name in sorted(name for name in log.names() if name > run.name):
        with suppress(LogDamaged):
            other = log.read(name)
            wrote = other.each if other.wrote and other.settled else ()
            if any(same_table(one.target, own.target) for one in wrote for own in run.each):
                return name
    return None


def _note(log: RunLog, run: Run) -> None:
    """Write a verdict down, if that can be done; else the next command finds it out again."""
    with suppress(LogUnwritable):
        log.write(run)

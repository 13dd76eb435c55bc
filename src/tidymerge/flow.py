"""A run from start to end. It reads as a table of contents; the work is in `core`, `deciding` and the adapters."""

import secrets
import time
from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

from tidymerge.core import account, caution
from tidymerge.core.decide import differs
from tidymerge.deciding import Decided, Part, decide_all, reject_refusals
from tidymerge.errors import ProofFailed, Stopped, TargetChanged
from tidymerge.gathering import Gathering
from tidymerge.job.model import Job
from tidymerge.ports import Progress, Target, Written
from tidymerge.receipt import Receipt, State
from tidymerge.reporting import Clock, make_receipt, save_rejects
from tidymerge.reports.rejects_file import default_path
from tidymerge.targets import open_target

ATTEMPTS = 4  # how often a load that others stood in the way of is started


class _Quiet:
    def stage(self, words: str) -> None:
        """Say nothing."""


QUIET: Progress = _Quiet()


def preview(job: Job, *, rejects: Path | None = None, progress: Progress = QUIET) -> Receipt:
    """Decide everything and write nothing; a file is opened read-only, a server's transaction is rolled back."""
    clock = _clock(named=False)
    with Gathering(job) as gathering, open_target(job.target, write=False) as target:
        decided = decide_all(job, target, gathering.rows, ("(preview)", clock.started), progress)
        if rejects is not None:
            save_rejects(decided, rejects)
        return make_receipt(decided, State.PREVIEWED, clock, rejects=rejects)


def load(
    job: Job,
    *,
    accept_warnings: bool = False,
    expect: str | None = None,
    rejects: Path | None = None,
    progress: Progress = QUIET,
    shield: Callable[[], AbstractContextManager[object]] = nullcontext,
) -> Receipt:
    """Decide, write, prove and commit, in one transaction; where others stand in the way, again from the start.

    `shield` guards the moment of the commit against interruption, so that what is said afterwards
    is true. Raises Stopped when `expect` (a fingerprint) differs, when there are warnings that
    are not accepted, or when the job is strict and a row was rejected; TargetChanged when others
    stood in the way every time.
    """
    clock = _clock(named=True)
    with Gathering(job) as gathering:
        for attempt in range(1, ATTEMPTS + 1):
            try:
                with open_target(job.target, write=True) as target:
                    decided = decide_all(job, target, gathering.rows, (clock.run or "", clock.started), progress)
                    _check_expectations(decided, job, clock, accept_warnings, expect, rejects)
                    return _write_and_commit(target, decided, job, clock, rejects, progress, shield)
            except TargetChanged as changed:
                if attempt == ATTEMPTS:
                    raise TargetChanged(
                        f"{changed} Tried {ATTEMPTS} times; nothing was written. Load again when it is quieter there."
                    ) from changed
                progress.stage("others changed the same records: starting again")
                time.sleep(secrets.randbelow(100) / 1000)  # so that two loads don't meet again in step
    raise AssertionError("every attempt returns or raises")


def _clock(*, named: bool) -> Clock:
    now = datetime.now(UTC)
    return Clock(now, time.perf_counter(), f"{now:%Y%m%d-%H%M%S}-{secrets.token_hex(3)}" if named else None)


def _check_expectations(
    decided: Decided, job: Job, clock: Clock, accept_warnings: bool, expect: str | None, rejects: Path | None
) -> None:
    if expect is not None and expect != decided.fingerprint:
        receipt = make_receipt(decided, State.STOPPED, clock)
        raise Stopped(
            f"The changes are not the expected ones: the fingerprint is {decided.fingerprint}, not {expect}. "
            "The incoming rows or the target changed since; preview again. Nothing was written.",
            receipt,
        )
    if job.strict and decided.tally.rejected:
        _stop_for_rejects(decided, clock, rejects)
    if decided.warnings and not accept_warnings:
        count = len(decided.warnings)
        raise Stopped(
            f"Stopped at {count} {caution.plural(count, 'warning', 'warnings')}; nothing was written. "
            "If all is as it should be, load again with --yes.",
            make_receipt(decided, State.STOPPED, clock),
        )


def _stop_for_rejects(decided: Decided, clock: Clock, rejects: Path | None) -> None:
    if rejects is not None:
        save_rejects(decided, rejects)
    count = decided.tally.rejected
    raise Stopped(
        f"Stopped: {count:,} {caution.plural(count, 'row was', 'rows were')} rejected and the load is strict; "
        "nothing was written. Mend the rows, or load without --strict to take the good ones.",
        make_receipt(decided, State.STOPPED, clock, rejects=rejects),
    )


def _write_and_commit(
    target: Target,
    decided: Decided,
    job: Job,
    clock: Clock,
    rejects: Path | None,
    progress: Progress,
    shield: Callable[[], AbstractContextManager[object]],
) -> Receipt:
    progress.stage("writing")
    decided, written = _write(target, decided)
    if job.strict and decided.tally.rejected:
        _stop_for_rejects(decided, clock, rejects)
    progress.stage("reading back what was written")
    decided, verified = _prove(target, decided, written, trusting=job.trust_triggers)
    file = _write_rejects(decided, job, rejects)
    try:
        # Made before the commit: after it nothing may fail.
        receipt = make_receipt(decided, State.LOADED, clock, file, verified=verified)
        with shield():
            target.commit()
    except BaseException:
        if file is not None:
            file.unlink(missing_ok=True)
        raise
    return replace(receipt, seconds=time.perf_counter() - clock.began)


def _write(target: Target, decided: Decided) -> tuple[Decided, Written]:
    """Write, and account for what only the database could find fault with."""
    written = [target.write(part.changes) for part in decided.parts]
    refused = tuple(refusal for one in written for refusal in one.refused)
    total = Written(sum(one.updated for one in written), sum(one.inserted for one in written), refused)
    if not refused:
        return decided, total
    count = len(refused)
    note = (
        f"{count:,} {caution.plural(count, 'row was', 'rows were')} refused by the database only when written, "
        "so the counts and the fingerprint differ from the preview's."
    )
    return decided.with_parts(reject_refusals(decided.parts, refused), note), total


def _prove(target: Target, decided: Decided, written: Written, *, trusting: bool) -> tuple[Decided, bool]:
    """Prove counts and values inside the transaction. Raises ProofFailed, unless triggers are trusted with rows."""
    try:
        for part in decided.parts:
            account.prove_tally(account.tally([part.changes]), part.changes, part.read)
        changes = [part.changes for part in decided.parts]
        account.prove_written(changes, decided.rows_before, target.count(), written.updated, written.inserted)
        for part in decided.parts:
            _prove_read_back(target, decided, part)
    except ProofFailed as failed:
        suspects = target.suspects()
        if trusting and suspects:
            return decided.with_parts(decided.parts, f"Not verified, as triggers are trusted: {failed}"), False
        if not suspects:
            raise
        raise ProofFailed(
            f"{failed} On the table are {', '.join(suspects)}; to let them change rows, load with --trust-triggers."
        ) from None
    return decided, True


def _prove_read_back(target: Target, decided: Decided, part: Part) -> None:
    """Read every written record again and compare it with what was decided. Raises ProofFailed."""
    changes = part.changes
    found = target.read_back(changes, decided.pairing)
    if found.num_rows != changes.after.num_rows:
        raise ProofFailed(
            f"{changes.after.num_rows:,} records were written but {found.num_rows:,} were found again; "
            "the load was rolled back. A trigger of the target may be changing keys."
        )
    for column in decided.pairing.columns:
        wanted, stored = changes.after[column.name].combine_chunks(), found[column.name].combine_chunks()
        wrong = differs(wanted, stored)
        wrong[changes.updates :] &= changes.given[column.name]  # the others left the value to the default
        if wrong.any():
            at = int(wrong.argmax())
            row = part.rows().row_numbers[changes.incoming[at]]
            raise ProofFailed(
                f"What was written does not read back equal, so the load was rolled back: row {row}, column "
                f"{column.name}, wrote {wanted[at].as_py()!s}, found {stored[at].as_py()!s}. "
                "A trigger or the column's type may be changing values."
            )


def _write_rejects(decided: Decided, job: Job, asked: Path | None) -> Path | None:
    if asked is None and not decided.tally.rejected:
        return None
    path = asked or default_path(job.incoming[0], Path())
    save_rejects(decided, path)
    return path

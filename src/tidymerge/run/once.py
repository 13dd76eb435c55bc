"""Rows that may count only once: what the log knows of them, and what is said where they come again."""

import hashlib
from collections.abc import Mapping
from contextlib import AbstractContextManager, nullcontext

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.address import reopened
from tidymerge.core.match.known import Known, row_codes
from tidymerge.core.warn.limits import Excess
from tidymerge.core.words import counted, plural
from tidymerge.job.model import Job
from tidymerge.model.changes import Outcome
from tidymerge.model.run import Run
from tidymerge.ports.log import Recording, RunLog
from tidymerge.ports.target import Target
from tidymerge.run.commit import full_address
from tidymerge.run.decided import Decided
from tidymerge.run.earlier import standing_loads

_LOADED = (Outcome.INSERTED, Outcome.UPDATED, Outcome.UNCHANGED)


def alone(log: RunLog, job: Job) -> AbstractContextManager[None]:
    """Keep other such loads into the same place out until this one has ended: they could not know of each other."""
    if not (job.rules.once or job.rules.append):
        return nullcontext()
    place = reopened(job.target).partition("#")[0]
    return log.alone(hashlib.sha256(place.encode()).hexdigest()[:16])


def known_rows(log: RunLog, job: Job, target: Target) -> Known | None:
    """The rows that earlier runs of such jobs loaded into the target; None where that makes no difference."""
    if not job.rules.once or job.rules.again:
        return None
    runs = [run for run in _earlier(log, job, target.address) if run.once]
    by = f"by the run {runs[0].name}" if len(runs) == 1 else f"by {len(runs)} runs"
    return Known.of([log.rows_of(run) for run in runs], f"loaded before, {by}")


def _earlier(log: RunLog, job: Job, address: str) -> list[Run]:
    """The earlier runs of rows that may count only once, into the same table, that are not taken back."""
    table = full_address(reopened(job.target), address)
    return [run for run in standing_loads(log, table, damaged=False) if run.once or run.appends]


def held_to_once(log: RunLog, job: Job, files: Mapping[str, str | None], decided: Decided) -> Decided:
    """What was decided, stopped where all rows, or their file, were loaded before; a warning where some rows were."""
    if not (job.rules.once or job.rules.append):
        return decided
    if job.rules.again:
        return decided.noting("Rows that were loaded before count again.")
    why = decided.known_as or ""
    known = sum(len(part.changes.skips.get(why, ())) for part in decided.parts)
    writes = decided.tally.inserted + decided.tally.updated > 0
    if known and not writes:
        words = f"{'All ' if known > 1 else ''}{counted(known, 'good row')} {plural(known, 'was', 'were')} {why}."
        return _stopped(decided, words)
    if known:
        words = (
            f"{counted(known, 'row')} {plural(known, 'was', 'were')} {why}, and {plural(known, 'is', 'are')} left out."
        )
        return replace(decided, warnings=(*decided.warnings, words))
    if not writes:
        return decided
    contents = {checksum for checksum in files.values() if checksum}
    for run in _earlier(log, job, decided.target):
        if contents & set(run.files.values()):
            other = ", by rules that look at other columns" if run.once and job.rules.once else ""
            return _stopped(decided, f"This very file was loaded by the run {run.name}{other}.")
        if run.appends and run.receipt is not None and run.receipt.fingerprint == decided.fingerprint:
            return _stopped(decided, f"The very same rows were loaded by the run {run.name}.")
    return decided.noting("The log keeps what was loaded, so that it is not loaded twice.")


def _stopped(decided: Decided, words: str) -> Decided:
    return replace(decided, limits=(*decided.limits, Excess(words, "again", count=True)))


def keep_rows(decided: Decided, recording: Recording) -> None:
    """Keep in the log which rows were loaded, if they may count only once. Raises LogUnwritable."""
    if decided.once is None:
        return
    codes = [pa.array([], pa.binary(16))]
    for part in decided.parts:
        rows = np.flatnonzero(np.isin(part.changes.outcomes, _LOADED))
        codes.append(row_codes(part.incoming().only(rows), decided.once))
    recording.keep_rows(pa.concat_arrays(codes))

"""Rows that are the full list: what is read for that, and when no record counts as absent."""

from collections.abc import Sequence

from tidymerge.core.decide.plan import Plan
from tidymerge.core.words import counted, plural
from tidymerge.job.model import Job
from tidymerge.model import Existing
from tidymerge.model.changes import Outcome
from tidymerge.model.existing import put_together
from tidymerge.ports.target import Target
from tidymerge.run.decided import Part
from tidymerge.run.split import Gathered

_MOST_REJECTED = 0.1  # of the rows: with more, the list can't be trusted


def all_records(plan: Plan, target: Target) -> Existing:
    """Every record of the target: those that are on no row, too."""
    return put_together(list(target.read_in_batches(plan.columns_read, plan.pairing.key_columns)), complete=True)


def without_absent(
    job: Job, gathered: Gathered, parts: Sequence[Part], nameless: int, target: Target
) -> tuple[list[Part], list[str]]:
    """The parts, in which no record counts as absent if the rows can't be trusted to be the full list; and why not."""
    why = _why_not(job, gathered, parts, nameless) if job.rules.absent is not None else None
    if why is None:
        return list(parts), []
    kept = []
    for part in parts:
        alone = part.changes.without_absent()
        gone = {*part.changes.positions.tolist()} - {*alone.positions.tolist()}
        target.unstage(sorted(gone))
        kept.append(Part(part.incoming, alone, part.read))
    return kept, [f"No record counts as absent: {why}."]


def _why_not(job: Job, gathered: Gathered, parts: Sequence[Part], nameless: int) -> str | None:
    """Why the rows are not the full list."""
    read = sum(part.read for part in parts)
    rejected = sum(int((part.changes.outcomes[: part.changes.rows] == Outcome.REJECTED).sum()) for part in parts)
    if gathered.sample.rows.corrected:
        return "the rows are those that an earlier load rejected"
    if job.take_rows or job.read.cells:
        return "only some of the rows were asked for"
    if job.reads_on:
        return "the job reads only what is new since its last run"
    if not read:
        return "there are no rows"
    if nameless:
        return f"which record is meant by {counted(nameless, 'row')} is not known"
    if rejected > read * _MOST_REJECTED:
        return f"{rejected:,} of {counted(read, 'row')} {plural(rejected, 'is', 'are')} rejected"
    return None


def notes_on(job: Job, absent: int) -> list[str]:
    """What is said of the records that are on no row."""
    if not absent:
        return []
    within = f" where {job.rules.absent_within}" if job.rules.absent_within else ""
    sets = ", ".join(f"{name} = {value}" for name, value in job.rules.absent_sets.items())
    does = f"{plural(absent, 'gets', 'get')} {sets}" if sets else plural(absent, "goes", "go")
    return [f"{counted(absent, 'record')}{within} {plural(absent, 'is', 'are')} on no row, and {does}."]

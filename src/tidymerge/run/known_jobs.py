"""The job files that the log knows of, and which of them name some columns of a table."""

from collections.abc import Iterator, Sequence
from pathlib import Path

from tidymerge.address import parse, reopened, same_table
from tidymerge.core.naming.mapping import fold
from tidymerge.errors import LogDamaged, TidyMergeError
from tidymerge.history.folder import FolderLog
from tidymerge.job.model import Change, Job, Removal
from tidymerge.job.reading import read_any
from tidymerge.job.tables import TablesJob


def jobs_naming(address: str, names: Sequence[str]) -> list[str]:
    """The jobs of earlier runs into a table, as far as their files are there, that name one of its columns."""
    log, found, place = FolderLog(), {}, reopened(address)
    for run in log.names():
        try:
            entry = log.read(run)
        except LogDamaged:
            continue
        if entry.job is None or entry.job in found:
            continue
        if any(same_table(own.target, place) for own in entry.each):
            found[entry.job] = _names(entry.job, {fold(name) for name in names}, parse(place).fragment)
    return [f"the job {path}" for path in sorted(path for path, named in found.items() if named)]


def _names(path: str, wanted: set[str], table: str | None) -> bool:
    """Whether a job file names one of the columns; a job of several tables is looked at for this one."""
    try:
        job = read_any(Path(path))
    except TidyMergeError:
        return False  # it is gone, or is no job any more
    jobs = job.tables if isinstance(job, TablesJob) else (job,)
    asked = [one for one in jobs if len(jobs) == 1 or parse(one.target).fragment == table]
    return any(fold(name) in wanted for one in asked for name in _named(one))


def _named(job: Job | Change | Removal) -> Iterator[str]:
    """The target's columns that a job names."""
    yield from job.key
    texts = []
    if isinstance(job, Removal):
        texts.append(job.where)
    else:
        yield from job.columns
        texts += [rule.compute for rule in job.columns.values()]
    if isinstance(job, Change):  # one that takes the column away does not need it
        for rule in job.columns.values():
            yield from rule.sources
        texts.append(job.where)
    if isinstance(job, Job):
        yield from (*job.only, *job.renames)
        rules = job.rules
        texts += [rules.update_when, rules.insert_when, rules.absent_within]
        texts += [rule.update_when for rule in job.columns.values()]
    for text in texts:
        yield from _columns_of(text) if text else ()


def _columns_of(text: str) -> Iterator[str]:
    """The columns of the record that an expression uses."""
    import sqlglot  # late: it takes longer to import than most tables to load
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    try:
        found = sqlglot.parse_one(text)
    except SqlglotError:
        return
    for column in found.find_all(exp.Column):
        if column.table.lower() in ("", "existing"):
            yield column.name

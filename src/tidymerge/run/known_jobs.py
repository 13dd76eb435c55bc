"""The job files that the log knows of, and which of them name some columns of a table."""

from collections.abc import Iterator, Sequence
from pathlib import Path

from tidymerge.address import reopened, same_table
from tidymerge.core.naming.mapping import fold
from tidymerge.errors import LogDamaged, TidyMergeError
from tidymerge.history.folder import FolderLog
from tidymerge.job.model import Change, Job, Removal
from tidymerge.job.reading import read_any
from tidymerge.job.tables import TablesJob


def jobs_naming(address: str, names: Sequence[str]) -> list[str]:
    """The jobs of earlier runs into a table, as far as their files are there, that name one of its columns."""
    log, found = FolderLog(), {}
    for run in log.names():
        try:
            entry = log.read(run)
        except LogDamaged:
            continue
        if entry.job is not None and entry.job not in found and same_table(entry.target, reopened(address)):
            found[entry.job] = _names(entry.job, {fold(name) for name in names})
    return [f"the job {path}" for path in sorted(path for path, named in found.items() if named)]


def _names(path: str, wanted: set[str]) -> bool:
    """Whether a job file names one of the columns."""
    try:
        job = read_any(Path(path))
    except TidyMergeError:
        return False  # it is gone, or is no job any more
    return any(fold(name) in wanted for name in _named(job))


def _named(job: Job | TablesJob | Change | Removal) -> Iterator[str]:
    """The target's columns that a job names."""
    if isinstance(job, TablesJob):
        for one in job.tables:
            yield from _named(one)
        return
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

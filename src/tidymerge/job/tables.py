"""A job of several tables: all of them are loaded in one run."""

from collections import Counter
from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.address import parse, without_fragment, without_password
from tidymerge.databases import is_database
from tidymerge.errors import BadOption
from tidymerge.job.model import Job
from tidymerge.targets import is_workbook


class TablesJob(Struct, frozen=True):
    """A job for each table, of one database. `file` is the job file; `notes` say how the tables were found.

    `at` are the incoming addresses that the tables share. Until it is `complete`, their own may be sheets of those.
    """

    tables: tuple[Job, ...]
    at: tuple[str, ...] = ()
    file: str | None = None
    notes: tuple[str, ...] = ()

    @property
    def incoming(self) -> tuple[str, ...]:
        """All addresses that rows come from."""
        return tuple(dict.fromkeys(address for job in self.tables for address in job.incoming))

    @property
    def strict(self) -> bool:
        """Whether one rejected row of any table stops the run."""
        return any(job.strict for job in self.tables)

    def complete(self) -> "TablesJob":
        """The job with whole addresses, if all of it can be one run. Raises BadOption."""
        tables = [replace(job, incoming=_rows(job.incoming, self.at), file=self.file) for job in self.tables]
        shared = Counter((job.incoming, job.read.query) for job in tables)
        tables = [
            replace(job, rules=replace(job.rules, several=shared[job.incoming, job.read.query] > 1)) for job in tables
        ]
        return _checked(replace(self, tables=tuple(tables)))


def jobs_of(asked: Job | TablesJob) -> tuple[Job, ...]:
    """The job of each table."""
    return asked.tables if isinstance(asked, TablesJob) else (asked,)


def _rows(rows: Sequence[str], incoming: Sequence[str]) -> tuple[str, ...]:
    """Where the rows of one table are: #Sheet is a sheet of the incoming file; nothing said are the incoming rows.

    Raises BadOption.
    """
    if not rows:
        return tuple(incoming)
    found = []
    for text in rows:
        if not text.startswith("#"):
            found.append(text)
            continue
        if len(incoming) == 1 and incoming[0].lower().endswith(".csv"):
            found.append(incoming[0])  # which has no sheets: rows that were rejected come back in one file
            continue
        if len(incoming) != 1:
            raise BadOption(f"{text} is a sheet of the incoming file: say which one that is, by `at` in [incoming].")
        found.append(f"{without_fragment(incoming[0])}{text}")
    return tuple(found)


def _checked(job: TablesJob) -> TablesJob:
    """The job, if all of it can be one run. Raises BadOption."""
    names: set[str] = set()
    first = job.tables[0].target
    for one in job.tables:
        shown = without_password(one.target)
        if not one.incoming:
            raise BadOption(f"Say which rows go into {shown}: INCOMING, or `rows` in its [[table]].")
        if not (is_database(one.target) or is_workbook(one.target)):
            raise BadOption(
                f"{shown} is a file by itself, and a run of several tables is one transaction of one database, or of "
                "the sheets of one workbook: load it by a run of its own."
            )
        table = parse(one.target).fragment
        if without_fragment(one.target) != without_fragment(first):
            raise BadOption(
                f"{shown} and {without_password(first)} are in different places, and a run is one transaction: load "
                "them by runs of their own."
            )
        if table is None:
            kind, such = ("sheet", "coop.xlsx#Hives") if is_workbook(one.target) else ("table", "coop.db#hives")
            raise BadOption(f"Say which {kind} of {shown} is meant, as in {such}.")
        if table in names:
            raise BadOption(f"{table} is there twice: one [[table]] can have several addresses in its `rows`.")
        names.add(table)
        _check_one(one, shown)
    return job


_ALONE: Mapping[str, str] = {
    "create": "a table that is not there yet",
    "like": "a table that is not there yet",
    "add": "new columns",
}


def _check_one(job: Job, shown: str) -> None:
    """Raise BadOption for what only a run of one table can do."""
    for name, words in _ALONE.items():
        if getattr(job, name):
            raise BadOption(f"{shown}: {words} can be asked for in a run of its own, not beside other tables.")
    for name in ("append", "once"):
        if getattr(job.rules, name):
            raise BadOption(f"{shown}: rows that count only once are loaded by a run of their own ({name}).")

"""Going on where the last run of a job ended: only rows that are newer, only files that were not loaded before."""

from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from tidymerge.address import STANDARD_INPUT, is_server, is_service, parse, reopened, same_table, without_password
from tidymerge.core.naming.mapping import incoming_name
from tidymerge.core.tidy.newer import Newer, only_newer
from tidymerge.core.words import counted
from tidymerge.errors import BadOption, LogDamaged
from tidymerge.job.model import Job
from tidymerge.job.tables import TablesJob
from tidymerge.model.receipt import State
from tidymerge.ports.log import RunLog
from tidymerge.run.gather import addresses
from tidymerge.run.ledger import Ledger
from tidymerge.run.split import Gathered


def going_on(asked: Job | TablesJob, log: RunLog) -> Job | TablesJob:
    """The job, which knows where the run before ended, and takes only files that were not loaded. Raises BadOption."""
    if isinstance(asked, TablesJob):
        return asked
    if (asked.newer is not None or asked.only_changed) and asked.file is None:
        raise BadOption("Which rows are new is known by the job file of the run before: name one.")
    if asked.newer is not None:
        last = None if asked.from_start else _last(log, asked, asked.newer.column)
        asked = replace(asked, newer=replace(asked.newer, last=last))
    if asked.only_changed:
        asked = replace(asked, read=replace(asked.read, tracked=_links(log, asked)))
    return _new_files(asked, log) if asked.files_once and not asked.from_start else asked


def _links(log: RunLog, job: Job) -> dict[str, str]:
    """From where this job goes on reading lists behind HTTP, by their addresses. Raises BadOption."""
    for text in job.incoming:
        if not is_service(text):
            raise BadOption(f"only_changed is for lists behind HTTP, not for {without_password(text)}: try newer_by.")
    places = [without_password(text) for text in job.incoming]
    if job.from_start:
        return dict.fromkeys(places, "")
    return {place: link for place in places if (link := _last(log, job, place)) is not None}


def _last(log: RunLog, job: Job, what: str) -> str | None:
    """From where this job goes on into this table, as the last run of it said: by a column, or an address.

    Where a run was taken back, it goes on from where that one had begun.
    """
    place = reopened(job.target)
    said: list[str | None] = [None]
    now, begun = 0, dict[str, int]()  # places in `said`: the later, the further
    for name in sorted(log.names()):
        try:
            run = log.read(name)
        except LogDamaged:
            continue
        if run.state is State.LOADED and run.settled and run.job == job.file and same_table(run.target, place):
            begun[name] = now
            if what in run.newest:
                said.append(run.newest[what])
                now = len(said) - 1
        elif run.undoes in begun and run.wrote:
            now = min(begun[run.undoes], now)
    return said[now]


def _new_files(job: Job, log: RunLog) -> Job:
    """The job with those of its files that were not loaded into the target; if all were, their rows are skipped."""
    ledger = Ledger(log, job, of_any_job=True)
    ledger.refresh()
    there = addresses(job.incoming)
    files = [text for text in there if text != STANDARD_INPUT and not is_server(text) and parse(text).path.is_file()]
    known = [text for text in files if ledger.loaded(ledger.checksum(Path(parse(text).path))) is not None]
    fresh = tuple(text for text in there if text not in known)
    if fresh or not known:
        return replace(job, incoming=fresh or job.incoming, passed_over=len(known))
    nothing = replace(job.rules, skip_when="1 = 1", absent=None)  # of rows that are not new no record is absent
    return replace(job, incoming=(known[-1],), passed_over=len(known), rules=nothing)


def only_new_rows(gathered: Gathered, newer: Newer) -> tuple[Gathered, dict[str, str]]:
    """The rows that are new, in memory; and the greatest value of the column, to go on from."""
    rows = gathered.together().sample.rows
    name = incoming_name([column.name for column in rows.columns], newer.column)
    told = only_newer(rows, newer, name)
    return Gathered.all(told.rows), {} if told.newest is None else {newer.column: told.newest}


def words_on(job: Job, rows: int) -> Sequence[str]:
    """What is worth saying of what was not read."""
    said = []
    if job.newer is not None:
        since = f"from {job.newer.least} on" if job.newer.last is not None else "all, as no run before is known"
        said.append(f"By {job.newer.column} only new rows are read: {since}; {counted(rows, 'row')}.")
    if job.passed_over:
        said.append(f"{counted(job.passed_over, 'file')} passed over: loaded into this target before.")
    return said

"""Rows that were taken out and come back: which extract they are of, and what they were then."""

from collections.abc import Sequence
from pathlib import Path
from types import ModuleType

import pyarrow as pa
from msgspec.structs import replace

from tidymerge.address import STANDARD_INPUT, is_server, parse, without_password
from tidymerge.core.decide.plan import Plan
from tidymerge.core.decide.since import Since, since_of
from tidymerge.core.naming.header import ROWS_SEARCHED
from tidymerge.core.naming.mapping import listing
from tidymerge.core.tidy.tidying import unguard
from tidymerge.core.words import counted, plural
from tidymerge.databases import is_database
from tidymerge.errors import BadOption, NoSuchRun, SourceError, UsageError
from tidymerge.formats.extracted import carried_in_parquet, name_beside, named_in_parquet
from tidymerge.history.base_file import from_bytes
from tidymerge.job.model import NO_BASE, Job
from tidymerge.job.tables import TablesJob
from tidymerge.model import IncomingColumn, TableShape
from tidymerge.model.base import ROW_MARK, Base, Side
from tidymerge.model.receipt import State
from tidymerge.ports.log import RunLog
from tidymerge.run.decided import Part
from tidymerge.run.split import Gathered
from tidymerge.sources import open_source

_HEAD = 1 << 16  # bytes
_PARQUET, _BOOKS = ".parquet", (".xlsx", ".xlsm", ".ods")


def brought_back(asked: Job | TablesJob, log: RunLog) -> Job | TablesJob:
    """The job; if its rows were taken out of a table, it says by which extract, and where they come back to.

    Raises BadOption where it isn't known what they were.
    """
    if isinstance(asked, TablesJob) or asked.base == NO_BASE or len(asked.incoming) != 1 or asked.create:
        return asked
    named = asked.base or _named_in(asked)
    if named is None:
        return asked
    base = _read(named, asked, log)
    (address,) = asked.incoming
    sheet = (
        _books().rows_of_book(parse(address).path) if _is_book(address) and parse(address).fragment is None else None
    )
    incoming = (f"{address}#{sheet}",) if sheet else asked.incoming
    return replace(
        asked, incoming=incoming, base=base.run, target=asked.target or base.target, key=asked.key or base.key
    )


def _named_in(job: Job) -> str | None:
    """The extract that a file says it is of; none if it says nothing, or can't be looked at."""
    address = job.incoming[0]
    if address == STANDARD_INPUT or is_server(address) or is_database(address) or set(address) & set("*?["):
        return None
    path = parse(address).path
    if not path.is_file():
        return None
    ending = path.suffix.lower()
    named = named_in_parquet(path) if ending == _PARQUET else _books().named_in_book(path) if ending in _BOOKS else None
    return named or (_marked(address, job) if _may_be_marked(path, ending) else None)


def _may_be_marked(path: Path, ending: str) -> bool:
    """Whether it is worth opening a file to look for our marks: most files have none."""
    if ending in _BOOKS:
        return bool(_books().may_be_marked(path, ROW_MARK))
    try:
        with path.open("rb") as file:
            head = file.read(_HEAD)
    except OSError:  # which is said when it is read
        return False
    return ROW_MARK.encode() in head.replace(b"\0", b"") or ending == _PARQUET


def _books() -> ModuleType:
    """What is known of workbooks, imported when one comes."""
    from tidymerge.formats.sheet import extracted

    return extracted


def _is_book(address: str) -> bool:
    if address == STANDARD_INPUT or is_server(address):
        return False
    return parse(address).path.suffix.lower() in _BOOKS


def _marked(address: str, job: Job) -> str | None:
    """The extract that the first rows are marked with."""
    try:
        head = open_source(address, job.read).head(ROWS_SEARCHED)
    except (SourceError, UsageError):  # which is said when the rows are read
        return None
    at = next(((row, cells.index(ROW_MARK)) for row, cells in enumerate(head) if ROW_MARK in cells), None)
    if at is None:
        return None
    marks = (cells[at[1]] for cells in head[at[0] + 1 :] if len(cells) > at[1])
    return next((mark.rpartition(":")[0] for mark in marks if ":" in mark), None)


def base_of(job: Job, log: RunLog) -> Base | None:
    """What the rows of a job were when they were taken out; None for rows that come for the first time."""
    return _read(job.base, job, log) if job.base else None


def _read(named: str, job: Job, log: RunLog) -> Base:
    """The base of that name: as the log has it, or, for a target that is named, as the file carries it.

    Raises BadOption.
    """
    address = job.incoming[0]
    try:
        run = log.find(named)
    except NoSuchRun:
        data = _carried(address)
        base = None if data is None else from_bytes(data, address)
        if base is None or base.run != named:
            raise BadOption(
                f"{without_password(address)} was taken out by the run {named}, of which this log knows nothing, and "
                "it does not carry what the rows were. Load it where it was taken out; or as rows that come for the "
                "first time, which may take back what others changed since.",
                give=((("base", "RUN"),), (("no_base", ""),)),
            ) from None
        if not job.target:  # whoever made the file could send the rows, and a password with them, anywhere
            raise BadOption(
                f"{without_password(address)} says that it was taken out of {without_password(base.target)}, of which "
                "this log knows nothing. Where its rows go is not taken from the file alone: name the table.",
                give=((("into", "TARGET"),),),
            ) from None
        return base
    if run.state is not State.EXTRACTED:
        raise BadOption(f"The run {run.name} took no rows out, so nothing can be compared with it.")
    return from_bytes(log.base_of(run), f"the log's run {run.name}")


def _carried(address: str) -> bytes | None:
    """What a file carries of the rows as they were."""
    if address == STANDARD_INPUT or is_server(address):
        return None
    path = parse(address).path
    ending = path.suffix.lower()
    return (
        carried_in_parquet(path) if ending == _PARQUET else _books().carried_in_book(path) if ending in _BOOKS else None
    )


def of_base(job: Job, base: Base, shape: TableShape) -> Job:
    """The job for rows that come back to a table: it finds them by the base's key, and takes what was taken out."""
    if set(job.key) != set(base.key):
        raise BadOption(
            f"The rows were taken out with {' + '.join(base.key)} as their key, and are to be found by "
            f"{' + '.join(job.key)}: leave the key out."
        )
    gone = [name for name in base.key if name not in {column.name for column in shape.columns}]
    if gone:
        raise BadOption(f"{shape.name} has no column {gone[0]} any more, by which the rows were taken out.")
    if job.columns or job.only:
        return job
    own = [column.name for column in shape.columns if column.name in base.values.column_names and column.loadable]
    if not own:
        raise BadOption(
            f"{shape.name} has none of the columns that were taken out: {listing(base.values.column_names)}."
        )
    return replace(job, only=tuple(own))


def come_back(plan: Plan, base: Base, prefer: Side | None) -> Plan:
    """The plan for rows that come back. What we wrote beside their columns is not said to be left out."""
    ours = {ROW_MARK, *(name_beside(name) for name in base.values.column_names)}
    idle = tuple(name for name in plan.pairing.not_loaded if name not in ours)
    pairing = replace(plan.pairing, not_loaded=idle)
    return replace(plan, pairing=pairing, since=since_of(base, pairing, prefer))


def words_on(since: Since, parts: Sequence[Part]) -> list[str]:
    """What is worth saying of rows that come back."""
    said = [f"The rows come back from the extract {since.run}: only cells that were edited are loaded."]
    both = [part.changes.clashes for part in parts if part.changes.clashes is not None]
    count = sum(len(clashes.rows) for clashes in both)
    if count:
        what = f"{counted(count, 'field')} {plural(count, 'was', 'were')} changed by others, too"
        rows = sum(len(set(clashes.rows.tolist())) for clashes in both)
        said.append(
            f"{what}: {plural(rows, 'its row is', 'their rows are')} rejected, unless one side's value is preferred."
            if since.prefer is None
            else f"{what}: the {since.prefer}'s value {plural(count, 'is', 'are')} taken."
        )
    return said


def as_taken_out(gathered: Gathered, base: Base) -> Gathered:
    """The rows in memory, without the apostrophes that were put before what a spreadsheet would run."""
    rows = gathered.rows() if gathered.batches is not None else gathered.sample.rows
    if not base.guarded:
        return Gathered.all(rows)
    return Gathered.all(replace(rows, columns=tuple(_unguarded(column) for column in rows.columns)))


def _unguarded(column: IncomingColumn) -> IncomingColumn:
    arrays = tuple(unguard(array) if pa.types.is_string(array.type) else array for array in column.arrays)
    return column if column.name == ROW_MARK else replace(column, arrays=arrays)

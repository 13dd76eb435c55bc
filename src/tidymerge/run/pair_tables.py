"""A workbook and a database: which sheet goes into which table, told by their names."""

from msgspec.structs import replace

from tidymerge.address import STANDARD_INPUT, is_server, parse
from tidymerge.core.naming.mapping import fold
from tidymerge.databases import is_database
from tidymerge.errors import BadOption
from tidymerge.job.model import Job
from tidymerge.job.tables import TablesJob
from tidymerge.model import ReadOptions
from tidymerge.ports.target import AmongOthers
from tidymerge.sources import open_source
from tidymerge.targets import open_target

_OF_ONE = ("key", "columns", "renames", "only", "header_row", "take_rows", "fill_down", "each", "add", "create", "like")


def paired(asked: Job | TablesJob) -> Job | TablesJob:
    """The job as it is, or one of several tables, where a whole workbook goes into a whole database.

    Raises BadOption for what can't be said of several tables at once.
    """
    if isinstance(asked, TablesJob) or not _is_whole(asked):
        return asked
    file = asked.incoming[0]
    sheets = [name for name, *_ in open_source(file, ReadOptions()).sheets()]
    with open_target(asked.target, write=False) as target:
        tables = [name for name, *_ in target.tables()] if isinstance(target, AmongOthers) else []
    called = {fold(name): name for name in tables}
    pairs = {sheet: called[fold(sheet)] for sheet in sheets if fold(sheet) in called}
    if len(pairs) < 2:  # noqa: PLR2004 - one is a load of one table, which says what is missing
        return asked
    said = [name for name in _OF_ONE if getattr(asked, name)]
    if said:
        raise BadOption(
            f"{file} has sheets for several tables of {asked.target}: {said[0].replace('_', ' ')} is said for one of "
            f"them. Name a sheet and a table, as in {file}#{sheets[0]}, or write a job with [[table]]."
        )
    jobs = [
        replace(asked, incoming=(f"{file}#{sheet}",), target=f"{asked.target}#{table}")
        for sheet, table in pairs.items()
    ]
    notes = [f"Paired by name: {', '.join(f'{sheet} with {table}' for sheet, table in pairs.items())}."]
    lone = [sheet for sheet in sheets if sheet not in pairs]
    notes += [f"No table is called like the sheet {name}, so it is not loaded." for name in lone]
    return TablesJob(tuple(jobs), notes=tuple(notes)).complete()


def _is_whole(job: Job) -> bool:
    """Whether rows are all sheets of a workbook, and the target all tables of a database."""
    if job.file is not None or len(job.incoming) != 1 or job.create or job.read.query or job.read.cells:
        return False
    (text,) = job.incoming
    if text == STANDARD_INPUT or is_server(text) or is_database(text) or set(text) & set("*?["):
        return False
    if not (is_server(job.target) or is_database(job.target)) or parse(job.target).fragment is not None:
        return False
    address = parse(text)
    return address.fragment is None and address.path.is_file() and len(open_source(text, job.read).sheets()) > 1

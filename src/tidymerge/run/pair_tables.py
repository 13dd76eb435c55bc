"""A workbook and a database: which sheet goes into which table, told by their names."""

from msgspec.structs import replace

from tidymerge.address import STANDARD_INPUT, is_server, parse, without_password
from tidymerge.core.naming.mapping import fold, listing
from tidymerge.core.tidy.corrected import TABLE, tables_of
from tidymerge.databases import is_database
from tidymerge.errors import BadOption
from tidymerge.job.model import Job
from tidymerge.job.tables import TablesJob
from tidymerge.model import ReadOptions
from tidymerge.ports.target import AmongOthers
from tidymerge.sources import open_source
from tidymerge.targets import is_workbook, open_target

_OF_ONE = ("key", "columns", "renames", "only", "header_row", "take_rows", "fill_down", "each", "add", "create", "like")


def paired(asked: Job | TablesJob) -> Job | TablesJob:
    """The job as it is, or one of several tables, where a whole workbook goes into a whole database.

    Raises BadOption for what can't be said of several tables at once.
    """
    if isinstance(asked, TablesJob):
        return _sent_back(asked)
    if asked.file is not None or len(asked.incoming) != 1 or asked.create:
        return asked
    if asked.read.query or asked.read.cells or not is_whole(asked.incoming[0], asked.target):
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
        word, into = said[0].replace("_", " "), without_password(asked.target)
        raise BadOption(
            f"{file} has sheets for several tables of {into}: {word} is said for one of them. "
            f"Name a sheet and a table, as in {file}#{sheets[0]}, or write a job with [[table]]."
        )
    jobs = [
        replace(asked, incoming=(f"{file}#{sheet}",), target=f"{asked.target}#{table}")
        for sheet, table in pairs.items()
    ]
    notes = [f"Paired by name: {', '.join(f'{sheet} with {table}' for sheet, table in pairs.items())}."]
    lone = [sheet for sheet in sheets if sheet not in pairs]
    notes += [f"No table is called like the sheet {name}, so it is not loaded." for name in lone]
    return TablesJob(tuple(jobs), notes=tuple(notes)).complete()


def _sent_back(asked: TablesJob) -> TablesJob:
    """The job; if its rows are a file of rejects, only for the tables that those are of. Raises BadOption."""
    (text, *others) = asked.incoming
    if others or not text.lower().endswith(".csv"):
        return asked
    source = open_source(text, ReadOptions())
    if TABLE not in [name for row in source.head(1) for name in row]:
        return asked
    named = {fold(name) for name in tables_of(source.read(0)) if name}
    back = [
        replace(job, header_row=None, fill_down=(), read=ReadOptions())
        for job in asked.tables
        if fold(parse(job.target).fragment or "") in named
    ]
    if not back:
        raise BadOption(f"{text} has rejected rows of {listing(sorted(named))}, which are no tables of the job.")
    return replace(asked, tables=tuple(back))


def is_whole(incoming: str, into: str, *, sheets: bool = False) -> bool:
    """Whether rows are all sheets of a workbook, and go into all tables of a database, or all `sheets` of another."""
    if incoming == STANDARD_INPUT or is_server(incoming) or is_database(incoming) or set(incoming) & set("*?["):
        return False
    whole = is_database(into) or (sheets and is_workbook(into) and len(open_source(into, ReadOptions()).sheets()) > 1)
    if not whole or parse(into).fragment is not None:
        return False
    address = parse(incoming)
    if address.fragment is not None or not address.path.is_file():
        return False
    return len(open_source(incoming, ReadOptions()).sheets()) > 1

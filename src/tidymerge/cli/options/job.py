"""The options that make a job, for every command that takes one."""

import functools
import inspect
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tidymerge.address import STANDARD_INPUT
from tidymerge.cli.options import records
from tidymerge.cli.options import shared as options
from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.job.model import Job
    from tidymerge.job.tables import TablesJob


def takes_job(command: Callable[..., None]) -> Callable[..., None]:
    """Give a command the options of `job_of` before its own; its first argument then makes the job of them.

    Typer reads options from a function's signature, so the command is given one of both.
    """
    of_job = [
        parameter
        for parameter in inspect.signature(job_of).parameters.values()
        if parameter.kind is not inspect.Parameter.KEYWORD_ONLY
    ]
    _, *own = inspect.signature(command).parameters.values()

    @functools.wraps(command)
    def with_job(**given: Any) -> None:
        said = {parameter.name: given.pop(parameter.name) for parameter in of_job}
        command(functools.partial(job_of, **said), **given)

    with_job.__signature__ = inspect.Signature([*of_job, *own])  # type: ignore[attr-defined]
    with_job.__annotations__ = {parameter.name: parameter.annotation for parameter in (*of_job, *own)}
    return with_job


def job_of(
    incoming: options.Incoming = None, job_file: options.JobPath = None, into: options.Into = None,
    key: options.Key = None, mapped: options.Map = None, only: options.Only = None,
    header_row: options.HeaderRow = None, rows: options.Rows = None, cells: options.Cells = None,
    query: options.Query = None, add_columns: options.AddColumns = False, add_column: options.AddColumn = None,
    create: options.Create = False, like: options.Like = None, skip_when: options.SkipWhen = None,
    append: options.Append = False, again: options.Again = False, base: options.Base = None,
    no_base: options.NoBase = False, prefer: options.Prefer = None, from_start: options.FromStart = False,
    delimiter: options.Delimiter = None,
    quote: options.Quote = None, encoding: options.Encoding = None, form: options.Format = None,
    most_updated: options.MostUpdated = None,
    most_inserted: options.MostInserted = None, most_rejected: options.MostRejected = None,
    fewest_rows: options.FewestRows = None, expect_updated: options.ExpectUpdated = None,
    expect_inserted: options.ExpectInserted = None, most_removed: records.MostRemoved = None,
    expect_removed: records.ExpectRemoved = None, *, strict: bool = False, trust_triggers: bool = False,
) -> "Job | TablesJob":  # fmt: skip
    """The job of the job file, if one is given, with what the command line says over it. Raises UsageError."""
    from tidymerge.job.over import Given, job_with
    from tidymerge.job.tables import TablesJob

    limits = options.limits(
        updated=most_updated, inserted=most_inserted, rejected=most_rejected, fewest_rows=fewest_rows,
        removed=most_removed, expect_updated=expect_updated, expect_inserted=expect_inserted,
        expect_removed=expect_removed,
    )  # fmt: skip
    given = Given(
        incoming=() if incoming is None else (incoming,), target=into, key=key or (),
        renames=pairs(mapped, "TARGET=INCOMING"), only=only or (),
        add=add_columns or add_column or False, header_row=header_row, take_rows=rows, skip_when=skip_when,
        read=options.read_options(delimiter, quote, encoding, cells, query, form), limits=limits, strict=strict,
        trust_triggers=trust_triggers, append=append, again=again, create=create, like=like, prefer=prefer,
        base=_base(base, no_base=no_base), from_start=from_start,
    )  # fmt: skip
    job = job_with(None if job_file is None else Path(job_file), given)
    if job_file == STANDARD_INPUT and STANDARD_INPUT in (job.at if isinstance(job, TablesJob) else job.incoming):
        raise BadOption("Standard input can't be both the job and its rows: put one of them into a file.")
    return _complete(job)


def _complete(job: "Job | TablesJob") -> "Job | TablesJob":
    """The job, if it says what goes where. Raises BadOption."""
    from tidymerge.history.folder import FolderLog
    from tidymerge.job.model import Job
    from tidymerge.run.come_back import brought_back

    if not isinstance(job, Job):
        return job  # which was checked as it was read
    if job.incoming and not job.target:
        job = brought_back(job, FolderLog())  # a file that was taken out says where it goes
        assert isinstance(job, Job)  # noqa: S101 - as it was
    if not job.incoming:
        raise BadOption(
            "Say which rows to load: INCOMING, as in week32.xlsx#Inspections, or `at` in the job's [incoming]."
        )
    if not job.target:
        raise BadOption("Say which table to load into: --into coop.db#hives, or a job file with --job.")
    return job


def _base(named: str | None, *, no_base: bool) -> str | None:
    from tidymerge.job.model import NO_BASE

    if named and no_base:
        raise BadOption("The rows can't come back from an extract, and for the first time: say --base or --no-base.")
    return NO_BASE if no_base else named


def pairs(mapped: list[str] | None, form: str) -> dict[str, str]:
    """Which columns belong together, of options of the `form` A=B. Raises BadOption."""
    first = form.partition("=")[0].lower()
    renames: dict[str, str] = {}
    for pair in mapped or ():
        target, equals, source = pair.partition("=")
        if not (target.strip() and equals and source.strip()):
            raise BadOption(f"--map takes {form}, as in --map 'honey_kg=Honey (kg)', not {pair!r}.")
        if target.strip() in renames:
            raise BadOption(f"--map names the {first} column {target.strip()!r} twice; it belongs to one other column.")
        renames[target.strip()] = source.strip()
    return renames

"""Loading rows from Python, seeing before what it would do, and taking rows out."""

from collections.abc import Mapping, Sequence
from os import PathLike, fspath
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from tidymerge.api.shared import names, outputs
from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.job.model import Job
    from tidymerge.job.tables import TablesJob
    from tidymerge.model.receipt import Receipt
    from tidymerge.model.rules import Limits


def preview(
    incoming: str | PathLike[str] | None = None,
    into: str | PathLike[str] | None = None,
    *,
    job: "str | PathLike[str] | Job | TablesJob | None" = None,
    key: str | Sequence[str] = (),
    columns: Mapping[str, str] | None = None,
    only: Sequence[str] = (),
    add: bool | Sequence[str] = False,
    header_row: int | None = None,
    delimiter: str | None = None,
    quote: str | None = None,
    encoding: str | None = None,
    rejects: str | PathLike[str] | Literal[False] | None = None,
    append: bool = False,
    again: bool = False,
    create: bool = False,
    like: str | None = None,
    base: str | None = None,
    prefer: Literal["sheet", "table"] | None = None,
) -> "Receipt":
    """Decide what a load would do, and write nothing to the target.

    `incoming` and `into` are addresses (`week32.xlsx#Inspections`, `coop.db#hives`). `job` is a job file,
    or a `Job`, over which the other arguments win; it may give `incoming` and `into` too. Of a job of several
    tables (a `TablesJob`), they are another file and another database. `key` names the
    target columns that find a record and defaults to the primary key; `columns` maps target column
    to incoming column where the names differ; `only` limits the target columns loaded; `add` names incoming
    columns that the target lacks and is to get (True: all). `header_row` counts from 1. With `rejects`, the
    rejected rows are written to that file as CSV. `append`, `again`, `create` and `like` are as in `load`.
    Rows that were taken out by `extract` come back: a file that says so needs no `into`; for others `base` names the
    extract ("": they come as if for the first time). Where others changed the same field, the row is rejected, unless
    the value of one side is to `prefer`. Raises UsageError, SourceError or TargetError.
    """
    from tidymerge.run import load as loading

    read = (delimiter, quote, encoding)
    over: dict[str, Any] = {
        "append": append, "again": again, "create": create, "like": like, "base": base, "prefer": prefer,
    }  # fmt: skip
    asked = _job(job, incoming, into, key, columns, only, add, header_row, read, **over)
    return loading.preview(asked, outputs=outputs(rejects))


def load(
    incoming: str | PathLike[str] | None = None,
    into: str | PathLike[str] | None = None,
    *,
    job: "str | PathLike[str] | Job | TablesJob | None" = None,
    key: str | Sequence[str] = (),
    columns: Mapping[str, str] | None = None,
    only: Sequence[str] = (),
    add: bool | Sequence[str] = False,
    header_row: int | None = None,
    delimiter: str | None = None,
    quote: str | None = None,
    encoding: str | None = None,
    rejects: str | PathLike[str] | Literal[False] | None = None,
    strict: bool = False,
    accept_warnings: bool = False,
    expect: str | None = None,
    trust_triggers: bool = False,
    limits: "Limits | None" = None,
    wait: int | None = None,
    append: bool = False,
    again: bool = False,
    create: bool = False,
    like: str | None = None,
    base: str | None = None,
    prefer: Literal["sheet", "table"] | None = None,
) -> "Receipt":
    """Load the incoming rows, in one transaction that is proved before it is committed.

    Takes what `preview` takes. Rejected rows go to `rejects`, or to a new file in the current
    folder that the receipt names; with False to no file. Raises what `preview` raises; Stopped when `expect` is not the
    fingerprint of the changes, when there are warnings and `accept_warnings` is false, or when
    `strict` and a row was rejected; ProofFailed when the run does not add up. Then nothing was written.
    Stopped also when a limit is exceeded: `limits` win over the job's as a whole, and where neither says anything
    the usual ones hold. With `trust_triggers`, differences that the target's own triggers make are noted in the
    receipt instead, which is then not `verified`. Where others change the same records meanwhile, it starts again for
    `wait` seconds (else as the settings say). With `append`, every row is a new record, and none is looked for. Rows
    that may count only once, and those appended before, are loaded `again` only if that is true. With `create` the
    target is not there yet and is made, with `key` as its key, or `like` another table of its database.
    """
    from tidymerge.run import load as loading

    over: dict[str, Any] = {
        "limits": limits or {}, "strict": strict, "trust_triggers": trust_triggers, "append": append,
        "again": again, "create": create, "like": like, "base": base, "prefer": prefer,
    }  # fmt: skip
    asked = _job(job, incoming, into, key, columns, only, add, header_row, (delimiter, quote, encoding), **over)
    return loading.load(
        asked, accept_warnings=accept_warnings, expect=expect, outputs=outputs(rejects), wait_seconds=wait
    )


def extract(
    target: str | PathLike[str],
    out: str | PathLike[str],
    *,
    where: str | None = None,
    query: str | None = None,
    only: str | Sequence[str] = (),
    order: str | Sequence[str] = (),
    key: str | Sequence[str] = (),
    carry_base: bool = False,
    mark_rows: bool = False,
) -> str:
    """Take rows out into a new file (.xlsx, .ods, .csv, .tsv, .parquet), to be edited and loaded again; the run's name.

    `where` is a condition on the records; or they are those that the rows of a `query` name by their key. `only` limits
    the columns beside the key, `order` are columns to sort by, as in "honey_kg desc". With `carry_base` the file keeps
    what the rows are, so that it can come back where the log does not know of it. With `mark_rows` they are numbered in
    CSV and Parquet, too. Raises UsageError and TargetError.
    """
    from tidymerge.run.extract import extract as take_out
    from tidymerge.run.taking import Extraction

    asked = Extraction(
        fspath(target), Path(out), where, query, names(only), names(order), names(key), carry_base, mark_rows
    )
    return take_out(asked).run


def _job(
    job: "str | PathLike[str] | Job | TablesJob | None",
    incoming: str | PathLike[str] | None,
    into: str | PathLike[str] | None,
    key: str | Sequence[str],
    columns: Mapping[str, str] | None,
    only: Sequence[str],
    add: bool | Sequence[str],
    header_row: int | None,
    read: tuple[str | None, str | None, str | None],
    **more: Any,
) -> "Job | TablesJob":
    """The job asked for: that of the file or object, with what is given in addition, which wins."""
    from tidymerge.job.model import Job
    from tidymerge.job.over import Given, job_with
    from tidymerge.job.tables import TablesJob
    from tidymerge.model import ReadOptions

    over = Given(
        incoming=None if incoming is None else fspath(incoming),
        target=None if into is None else fspath(into),
        key=(key,) if isinstance(key, str) else key,
        renames=columns or {},
        only=only,
        add=add,
        header_row=header_row,
        read=ReadOptions(*read),
        **more,
    )
    asked = job_with(job if isinstance(job, Job | TablesJob) or job is None else Path(job), over)
    if isinstance(asked, Job) and asked.incoming and not asked.target:
        from tidymerge.history.folder import FolderLog
        from tidymerge.run.come_back import brought_back

        asked = brought_back(asked, FolderLog())
    if isinstance(asked, Job) and not (asked.incoming and asked.target):
        raise BadOption("Say which rows to load (incoming) and which table to load into (into), or give a job.")
    return asked

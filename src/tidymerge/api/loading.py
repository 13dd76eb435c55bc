"""Loading rows from Python, seeing before what it would do, and taking rows out."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from os import fspath
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from tidymerge.api.given import Incoming, given
from tidymerge.api.shared import Place, Tell, done, limits_of, names, outputs, told
from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.job.model import Job
    from tidymerge.job.tables import TablesJob
    from tidymerge.model.receipt import Receipt
    from tidymerge.model.rules import Limits


def preview(
    incoming: Incoming | None = None,
    into: Place | None = None,
    *,
    job: "Place | Job | TablesJob | None" = None,
    key: str | Sequence[str] = (),
    columns: Mapping[str, str] | None = None,
    only: str | Sequence[str] = (),
    add: bool | str | Sequence[str] = False,
    header_row: int | None = None,
    rows: str | None = None,
    cells: str | None = None,
    query: str | None = None,
    skip_when: str | None = None,
    delimiter: str | None = None,
    quote: str | None = None,
    encoding: str | None = None,
    format: Literal["csv", "tsv", "json", "jsonl"] | None = None,  # noqa: A002 - as the option is called
    limits: "Limits | Mapping[str, int | str] | None" = None,
    rejects: Place | Literal[False] | None = None,
    conflicts: Place | None = None,
    marked: Place | None = None,
    page: Place | None = None,
    chart: Place | None = None,
    summary: Place | None = None,
    sql: Place | None = None,
    append: bool = False,
    again: bool = False,
    create: bool = False,
    like: str | None = None,
    base: str | None = None,
    prefer: Literal["sheet", "table"] | None = None,
    from_start: bool = False,
    progress: Tell | None = None,
) -> "Receipt":
    """Decide what a load would do, and write nothing to the target.

    `incoming` is an address (`week32.xlsx#Inspections`), a list of them, an open file (text of the `format`, or what
    its name says), or a table: of pandas, polars, pyarrow, or whatever gives an Arrow stream. `into` is an address, as
    in `coop.db#hives`. `job` is a job file, or a `Job`, over which the other arguments win; it may give `incoming` and
    `into` too. Of a job of several tables (a `TablesJob`), they are another file and another database. `key` names the
    target columns that find a record and defaults to the primary key; `columns` maps target column to incoming column
    where the names differ; `only` limits the target columns loaded; `add` names incoming columns that the target lacks
    and is to get (True: all). `header_row` counts from 1, `rows` are row numbers (`3,7-12`), `cells` a range of a sheet
    (`B4:H40`), `query` the SQL of which the rows are taken. `limits` by name are counts or shares (`"20%"`). Files are
    written where they are named: the rejected rows, conflicts, the marked copy, the page, the chart. `append`, `again`,
    `create` and `like` are as in `load`. `progress` is called with the stage, the rows done, and the rows expected.
    Rows that were taken out by `extract` come back: a file that says so needs no `into`; for others `base` names the
    extract ("": they come as if for the first time). Where others changed the same field, the row is rejected, unless
    the value of one side is to `prefer`. Raises UsageError, SourceError or TargetError.
    """
    from tidymerge.run import load as loading
    from tidymerge.run.views import ROWS_ON_PAGE, write_views

    read = {
        "delimiter": delimiter,
        "quote": quote,
        "encoding": encoding,
        "cells": cells,
        "query": query,
        "format": format,
    }
    over: dict[str, Any] = {
        "into": into, "key": key, "columns": columns, "only": only, "add": add, "header_row": header_row,
        "take_rows": rows, "skip_when": skip_when, "limits": limits_of(limits), "append": append, "again": again,
        "create": create, "like": like, "base": base, "prefer": prefer, "from_start": from_start,
    }  # fmt: skip
    files = outputs(rejects, conflicts=conflicts, marked=marked, page=page, chart=chart, summary=summary, sql=sql)
    with _job(job, incoming, read, **over) as asked:
        most = 0 if page is None else ROWS_ON_PAGE
        receipt, touched = loading.preview_in_full(asked, most, outputs=files, progress=told(progress))
    write_views(receipt, touched, files)
    return done(receipt)


def load(
    incoming: Incoming | None = None,
    into: Place | None = None,
    *,
    job: "Place | Job | TablesJob | None" = None,
    key: str | Sequence[str] = (),
    columns: Mapping[str, str] | None = None,
    only: str | Sequence[str] = (),
    add: bool | str | Sequence[str] = False,
    header_row: int | None = None,
    rows: str | None = None,
    cells: str | None = None,
    query: str | None = None,
    skip_when: str | None = None,
    delimiter: str | None = None,
    quote: str | None = None,
    encoding: str | None = None,
    format: Literal["csv", "tsv", "json", "jsonl"] | None = None,  # noqa: A002 - as the option is called
    rejects: Place | Literal[False] | None = None,
    conflicts: Place | None = None,
    marked: Place | None = None,
    page: Place | None = None,
    chart: Place | None = None,
    summary: Place | None = None,
    strict: bool = False,
    accept_warnings: bool = False,
    expect: str | None = None,
    trust_triggers: bool = False,
    limits: "Limits | Mapping[str, int | str] | None" = None,
    wait: int | None = None,
    append: bool = False,
    again: bool = False,
    create: bool = False,
    like: str | None = None,
    base: str | None = None,
    prefer: Literal["sheet", "table"] | None = None,
    from_start: bool = False,
    progress: Tell | None = None,
) -> "Receipt":
    """Load the incoming rows, in one transaction that is proved before it is committed.

    Takes what `preview` takes. Rejected rows go to `rejects`, or to a new file in the current
    folder that the receipt names; with False to no file. Raises what `preview` raises; Stopped when `expect` is not the
    fingerprint of the changes, when there are warnings and `accept_warnings` is false, or when
    `strict` and a row was rejected; ProofFailed when the run does not add up. Then nothing was written.
    Stopped also when a limit is exceeded: a `Limits` wins over the job's as a whole, single ones one by one, and where
    neither says anything the usual ones hold. With `trust_triggers`, differences that the target's own triggers make
    are noted in the receipt instead, which is then not `verified`. Where others change the same records meanwhile, it
    starts again for `wait` seconds (else as the settings say). With `append`, every row is a new record, and none is
    looked for. Rows that may count only once, and those appended before, are loaded `again` only if that is true. With
    `create` the target is not there yet and is made, with `key` as its key, or `like` another table of its database.
    """
    from tidymerge.run import load as loading
    from tidymerge.run.views import write_views

    read = {
        "delimiter": delimiter,
        "quote": quote,
        "encoding": encoding,
        "cells": cells,
        "query": query,
        "format": format,
    }
    over: dict[str, Any] = {
        "into": into, "key": key, "columns": columns, "only": only, "add": add, "header_row": header_row,
        "take_rows": rows, "skip_when": skip_when, "limits": limits_of(limits), "strict": strict,
        "trust_triggers": trust_triggers, "append": append, "again": again, "create": create, "like": like,
        "base": base, "prefer": prefer, "from_start": from_start,
    }  # fmt: skip
    files = outputs(rejects, conflicts=conflicts, marked=marked, page=page, chart=chart, summary=summary)
    with _job(job, incoming, read, **over) as asked:
        receipt = loading.load(
            asked,
            accept_warnings=accept_warnings,
            expect=expect,
            outputs=files,
            wait_seconds=wait,
            progress=told(progress),
        )
    write_views(receipt, None, files)
    return done(receipt)


def extract(
    target: Place,
    out: Place,
    *,
    where: str | None = None,
    query: str | None = None,
    only: str | Sequence[str] = (),
    order: str | Sequence[str] = (),
    key: str | Sequence[str] = (),
    carry_base: bool = False,
    mark_rows: bool = False,
    progress: Tell | None = None,
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
    return take_out(asked, told(progress)).run


def read_job(path: Place) -> "Job | TablesJob":
    """The job of a job file, to be looked at or changed and given to `load`. Raises BadJob and NoSuchFile."""
    from tidymerge.job.reading import read_job as read

    return read(Path(path))


@contextmanager
def _job(
    job: "Place | Job | TablesJob | None",
    incoming: Incoming | None,
    read: Mapping[str, str | None],
    *,
    into: Place | None,
    columns: Mapping[str, str] | None,
    key: str | Sequence[str],
    only: str | Sequence[str],
    add: bool | str | Sequence[str],
    **more: Any,
) -> "Iterator[Job | TablesJob]":
    """The job asked for: that of the file or object, with what is given in addition, which wins; while it runs."""
    from tidymerge.job.model import Job
    from tidymerge.job.over import Given, job_with
    from tidymerge.job.tables import TablesJob
    from tidymerge.model import ReadOptions

    with given(incoming, read["format"]) as held:
        over = Given(
            incoming=held.addresses,
            called=held.called,
            target=None if into is None else fspath(into),
            key=names(key),
            renames=columns or {},
            only=names(only),
            add=add if isinstance(add, bool) else names(add),
            read=ReadOptions(**{name: value for name, value in read.items() if not (held.called and name == "format")}),  # type: ignore[arg-type]
            **more,
        )
        asked = job_with(job if isinstance(job, Job | TablesJob) or job is None else Path(job), over)
        if isinstance(asked, Job) and asked.incoming and not asked.target:
            from tidymerge.history.folder import FolderLog
            from tidymerge.run.come_back import brought_back

            asked = brought_back(asked, FolderLog())
        if isinstance(asked, Job) and not (asked.incoming and asked.target):
            raise BadOption("Say which rows to load (incoming) and which table to load into (into), or give a job.")
        yield asked

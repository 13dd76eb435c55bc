"""Loading rows from Python, seeing before what it would do, and taking rows out."""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from os import fspath
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

from tidymerge.api.given import Incoming, given
from tidymerge.api.options import LoadOptions, Names, Place, Tell, checked, read_options
from tidymerge.api.shared import after_commit, done, limits_of, names, outputs, told
from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.job.model import Job
    from tidymerge.job.tables import TablesJob
    from tidymerge.model.receipt import Receipt

_FILES = ("rejects", "conflicts", "marked", "page", "chart", "summary")


def preview(
    incoming: Incoming | None = None,
    into: Place | None = None,
    *,
    job: "Place | Job | TablesJob | None" = None,
    sql: Place | None = None,
    **options: Unpack[LoadOptions],
) -> "Receipt":
    """Decide what a load would do, and write nothing to the target.

    `incoming` is an address (`week32.xlsx#Inspections`), a list of them, an open file (text of the `format`, or what
    its name says), or a table: of pandas, polars, pyarrow, or whatever gives an Arrow stream. `into` is an address, as
    in `coop.db#hives`. `job` is a job file, or a `Job`, over which the other arguments win; it may give `incoming` and
    `into` too. Of a job of several tables (a `TablesJob`), they are another file and another database. The options are
    in `LoadOptions`. Files are written where they are named; `sql` gets the changes as SQL, to be read. Rows that were
    taken out by `extract` come back: a file that says so needs no `into`. Raises UsageError, SourceError or
    TargetError.
    """
    from tidymerge.run import load as loading
    from tidymerge.run.views import ROWS_ON_PAGE, write_views

    said = checked("preview", options, LoadOptions)
    files = outputs(sql=sql, **{name: said.get(name) for name in _FILES})
    with _job(job, incoming, into, said) as asked:
        most = 0 if files.page is None else ROWS_ON_PAGE
        receipt, touched = loading.preview_in_full(asked, most, outputs=files, progress=told(said.get("progress")))
    write_views(receipt, touched, files)
    return done(receipt)


def load(
    incoming: Incoming | None = None,
    into: Place | None = None,
    *,
    job: "Place | Job | TablesJob | None" = None,
    expect: str | None = None,
    accept_warnings: bool = False,
    strict: bool = False,
    trust_triggers: bool = False,
    wait: int | None = None,
    **options: Unpack[LoadOptions],
) -> "Receipt":
    """Load the incoming rows, in one transaction that is proved before it is committed.

    Takes what `preview` takes. Rejected rows go to `rejects`, or to a new file in the current folder that the receipt
    names. Raises what `preview` raises; Stopped when `expect` is not the fingerprint of the changes, when there are
    warnings and `accept_warnings` is false, when `strict` and a row was rejected, or when a limit is exceeded; and
    ProofFailed when the run does not add up. Then nothing was written. A `Limits` wins over the job's as a whole,
    single ones one by one; else the usual ones hold. With `trust_triggers`, differences that the target's own triggers
    make are noted in the receipt, which is then not `verified`. Where others change the same records meanwhile, it
    starts again for `wait` seconds (else as the settings say).
    """
    from tidymerge.run import load as loading

    said = checked("load", options, LoadOptions)
    files = outputs(**{name: said.get(name) for name in _FILES})
    over = {"strict": strict, "trust_triggers": trust_triggers}
    with _job(job, incoming, into, said, **over) as asked:
        receipt = loading.load(
            asked, accept_warnings=accept_warnings, expect=expect, outputs=files, wait_seconds=wait,
            progress=told(said.get("progress")),
        )  # fmt: skip
    return done(after_commit(receipt, files))


def extract(
    target: Place,
    out: Place,
    *,
    where: str | None = None,
    query: str | None = None,
    only: Names = (),
    order: Names = (),
    key: Names = (),
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
    into: Place | None,
    said: Mapping[str, Any],
    **over: Any,
) -> "Iterator[Job | TablesJob]":
    """The job asked for: that of the file or object, with what is given in addition, which wins; while it runs."""
    from msgspec.structs import replace

    from tidymerge.job.model import Job
    from tidymerge.job.over import Given, job_with
    from tidymerge.job.tables import TablesJob

    alike = ("header_row", "skip_when", "append", "again", "create", "like", "base", "prefer", "from_start")
    add, read = said.get("add", False), read_options(said)
    with given(incoming, read) as held:
        asked = job_with(
            job if isinstance(job, Job | TablesJob) or job is None else Path(job),
            Given(
                incoming=held.addresses,
                called=held.called,
                target=None if into is None else fspath(into),
                key=names(said.get("key", ())),
                renames=said.get("columns") or {},
                only=names(said.get("only", ())),
                add=add if isinstance(add, bool) else names(add),
                take_rows=said.get("rows"),
                read=replace(read, format=None) if held.called else read,  # which the copy's own name says
                limits=limits_of(said.get("limits")),
                **{name: said[name] for name in alike if name in said},
                **over,
            ),
        )
        if isinstance(asked, Job) and asked.incoming and not asked.target:
            from tidymerge.history.folder import FolderLog
            from tidymerge.run.come_back import brought_back

            asked = brought_back(asked, FolderLog())
        if isinstance(asked, Job) and not (asked.incoming and asked.target):
            raise BadOption("Say which rows to load (incoming) and which table to load into (into), or give a job.")
        yield asked

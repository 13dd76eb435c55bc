"""Load incoming rows into existing tables: matched by key, every row accounted for.

    import tidymerge
    receipt = tidymerge.preview("week32.xlsx#Inspections", into="coop.db#hives")
    receipt = tidymerge.load("week32.xlsx#Inspections", into="coop.db#hives", expect=receipt.fingerprint)
    tidymerge.undo(receipt.run)
    tidymerge.change("coop.db#hives", {"honey_kg": "honey_kg * 1.05"}, where="apiary_code = '101'")

All return a `Receipt` and print nothing; all raise a `TidyMergeError` when they can't do their work.
"""

from collections.abc import Mapping, Sequence
from os import PathLike, fspath
from typing import TYPE_CHECKING, Any, Literal

from tidymerge.errors import ProofFailed, SourceError, Stopped, TargetError, TidyMergeError, UsageError

if TYPE_CHECKING:
    from tidymerge.job.model import Change, Job, Removal
    from tidymerge.job.tables import TablesJob
    from tidymerge.model.receipt import Receipt
    from tidymerge.model.rules import Limits, Most
    from tidymerge.run.outputs import Outputs
    from tidymerge.run.task import Task

__all__ = [
    "Change",
    "Job",
    "Limits",
    "Most",
    "ProofFailed",
    "Receipt",
    "Removal",
    "SourceError",
    "Stopped",
    "TablesJob",
    "TargetError",
    "TidyMergeError",
    "UsageError",
    "__version__",
    "change",
    "load",
    "preview",
    "remove",
    "undo",
]
__version__ = "0.1.0"


def __getattr__(name: str) -> object:
    """Import the records when they are asked for: importing the package must stay quick."""
    if name in ("Job", "Change", "Removal"):
        from tidymerge.job import model

        return getattr(model, name)
    if name == "TablesJob":
        from tidymerge.job.tables import TablesJob

        return TablesJob
    if name == "Receipt":
        from tidymerge.model.receipt import Receipt

        return Receipt
    if name in ("Limits", "Most"):
        from tidymerge.model import rules

        return getattr(rules, name)
    raise AttributeError(f"module 'tidymerge' has no attribute {name!r}")


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
) -> "Receipt":
    """Decide what a load would do, and write nothing to the target.

    `incoming` and `into` are addresses (`week32.xlsx#Inspections`, `coop.db#hives`). `job` is a job file,
    or a `Job`, over which the other arguments win; it may give `incoming` and `into` too. Of a job of several
    tables (a `TablesJob`), they are another file and another database. `key` names the
    target columns that find a record and defaults to the primary key; `columns` maps target column
    to incoming column where the names differ; `only` limits the target columns loaded; `add` names incoming
    columns that the target lacks and is to get (True: all). `header_row` counts from 1. With `rejects`, the
    rejected rows are written to that file as CSV. `append`, `again`, `create` and `like` are as in `load`. Raises
    UsageError, SourceError or TargetError.
    """
    from tidymerge.run import load as loading

    read = (delimiter, quote, encoding)
    asked = _job(
        job,
        incoming,
        into,
        key,
        columns,
        only,
        add,
        header_row,
        read,
        append=append,
        again=again,
        create=create,
        like=like,
    )
    return loading.preview(asked, outputs=_outputs(rejects))


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

    read = (delimiter, quote, encoding)
    over: dict[str, Any] = {
        "limits": limits or {}, "strict": strict, "trust_triggers": trust_triggers, "append": append,
        "again": again, "create": create, "like": like,
    }  # fmt: skip
    asked = _job(job, incoming, into, key, columns, only, add, header_row, read, **over)
    return loading.load(
        asked, accept_warnings=accept_warnings, expect=expect, outputs=_outputs(rejects), wait_seconds=wait
    )


def change(
    target: str | PathLike[str] | None = None,
    sets: Mapping[str, str] | None = None,
    *,
    drop: str | Sequence[str] = (),
    job: "str | PathLike[str] | Change | None" = None,
    where: str | None = None,
    every_record: bool = False,
    key: str | Sequence[str] = (),
    preview: bool = False,
    rejects: str | PathLike[str] | None = None,
    strict: bool = False,
    expect: str | None = None,
    trust_triggers: bool = False,
    limits: "Limits | None" = None,
    wait: int | None = None,
) -> "Receipt":
    """Set columns of the records that meet a condition, in one transaction that is proved before it is committed.

    In place of that, `drop` are columns to take away with all of their values, unless anything needs them (Stopped).
    `sets` maps columns to expressions over the record's own columns, all worked out from the values before. `where` is
    the condition; without one, `every_record` must be true. `job` is a job file with [change], or a `Change`, over
    which the other arguments win. `key` are the columns that name a record, and default to a key of the table. With
    `preview` nothing is written. The receipt's `read` are the records that meet the condition: `updated`, `unchanged`
    or `rejected`, with reasons; rejected ones go to the CSV file `rejects`. Raises UsageError, TargetError,
    ProofFailed; Stopped without a condition, at a limit (more than half of the table), when `expect` is not the
    fingerprint of the changes, or when `strict` and a record was rejected.
    """
    from msgspec.structs import asdict

    from tidymerge.model.rules import ColumnRule
    from tidymerge.run.change import change_task

    asked = _change(job).given(
        None if target is None else fspath(target),
        {name: ColumnRule(compute=text) for name, text in (sets or {}).items()},
        where,
        _names(key),
        asdict(limits) if limits else {},
        drop=_names(drop),
        every_record=every_record,
        strict=strict,
        trust_triggers=trust_triggers,
    )
    return _carried_out(change_task(asked), _outputs(rejects), preview=preview, expect=expect, wait=wait)


def remove(
    target: str | PathLike[str] | None = None,
    *,
    job: "str | PathLike[str] | Removal | None" = None,
    where: str | None = None,
    keys: str | PathLike[str] | None = None,
    with_referring: bool = False,
    archive: str | Mapping[str, str] | None = None,
    create: bool = False,
    stamps: str | Sequence[str] = (),
    every_record: bool = False,
    key: str | Sequence[str] = (),
    preview: bool = False,
    rejects: str | PathLike[str] | None = None,
    expect: str | None = None,
    trust_triggers: bool = False,
    limits: "Limits | None" = None,
    wait: int | None = None,
) -> "Receipt":
    """Remove the records that meet a condition, in one transaction that is proved before it is committed.

    `keys` is the address of rows that name the records by their key, in place of a condition; only their keys count.
    What is `removed` is kept whole in the log, and `undo` brings it back. Where other records refer to some of them,
    nothing is removed, and Stopped is raised with a receipt that lists them; or all of that goes `with_referring`, with
    counts in the receipt's `tables`. `archive` is the table or new file to which the records are copied first, or those
    of several tables, by name; with `create` they are made, and their columns `stamps` get the time of the run.
    Stopped is raised, too, without a condition and `every_record`, and where more than a tenth of the table would go
    and `limits` don't say otherwise. `job` is a job file with [remove], or a `Removal`. The rest is as in `change`.
    """
    from msgspec.structs import asdict

    from tidymerge.run.remove import removal_task

    asked = _removal(job).given(
        None if target is None else fspath(target),
        where,
        _names(key),
        asdict(limits) if limits else {},
        every_record=every_record,
        trust_triggers=trust_triggers,
        keys=None if keys is None else fspath(keys),
        with_referring=with_referring,
        archive={"": archive} if isinstance(archive, str) else archive,
        create=create,
        stamps=_names(stamps),
    )
    if keys is not None:
        files = _outputs(rejects or False)
        return _removed_by_rows(asked.by_rows(), files, preview=preview, expect=expect, wait=wait)
    return _carried_out(removal_task(asked), _outputs(rejects), preview=preview, expect=expect, wait=wait)


def _removed_by_rows(job: "Job", files: "Outputs", *, preview: bool, expect: str | None, wait: int | None) -> "Receipt":
    """A removal whose records are named by rows: it goes the way of a load."""
    from tidymerge.run import load as loading

    if preview:
        return loading.preview(job, outputs=files)
    return loading.load(job, accept_warnings=True, expect=expect, outputs=files, wait_seconds=wait)


def _carried_out(task: "Task", files: "Outputs", *, preview: bool, expect: str | None, wait: int | None) -> "Receipt":
    """A task, done or only previewed."""
    from tidymerge.run.task import perform_task, preview_task

    if preview:
        return preview_task(task, outputs=files)[0]
    return perform_task(task, expect=expect, outputs=files, wait_seconds=wait)


def _names(given: str | Sequence[str]) -> tuple[str, ...]:
    """One name, or several."""
    return (given,) if isinstance(given, str) else tuple(given)


def undo(
    run: str,
    *,
    into: str | PathLike[str] | None = None,
    rest: bool = False,
    preview: bool = False,
    expect: str | None = None,
    conflicts: str | PathLike[str] | None = None,
    trust_triggers: bool = False,
) -> "Receipt":
    """Put back what a run changed, in one transaction, where the records still hold what the run wrote.

    `run` is a run's name (`Receipt.run`), or how it begins. Where records were changed since, or others refer to
    them, nothing is undone and Stopped is raised with a receipt that lists them in `conflicts`, unless the `rest` is to
    be undone. `into` is the target's address if it is not the one in the log; with `preview` nothing is
    written; records that can't be put back go to the CSV file `conflicts`. Raises UsageError for a run that is
    not there or wrote nothing, TargetError, ProofFailed.
    """
    from pathlib import Path

    from tidymerge.run import undo as undoing
    from tidymerge.run.outputs import Outputs

    at = None if into is None else fspath(into)
    outputs = Outputs(conflicts=None if conflicts is None else Path(conflicts))
    if preview:
        return undoing.preview_undo(run, into=at, outputs=outputs)
    return undoing.undo(run, into=at, rest=rest, expect=expect, outputs=outputs, trust_triggers=trust_triggers)


def _outputs(rejects: str | PathLike[str] | Literal[False] | None) -> "Outputs":
    from pathlib import Path

    from tidymerge.run.outputs import Outputs

    return Outputs(rejects=Path(rejects) if rejects else None, save_rejects=rejects is not False)


def _change(job: "str | PathLike[str] | Change | None") -> "Change":
    """The change of a file or object, or one that says nothing yet."""
    from pathlib import Path

    from tidymerge.job.model import Change

    if job is None or isinstance(job, Change):
        return job or Change("", {})
    from tidymerge.job.reading import read_change

    return read_change(Path(job))


def _removal(job: "str | PathLike[str] | Removal | None") -> "Removal":
    """The removal of a file or object, or one that says nothing yet."""
    from pathlib import Path

    from tidymerge.job.model import Removal

    if job is None or isinstance(job, Removal):
        return job or Removal("")
    from tidymerge.job.reading import read_removal

    return read_removal(Path(job))


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
    from pathlib import Path

    from tidymerge.errors import BadOption
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
    if isinstance(asked, Job) and not (asked.incoming and asked.target):
        raise BadOption("Say which rows to load (incoming) and which table to load into (into), or give a job.")
    return asked

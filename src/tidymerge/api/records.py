"""Changing and removing records from Python, and taking a run back."""

from collections.abc import Mapping, Sequence
from os import PathLike, fspath
from pathlib import Path
from typing import TYPE_CHECKING

from tidymerge.api.shared import names, outputs

if TYPE_CHECKING:
    from tidymerge.job.model import Change, Job, Removal
    from tidymerge.model.receipt import Receipt
    from tidymerge.model.rules import Limits
    from tidymerge.run.outputs import Outputs
    from tidymerge.run.task import Task


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
        names(key),
        asdict(limits) if limits else {},
        drop=names(drop),
        every_record=every_record,
        strict=strict,
        trust_triggers=trust_triggers,
    )
    return _carried_out(change_task(asked), outputs(rejects), preview=preview, expect=expect, wait=wait)


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
        names(key),
        asdict(limits) if limits else {},
        every_record=every_record,
        trust_triggers=trust_triggers,
        keys=None if keys is None else fspath(keys),
        with_referring=with_referring,
        archive={"": archive} if isinstance(archive, str) else archive,
        create=create,
        stamps=names(stamps),
    )
    if keys is not None:
        files = outputs(rejects or False)
        return _removed_by_rows(asked.by_rows(), files, preview=preview, expect=expect, wait=wait)
    return _carried_out(removal_task(asked), outputs(rejects), preview=preview, expect=expect, wait=wait)


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
    from tidymerge.run import undo as undoing
    from tidymerge.run.outputs import Outputs

    at = None if into is None else fspath(into)
    outputs = Outputs(conflicts=None if conflicts is None else Path(conflicts))
    if preview:
        return undoing.preview_undo(run, into=at, outputs=outputs)
    return undoing.undo(run, into=at, rest=rest, expect=expect, outputs=outputs, trust_triggers=trust_triggers)


def _change(job: "str | PathLike[str] | Change | None") -> "Change":
    """The change of a file or object, or one that says nothing yet."""
    from tidymerge.job.model import Change

    if job is None or isinstance(job, Change):
        return job or Change("", {})
    from tidymerge.job.reading import read_change

    return read_change(Path(job))


def _removal(job: "str | PathLike[str] | Removal | None") -> "Removal":
    """The removal of a file or object, or one that says nothing yet."""
    from tidymerge.job.model import Removal

    if job is None or isinstance(job, Removal):
        return job or Removal("")
    from tidymerge.job.reading import read_removal

    return read_removal(Path(job))

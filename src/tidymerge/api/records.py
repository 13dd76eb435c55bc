"""Changing and removing records from Python, and taking a run back."""

from collections.abc import Callable, Mapping
from os import fspath
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

from tidymerge.api.options import Names, Place, Views, checked
from tidymerge.api.shared import after_commit, done, limits_of, names, outputs, told

if TYPE_CHECKING:
    from tidymerge.job.model import Change, Job, Removal
    from tidymerge.model.receipt import Receipt, Touch
    from tidymerge.model.rules import Limits, Most
    from tidymerge.ports.progress import Progress
    from tidymerge.run.outputs import Outputs
    from tidymerge.run.task import Task


def change(
    target: Place | None = None,
    sets: Mapping[str, str] | None = None,
    *,
    drop: Names = (),
    job: "Place | Change | None" = None,
    where: str | None = None,
    every_record: bool = False,
    key: Names = (),
    preview: bool = False,
    rejects: Place | None = None,
    strict: bool = False,
    expect: str | None = None,
    trust_triggers: bool = False,
    limits: "Limits | Mapping[str, int | str | Most] | None" = None,
    wait: int | None = None,
    **views: Unpack[Views],
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
    from tidymerge.model.rules import ColumnRule
    from tidymerge.run.change import change_task

    files, progress = _shown_as("change", views, rejects=rejects)
    asked = _change(job).given(
        None if target is None else fspath(target),
        {name: ColumnRule(compute=text) for name, text in (sets or {}).items()},
        where,
        names(key),
        _limits(limits),
        drop=names(drop),
        every_record=every_record,
        strict=strict,
        trust_triggers=trust_triggers,
    )
    return _carried_out(change_task(asked), files, progress, preview=preview, expect=expect, wait=wait)


def remove(
    target: Place | None = None,
    *,
    job: "Place | Removal | None" = None,
    where: str | None = None,
    keys: Place | None = None,
    with_referring: bool = False,
    archive: str | Mapping[str, str] | None = None,
    create: bool = False,
    stamps: Names = (),
    every_record: bool = False,
    key: Names = (),
    preview: bool = False,
    rejects: Place | None = None,
    expect: str | None = None,
    trust_triggers: bool = False,
    limits: "Limits | Mapping[str, int | str | Most] | None" = None,
    wait: int | None = None,
    **views: Unpack[Views],
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
    from tidymerge.run.remove import removal_task

    files, progress = _shown_as("remove", views, rejects=rejects)
    asked = _removal(job).given(
        None if target is None else fspath(target),
        where,
        names(key),
        _limits(limits),
        every_record=every_record,
        trust_triggers=trust_triggers,
        keys=None if keys is None else fspath(keys),
        with_referring=with_referring,
        archive={"": archive} if isinstance(archive, str) else archive,
        create=create,
        stamps=names(stamps),
    )
    if asked.keys is None:
        return _carried_out(removal_task(asked), files, progress, preview=preview, expect=expect, wait=wait)
    return _removed_by_rows(asked.by_rows(), files, progress, preview=preview, expect=expect, wait=wait)


def _removed_by_rows(
    job: "Job", files: "Outputs", progress: "Progress", *, preview: bool, expect: str | None, wait: int | None
) -> "Receipt":
    """A removal whose records are named by rows: it goes the way of a load, which would write rejects unasked."""
    from msgspec.structs import replace

    from tidymerge.run import load as loading

    files = replace(files, save_rejects=files.rejects is not None)
    return _shown(
        lambda most: loading.preview_in_full(job, most, outputs=files, progress=progress),
        lambda: loading.load(
            job, accept_warnings=True, expect=expect, outputs=files, wait_seconds=wait, progress=progress
        ),
        files,
        preview=preview,
    )


def _carried_out(
    task: "Task", files: "Outputs", progress: "Progress", *, preview: bool, expect: str | None, wait: int | None
) -> "Receipt":
    """A task, done or only previewed."""
    from tidymerge.run.task import perform_task, preview_task

    return _shown(
        lambda most: preview_task(task, most, outputs=files, progress=progress),
        lambda: perform_task(task, expect=expect, outputs=files, wait_seconds=wait, progress=progress),
        files,
        preview=preview,
    )


def _shown(
    look: "Callable[[int], tuple[Receipt, list[Touch]]]",
    act: "Callable[[], Receipt]",
    files: "Outputs",
    *,
    preview: bool,
) -> "Receipt":
    """What was done, or would be, with its page and its chart."""
    from tidymerge.run.views import ROWS_ON_PAGE, write_views

    if not preview:
        return done(after_commit(act(), files))
    receipt, touched = look(0 if files.page is None else ROWS_ON_PAGE)
    write_views(receipt, touched, files)
    return done(receipt)


def _shown_as(
    function: str, views: Views, rejects: Place | None = None, conflicts: Place | None = None
) -> "tuple[Outputs, Progress]":
    """The files that are written beside the target, and who is told of the progress."""
    said = checked(function, views, Views)
    progress = said.pop("progress", None)
    return outputs(rejects, conflicts=conflicts, **said), told(progress)


def _limits(given: "Limits | Mapping[str, int | str | Most] | None") -> dict[str, Any]:
    """Limits by name: all of a `Limits`, or single ones."""
    from msgspec.structs import asdict

    from tidymerge.model.rules import Limits

    found = limits_of(given)
    return asdict(found) if isinstance(found, Limits) else found


def undo(
    run: str,
    *,
    into: Place | None = None,
    rest: bool = False,
    preview: bool = False,
    expect: str | None = None,
    conflicts: Place | None = None,
    trust_triggers: bool = False,
    wait: int | None = None,
    **views: Unpack[Views],
) -> "Receipt":
    """Put back what a run changed, in one transaction, where the records still hold what the run wrote.

    `run` is a run's name (`Receipt.run`), or how it begins. Where records were changed since, or others refer to
    them, nothing is undone and Stopped is raised with a receipt that lists them in `conflicts`, unless the `rest` is to
    be undone. `into` is the target's address if it is not the one in the log; with `preview` nothing is
    written; records that can't be put back go to the CSV file `conflicts`. Raises UsageError for a run that is
    not there or wrote nothing, TargetError, ProofFailed.
    """
    from tidymerge.run import undo as undoing

    at = None if into is None else fspath(into)
    files, telling = _shown_as("undo", views, conflicts=conflicts)
    return _shown(
        lambda most: undoing.preview_undo_in_full(run, most, into=at, outputs=files, progress=telling),
        lambda: undoing.undo(
            run, into=at, rest=rest, expect=expect, outputs=files, trust_triggers=trust_triggers, wait_seconds=wait,
            progress=telling,
        ),
        files,
        preview=preview,
    )  # fmt: skip


def _change(job: "Place | Change | None") -> "Change":
    """The change of a file or object, or one that says nothing yet."""
    from tidymerge.job.model import Change

    if job is None or isinstance(job, Change):
        return job or Change("", {})
    from tidymerge.job.reading import read_change

    return read_change(Path(job))


def _removal(job: "Place | Removal | None") -> "Removal":
    """The removal of a file or object, or one that says nothing yet."""
    from tidymerge.job.model import Removal

    if job is None or isinstance(job, Removal):
        return job or Removal("")
    from tidymerge.job.reading import read_removal

    return read_removal(Path(job))

"""`tidymerge change`: set columns of records that are there."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from tidymerge.cli.options import records
from tidymerge.cli.options import shared as options
from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.job.model import Change
    from tidymerge.model.rules import ColumnRule


def change(
    target: records.Target = None,
    job: records.JobPath = None,
    sets: records.Sets = None,
    drop_column: records.DropColumn = None,
    where: records.Where = None,
    every_record: records.EveryRecord = False,
    key: records.Key = None,
    preview: records.Preview = False,
    most_updated: records.MostUpdated = None,
    most_rejected: records.MostRejected = None,
    expect_updated: records.ExpectUpdated = None,
    rejects: records.Rejects = None,
    strict: records.Strict = False,
    yes: records.Yes = False,
    expect: options.Expect = None,
    trust_triggers: options.TrustTriggers = False,
    wait: options.Wait = None,
    page: options.Page = None,
    chart: options.Chart = None,
    summary: options.Summary = None,
    quiet: options.Quiet = False,
    json: options.AsJson = False,
) -> None:
    """Set columns of the records that meet a condition, or take columns away: all or nothing, with counts and undo."""
    from tidymerge.cli.screen import output
    from tidymerge.run.change import change_task
    from tidymerge.run.task import perform_task, preview_task

    out = output.console(json_wanted=json, quiet=quiet)
    with output.json_failures(json_wanted=json):
        files = options.outputs(rejects=rejects, page=page, chart=chart, summary=summary)
        limits = options.limits(updated=most_updated, rejected=most_rejected, expect_updated=expect_updated)
        asked = _job(job).given(
            target, _columns(sets or ()), where, tuple(key or ()), limits, drop=tuple(drop_column or ()),
            every_record=every_record, strict=strict, trust_triggers=trust_triggers,
        )  # fmt: skip
        files.check(target=asked.target)
    task = change_task(asked)
    output.perform(
        out,
        output.Wish(preview, yes, expect, json),
        files,
        lambda most, outputs, progress: preview_task(task, most, outputs=outputs, progress=progress),
        lambda expected, progress: perform_task(
            task, expect=expected, outputs=files, wait_seconds=wait, progress=progress, shield=output.uninterrupted
        ),
    )


def _job(path: str | None) -> "Change":
    """The change of the job file, or one that says nothing yet. Raises UsageError."""
    from tidymerge.job.model import Change

    if path is None:
        return Change("", {})
    from tidymerge.job.reading import read_change

    return read_change(Path(path))


def _columns(sets: Sequence[str]) -> "dict[str, ColumnRule]":
    """The columns to set, by name, each with its expression."""
    from tidymerge.model.rules import ColumnRule

    columns: dict[str, ColumnRule] = {}
    for given in sets:
        name, equals, expression = given.partition("=")
        if not (name.strip() and equals and expression.strip()):
            raise BadOption(f"--set takes COLUMN=EXPRESSION, as in 'honey_kg = honey_kg * 1.05', not {given!r}.")
        if name.strip() in columns:
            raise BadOption(f"--set names the column {name.strip()!r} twice.")
        columns[name.strip()] = ColumnRule(compute=expression.strip())
    return columns

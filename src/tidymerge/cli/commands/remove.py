"""`tidymerge remove`: take records out of a table."""

from pathlib import Path
from typing import TYPE_CHECKING

from tidymerge.cli.options import records
from tidymerge.cli.options import shared as options

if TYPE_CHECKING:
    from tidymerge.job.model import Removal


def remove(
    target: records.Target = None,
    job: records.RemovalJob = None,
    where: records.Where = None,
    every_record: records.EveryRecord = False,
    key: records.Key = None,
    preview: records.Preview = False,
    most_removed: records.MostRemoved = None,
    expect_removed: records.ExpectRemoved = None,
    rejects: records.Rejects = None,
    yes: records.Yes = False,
    expect: options.Expect = None,
    trust_triggers: options.TrustTriggers = False,
    wait: options.Wait = None,
    page: options.Page = None,
    chart: options.Chart = None,
    json: options.AsJson = False,
) -> None:
    """Remove the records that meet a condition, all or nothing. What refers to them is found first and stops it."""
    from tidymerge.cli.screen import output
    from tidymerge.run.remove import removal_task
    from tidymerge.run.task import perform_task, preview_task

    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        files = options.outputs(rejects=rejects, page=page, chart=chart)
        limits = options.limits(removed=most_removed, expect_removed=expect_removed)
        asked = _job(job).given(
            target, where, tuple(key or ()), limits, every_record=every_record, trust_triggers=trust_triggers
        )
    task = removal_task(asked)
    output.perform(
        out,
        output.Wish(preview, yes, expect, json),
        files,
        lambda most, outputs, progress: preview_task(task, most, outputs=outputs, progress=progress),
        lambda expected, progress: perform_task(
            task, expect=expected, outputs=files, wait_seconds=wait, progress=progress, shield=output.uninterrupted
        ),
    )


def _job(path: str | None) -> "Removal":
    """The removal of the job file, or one that says nothing yet. Raises UsageError."""
    from tidymerge.job.model import Removal

    if path is None:
        return Removal("")
    from tidymerge.job.reading import read_removal

    return read_removal(Path(path))

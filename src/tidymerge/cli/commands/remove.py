"""`tidymerge remove`: take records out of a table."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from tidymerge.cli.options import records
from tidymerge.cli.options import shared as options
from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.cli.screen.output import Act, Look, Wish
    from tidymerge.job.model import Removal
    from tidymerge.run.outputs import Outputs


def remove(
    target: records.Target = None,
    job: records.RemovalJob = None,
    where: records.Where = None,
    keys: records.Keys = None,
    with_referring: records.WithReferring = False,
    archive: records.Archive = None,
    create: records.CreateArchive = False,
    stamp: records.Stamp = None,
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
    summary: options.Summary = None,
    quiet: options.Quiet = False,
    json: options.AsJson = False,
) -> None:
    """Remove the records that meet a condition, all or nothing. What refers to them stops it, or goes along."""
    from tidymerge.cli.screen import output

    out = output.console(json_wanted=json, quiet=quiet)
    wish = output.Wish(preview, yes, expect, json)
    with output.json_failures(json_wanted=json):
        files = options.outputs(rejects=rejects, page=page, chart=chart, summary=summary)
        limits = options.limits(removed=most_removed, expect_removed=expect_removed)
        asked = _job(job).given(
            target, where, tuple(key or ()), limits, every_record=every_record, trust_triggers=trust_triggers,
            keys=keys, with_referring=with_referring, archive=_archives(archive or ()), create=create,
            stamps=tuple(stamp or ()),
        )  # fmt: skip
        files.check(target=asked.target, incoming=[keys] if keys else [], archives=list(asked.archive.values()))
    look, act = _by_condition(asked, files, wait) if keys is None else _by_keys(asked, files, wish, wait)
    output.perform(out, wish, files, look, act)


def _by_condition(asked: "Removal", files: "Outputs", wait: int | None) -> "tuple[Look, Act]":
    from tidymerge.cli.screen import output
    from tidymerge.run.remove import removal_task
    from tidymerge.run.task import perform_task, preview_task

    task = removal_task(asked)
    return (
        lambda most, outputs, progress: preview_task(task, most, outputs=outputs, progress=progress),
        lambda expected, progress: perform_task(
            task, expect=expected, outputs=files, wait_seconds=wait, progress=progress, shield=output.uninterrupted
        ),
    )


def _by_keys(asked: "Removal", files: "Outputs", wish: "Wish", wait: int | None) -> "tuple[Look, Act]":
    """The rows of a file name the records: then it goes the way of a load."""
    from tidymerge.cli.screen import output
    from tidymerge.run import load as loading

    job = asked.by_rows()
    return (
        lambda most, outputs, progress: loading.preview_in_full(job, most, outputs=outputs, progress=progress),
        lambda expected, progress: loading.load(
            job, accept_warnings=wish.yes or expected != wish.expect, expect=expected, outputs=files,
            wait_seconds=wait, progress=progress, shield=output.uninterrupted,
        ),
    )  # fmt: skip


def _archives(given: Sequence[str]) -> dict[str, str]:
    """The archives by the tables that they are for: TABLE is the target's, REFERRING=TABLE that of another one."""
    found: dict[str, str] = {}
    for text in given:
        table, _, name = text.rpartition("=")
        if not name.strip() or table.strip() in found:
            raise BadOption(f"--archive takes TABLE, or REFERRING=TABLE, once for each, not {text!r}.")
        found[table.strip()] = name.strip()
    return found


def _job(path: str | None) -> "Removal":
    """The removal of the job file, or one that says nothing yet. Raises UsageError."""
    from tidymerge.job.model import Removal

    if path is None:
        return Removal("")
    from tidymerge.job.reading import read_removal

    return read_removal(Path(path))

"""`tidymerge load`: write what a preview shows, after asking."""

import sys
from collections.abc import Callable
from typing import TYPE_CHECKING

from tidymerge.cli.options import shared as options
from tidymerge.cli.options.job import takes_job

if TYPE_CHECKING:
    from tidymerge.job.model import Job
    from tidymerge.job.tables import TablesJob


@takes_job
def load(
    job_of: "Callable[..., Job | TablesJob]",
    rejects: options.RejectsFile = None,
    no_rejects: options.NoRejects = False,
    conflicts: options.Clashes = None,
    marked: options.Marked = None,
    page: options.Page = None,
    chart: options.Chart = None,
    summary: options.Summary = None,
    strict: options.Strict = False,
    yes: options.Yes = False,
    expect: options.Expect = None,
    trust_triggers: options.TrustTriggers = False,
    wait: options.Wait = None,
    quiet: options.Quiet = False,
    json: options.AsJson = False,
) -> None:
    """Load the incoming rows, all or nothing, and account for every one."""
    from tidymerge.cli.screen import output
    from tidymerge.cli.screen.bars import Bars
    from tidymerge.job.tables import jobs_of
    from tidymerge.run import load as loading

    out = output.console(json_wanted=json, quiet=quiet)
    with output.json_failures(json_wanted=json):
        files = options.outputs(
            rejects=rejects,
            conflicts=conflicts,
            marked=marked,
            page=page,
            chart=chart,
            summary=summary,
            no_rejects=no_rejects,
        )
        job = job_of(strict=strict, trust_triggers=trust_triggers)
        asked = not yes and expect is None and job.incoming != ("-",) and out.is_terminal and sys.stdin.isatty()
        if asked:
            loading.check_outputs(jobs_of(job), files)
            expect = output.confirmed(out, lambda progress: loading.preview(job, progress=progress), json=json)
        with Bars(out, json=json) as progress, output.drawn_if_stopped(out, quiet=json or asked):
            receipt = loading.load(
                job, accept_warnings=yes or asked, expect=expect, outputs=files, wait_seconds=wait, progress=progress,
                shield=output.uninterrupted,
            )  # fmt: skip
    output.report(out, receipt, files, json=json)
    output.finish(receipt)

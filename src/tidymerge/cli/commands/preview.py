"""`tidymerge preview`: what a load would do."""

from collections.abc import Callable
from typing import TYPE_CHECKING

from tidymerge.cli.options import shared as options
from tidymerge.cli.options.job import takes_job

if TYPE_CHECKING:
    from tidymerge.job.model import Job
    from tidymerge.job.tables import TablesJob


@takes_job
def preview(
    job_of: "Callable[..., Job | TablesJob]",
    rejects: options.RejectsFile = None,
    conflicts: options.Clashes = None,
    marked: options.Marked = None,
    page: options.Page = None,
    chart: options.Chart = None,
    summary: options.Summary = None,
    sql: options.Script = None,
    json: options.AsJson = False,
) -> None:
    """Show what a load would do; nothing is written."""
    from tidymerge.cli.screen import output
    from tidymerge.cli.screen.bars import Bars
    from tidymerge.run import load as loading
    from tidymerge.run.views import ROWS_ON_PAGE, write_views

    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        files = options.outputs(
            rejects=rejects, conflicts=conflicts, marked=marked, page=page, chart=chart, summary=summary, sql=sql
        )
        job, most = job_of(), 0 if page is None else ROWS_ON_PAGE
        with Bars(out, json=json) as progress:
            receipt, touched = loading.preview_in_full(job, most, outputs=files, progress=progress)
        write_views(receipt, touched, files)
    output.show(out, receipt, json=json)
    output.finish(receipt)

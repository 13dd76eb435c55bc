"""`tidymerge load`: write what a preview shows, after asking."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from tidymerge.cli import options
from tidymerge.errors import Stopped

if TYPE_CHECKING:
    from rich.console import Console

    from tidymerge.job.model import Job
    from tidymerge.receipt import Receipt


def load(
    incoming: options.Incoming = None,
    job_file: options.JobPath = None,
    into: options.Into = None,
    key: options.Key = None,
    mapped: options.Map = None,
    only: options.Only = None,
    header_row: options.HeaderRow = None,
    rows: options.Rows = None,
    cells: options.Cells = None,
    query: options.Query = None,
    skip_when: options.SkipWhen = None,
    delimiter: options.Delimiter = None,
    quote: options.Quote = None,
    encoding: options.Encoding = None,
    rejects: options.RejectsFile = None,
    marked: options.Marked = None,
    page: options.Page = None,
    chart: options.Chart = None,
    most_updated: options.MostUpdated = None,
    most_inserted: options.MostInserted = None,
    most_rejected: options.MostRejected = None,
    fewest_rows: options.FewestRows = None,
    expect_updated: options.ExpectUpdated = None,
    expect_inserted: options.ExpectInserted = None,
    strict: options.Strict = False,
    yes: options.Yes = False,
    expect: options.Expect = None,
    trust_triggers: options.TrustTriggers = False,
    json: options.AsJson = False,
) -> None:
    """Load the incoming rows, all or nothing, and account for every one."""
    from tidymerge.cli import output

    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        output.check_views(page, chart, marked)
        read = options.read_options(delimiter, quote, encoding, cells, query)
        limits = options.make_limits(
            most_updated, most_inserted, most_rejected, fewest_rows, expect_updated, expect_inserted
        )
        job = options.make_job(
            job_file, incoming, into, key, mapped, only, header_row, rows, skip_when, read, limits,
            strict=strict, trust_triggers=trust_triggers,
        )  # fmt: skip
        asked = not yes and expect is None and job.incoming != ("-",) and out.is_terminal and sys.stdin.isatty()
        if asked:
            expect = _ask(out, job)
        files = (Path(rejects) if rejects else None, Path(marked) if marked else None)
        receipt = _load(out, job, files, expect, accepted=yes or asked, json=json)
    output.save_views(receipt, None, page, chart)
    output.show(out, receipt, json=json, details=False)
    output.finish(receipt)


def _load(
    out: "Console",
    job: "Job",
    files: "tuple[Path | None, Path | None]",
    expect: str | None,
    *,
    accepted: bool,
    json: bool,
) -> "Receipt":
    """Load, writing the rejects and the marked copy to `files`; if it is stopped, show what would have been done."""
    from tidymerge import flow
    from tidymerge.cli import draw, output
    from tidymerge.cli.bars import Bars

    with Bars(out, json=json) as progress:
        try:
            return flow.load(
                job,
                accept_warnings=accepted,
                expect=expect,
                rejects=files[0],
                marked=files[1],
                progress=progress,
                shield=output.uninterrupted,
            )
        except Stopped as stopped:
            if not json:
                draw.receipt(out, stopped.receipt)
            raise


def _ask(out: "Console", job: "Job") -> str:
    """Show the preview, ask, and return its fingerprint, so that the load does what was shown or stops."""
    from tidymerge import flow
    from tidymerge.cli import draw, output
    from tidymerge.cli.bars import Bars
    from tidymerge.core.caution import plural

    with Bars(out) as progress:
        receipt = flow.preview(job, progress=progress)
    draw.receipt(out, receipt)
    if receipt.limits:
        raise Stopped(f"Stopped by a limit; nothing was written. {' '.join(receipt.limits)}", receipt)
    changed = receipt.changed
    if not changed:
        out.print("There is nothing to load.")
        output.finish(receipt)
    if not typer.confirm(f"\nWrite {changed:,} {plural(changed, 'change', 'changes')}?", default=False):
        out.print("Nothing was written.")
        raise typer.Exit(4)
    return receipt.fingerprint

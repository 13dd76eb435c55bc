"""`tidymerge load`: write what a preview shows, after asking."""

import sys
from typing import TYPE_CHECKING

from tidymerge.cli import options

if TYPE_CHECKING:
    from rich.console import Console

    from tidymerge.job.model import Job


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
    from tidymerge import flow
    from tidymerge.cli import output
    from tidymerge.cli.bars import Bars

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
            expect = _ask(out, job, json=json)
        with Bars(out, json=json) as progress, output.drawn_if_stopped(out, quiet=json or asked):
            receipt = flow.load(
                job, accept_warnings=yes or asked, expect=expect, rejects=options.path(rejects),
                marked=options.path(marked), progress=progress, shield=output.uninterrupted,
            )  # fmt: skip
    output.show(out, receipt, json=json, details=False)
    output.try_views(receipt, page, chart)
    output.finish(receipt)


def _ask(out: "Console", job: "Job", *, json: bool) -> str:
    """Show the preview, ask, and return its fingerprint, so that the load does what was shown or stops."""
    from tidymerge import flow
    from tidymerge.cli import draw, output
    from tidymerge.cli.bars import Bars
    from tidymerge.core.caution import plural

    with Bars(out, json=json) as progress:
        receipt = flow.preview(job, progress=progress)
    draw.receipt(out, receipt)
    if receipt.limits:
        return receipt.fingerprint  # the load itself says why it stops
    if not receipt.changed and json:
        return receipt.fingerprint
    if not receipt.changed:
        out.print("There is nothing to load.")
        output.finish(receipt)
    output.ask(
        f"Write {receipt.changed:,} {plural(receipt.changed, 'change', 'changes')}?", "Nothing was written.", json=json
    )
    return receipt.fingerprint

"""`tidymerge remove`: take records out of a table."""

import sys

from tidymerge.cli.options import records
from tidymerge.cli.options import shared as options


def remove(
    target: records.TheTarget,
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
    from tidymerge.cli.screen.bars import Bars
    from tidymerge.job.model import Removal
    from tidymerge.model.rules import Limits
    from tidymerge.run.remove import preview_removal
    from tidymerge.run.remove import remove as carry_out

    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        files = options.outputs(rejects=rejects, page=page, chart=chart)
        limits = Limits(**options.limits(removed=most_removed, expect_removed=expect_removed))
        asked = Removal(target, where, every_record, tuple(key or ()), trust_triggers, limits)
        if preview:
            with Bars(out, json=json) as progress:
                most = 0 if page is None else output.ROWS_ON_PAGE
                receipt, touched = preview_removal(asked, most, outputs=files, progress=progress)
            output.write_views(receipt, touched, files)
        else:
            asks = not yes and expect is None and out.is_terminal and sys.stdin.isatty()
            if asks:
                expect = output.confirmed(out, lambda progress: preview_removal(asked, progress=progress)[0], json=json)
            with Bars(out, json=json) as progress, output.drawn_if_stopped(out, quiet=json or asks):
                receipt = carry_out(
                    asked, expect=expect, outputs=files, wait_seconds=wait, progress=progress,
                    shield=output.uninterrupted,
                )  # fmt: skip
    if preview:
        output.show(out, receipt, json=json)
    else:
        output.report(out, receipt, files, json=json)
    output.finish(receipt)

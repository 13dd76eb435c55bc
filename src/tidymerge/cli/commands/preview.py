"""`tidymerge preview`: what a load would do."""

from tidymerge.cli import options


def preview(
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
    json: options.AsJson = False,
) -> None:
    """Show what a load would do; nothing is written."""
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
        job = options.make_job(job_file, incoming, into, key, mapped, only, header_row, rows, skip_when, read, limits)
        with Bars(out, json=json) as progress:
            most = 0 if page is None else output.ROWS_ON_PAGE
            receipt, touched = flow.preview_in_full(
                job, most, rejects=options.path(rejects), marked=options.path(marked), progress=progress
            )
        output.write_views(receipt, touched, page, chart)
    output.show(out, receipt, json=json)
    output.finish(receipt)

"""`tidymerge preview`: what a load would do."""

from pathlib import Path

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
    json: options.AsJson = False,
) -> None:
    """Show what a load would do; nothing is written."""
    from tidymerge import flow
    from tidymerge.cli import draw, output

    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        read = options.read_options(delimiter, quote, encoding, cells, query)
        job = options.make_job(job_file, incoming, into, key, mapped, only, header_row, rows, skip_when, read)
        with output.StageLine(out) as progress:
            receipt = flow.preview(job, rejects=Path(rejects) if rejects else None, progress=progress)
    if json:
        output.print_json(receipt.to_dict())
    else:
        draw.receipt(out, receipt)
    output.finish(receipt)

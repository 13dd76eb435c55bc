"""`tidymerge preview`: what a load would do."""

from pathlib import Path
from typing import Annotated

import typer

from tidymerge.cli import options


def preview(
    incoming: Annotated[
        str,
        typer.Argument(
            metavar="INCOMING", help="The rows to load, as in week32.xlsx#Inspections; - reads CSV from standard input."
        ),
    ],
    into: options.Into,
    key: options.Key = None,
    mapped: options.Map = None,
    only: options.Only = None,
    header_row: options.HeaderRow = None,
    delimiter: options.Delimiter = None,
    quote: options.Quote = None,
    encoding: options.Encoding = None,
    rejects: options.RejectsFile = None,
    json: options.AsJson = False,
) -> None:
    """Show what a load would do; the target is opened read-only."""
    from tidymerge import flow
    from tidymerge.cli import draw, output

    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        read = options.read_options(delimiter, quote, encoding)
        job = options.make_job(incoming, into, key, mapped, only, header_row, read)
        with output.StageLine(out) as progress:
            receipt = flow.preview(job, rejects=Path(rejects) if rejects else None, progress=progress)
    if json:
        output.print_json(receipt.to_dict())
    else:
        draw.receipt(out, receipt)
    output.finish(receipt)

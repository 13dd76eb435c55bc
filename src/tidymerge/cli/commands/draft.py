"""`tidymerge draft`: a job file proposed from the rows and the table."""

from pathlib import Path
from typing import Annotated

import typer

from tidymerge.cli.options import shared as options


def draft(
    incoming: Annotated[str, typer.Argument(metavar="INCOMING", help="The rows, as in week32.xlsx#Inspections.")],
    into: Annotated[str, typer.Option("--into", metavar="TARGET", help="The table to load into, as in coop.db#hives.")],
    out: Annotated[
        str, typer.Option("--out", metavar="FILE", help="The job file to write, or to add to.")
    ] = "job.toml",
    header_row: options.HeaderRow = None,
    cells: options.Cells = None,
    delimiter: options.Delimiter = None,
    quote: options.Quote = None,
    encoding: options.Encoding = None,
    form: options.Format = None,
    json: options.AsJson = False,
) -> None:
    """Write a job file that matches the columns and settles what the rows settle; comments say what they don't.

    An existing file keeps what stands in it; only what is new is added.
    """
    from rich.text import Text

    from tidymerge.cli.screen import output
    from tidymerge.run.draft_file import drafted

    read = options.read_options(delimiter, quote, encoding, cells, form=form)
    with output.json_failures(json_wanted=json):
        found = drafted(incoming, into, Path(out), read, header_row)
    if json:
        output.print_json(found)
        return
    console = output.console()
    for line in found["notes"]:
        console.print(Text(line))
    console.print(Text(f"\nRead it, correct it, then see what it does: tidymerge preview --job {out}", "dim"))

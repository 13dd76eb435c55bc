"""`tidymerge draft`: a job file proposed from the rows and the table."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidymerge.cli.options import shared as options
from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.model import ReadOptions
    from tidymerge.run.draft import DraftForm


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

    read = options.read_options(delimiter, quote, encoding, cells, form=form)
    with output.json_failures(json_wanted=json):
        drafted = _drafted(incoming, into, Path(out), read, header_row)
    if json:
        output.print_json(drafted)
        return
    console = output.console()
    for line in drafted["notes"]:
        console.print(Text(line))
    console.print(Text(f"\nRead it, correct it, then see what it does: tidymerge preview --job {out}", "dim"))


def _drafted(incoming: str, into: str, path: Path, read: "ReadOptions", header_row: int | None) -> "DraftForm":
    """The job that was written, or found to say all of it. Raises what drafting it raises, and BadOption."""
    from tidymerge.job.reading import read_text
    from tidymerge.on_disk import replacing
    from tidymerge.run.draft import FORMAT, draft_job
    from tidymerge.run.draft_tables import draft_tables
    from tidymerge.run.outputs import Outputs
    from tidymerge.run.pair_tables import is_whole

    Outputs(draft=path).check(incoming=[incoming], target=into)
    before = read_text(path) if path.exists() else None
    if is_whole(incoming, into, sheets=True):
        if header_row is not None or read.cells is not None:
            raise BadOption("These are several sheets: the row of names, or a range, is said of one. Name it.")
        text, said = draft_tables(incoming, into, path, read)
    else:
        text, said = draft_job(incoming, into, path, before, read, header_row)
    if text != before:
        try:
            with replacing(path.resolve() if path.exists() else path) as new:
                new.write_text(text, encoding="utf-8")
        except OSError as error:
            raise BadOption(f"{path} can't be written: {error.strerror}.") from None
    return {"format": FORMAT, "file": str(path), "written": text != before, "job": text, "notes": list(said)}

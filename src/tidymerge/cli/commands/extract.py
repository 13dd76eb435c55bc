"""`tidymerge extract`: take rows out of a table, to be edited and brought back."""

from pathlib import Path
from typing import Annotated

import typer

from tidymerge.cli.options import shared as options

Target = Annotated[str, typer.Argument(metavar="TARGET", help="The table to take rows out of, as in coop.db#hives.")]
Out = Annotated[str, typer.Option("--out", metavar="FILE", help="The new file: .xlsx, .ods, .csv, .tsv or .parquet.")]
Where = Annotated[str | None, typer.Option("--where", metavar="CONDITION", help="Only records for which this is true.")]
Query = Annotated[
    str | None,
    typer.Option("--query", metavar="SQL", help="The records that the rows of this query name by their key."),
]
Only = Annotated[
    list[str] | None, typer.Option("--only", metavar="COLUMN", help="Only this column beside the key (repeatable).")
]
Order = Annotated[
    list[str] | None,
    typer.Option("--order", metavar="COLUMN", help="The order of the rows: COLUMN or 'COLUMN desc' (repeatable)."),
]
Key = Annotated[
    list[str] | None, typer.Option("--key", metavar="COLUMN", help="A column that names a record (repeatable).")
]
CarryBase = Annotated[
    bool, typer.Option("--carry-base", help="Keep what the rows are in the file, too: it can come back elsewhere.")
]
MarkRows = Annotated[
    bool, typer.Option("--mark-rows", help="Number the rows in CSV and Parquet, too, so that they are known again.")
]


def extract(
    target: Target,
    out: Out,
    where: Where = None,
    query: Query = None,
    only: Only = None,
    order: Order = None,
    key: Key = None,
    carry_base: CarryBase = False,
    mark_rows: MarkRows = False,
    quiet: options.Quiet = False,
    json: options.AsJson = False,
) -> None:
    """Take rows out into a file; a load brings back what was edited there, and leaves alone what others changed."""
    from rich.text import Text

    from tidymerge.cli.screen import output
    from tidymerge.cli.screen.bars import Bars
    from tidymerge.core.words import counted
    from tidymerge.run.extract import extract as take_out
    from tidymerge.run.taking import Extraction

    out_console = output.console(json_wanted=json, quiet=quiet)
    asked = Extraction(
        target, Path(out), where, query, tuple(only or ()), tuple(order or ()), tuple(key or ()), carry_base, mark_rows
    )
    with output.json_failures(json_wanted=json), Bars(out_console, json=json) as progress:
        done = take_out(asked, progress)
    if json:
        output.print_json(done.to_dict())
        return
    say = out_console.print
    say(Text(f"Took {counted(done.rows, 'row')} of {done.target} out to {done.file}.", "bold"))
    beside = f", and to read: {', '.join(done.beside)}" if done.beside else ""
    say(Text(f"Columns: {', '.join(done.columns)}{beside}."))
    for note in done.notes:
        say(Text(note))
    if done.rows == 0:
        say(Text("No record meets the condition, so the file has no rows.", "yellow"))
    by_itself = not done.file.lower().endswith((".csv", ".tsv")) or mark_rows
    base = "" if by_itself else f" --base {done.run}"
    say(Text(f"\nWhen it comes back: tidymerge preview {done.file}{base}", "dim"))

"""`tidymerge compare`: how two tables or files differ."""

from typing import Annotated

import typer

from tidymerge.cli.options import shared as options
from tidymerge.cli.options.job import pairs

First = Annotated[str, typer.Argument(metavar="FIRST", help="A sheet, file or table, as in coop.db#hives.")]
Second = Annotated[str, typer.Argument(metavar="SECOND", help="The one to compare it with, of any kind.")]
Key = Annotated[
    list[str] | None,
    typer.Option("--key", metavar="COLUMN", help="A column that names the record; repeat. Else a table's own key."),
]
Map = Annotated[
    list[str] | None,
    typer.Option("--map", metavar="FIRST=SECOND", help="A column that is called otherwise in the second; repeat."),
]
Only = Annotated[
    list[str] | None, typer.Option("--only", metavar="COLUMN", help="Compare only this column, and the key; repeat.")
]
Changes = Annotated[
    str | None,
    typer.Option("--changes", metavar="FILE", help="Write each field that differs: .csv, .jsonl or .parquet."),
]
ExpectSame = Annotated[bool, typer.Option("--expect-same", help="End with exit status 4 if they differ.")]


def compare(
    first: First,
    second: Second,
    key: Key = None,
    mapped: Map = None,
    only: Only = None,
    changes: Changes = None,
    page: options.Page = None,
    summary: options.Summary = None,
    expect_same: ExpectSame = False,
    header_row: options.HeaderRow = None,
    delimiter: options.Delimiter = None,
    quote: options.Quote = None,
    encoding: options.Encoding = None,
    form: options.Format = None,
    quiet: options.Quiet = False,
    json: options.AsJson = False,
) -> None:
    """Show how two tables or files differ, matched by key as in a load; nothing is written to either."""
    from tidymerge.cli.screen import draw_comparison, output
    from tidymerge.cli.screen.bars import Bars
    from tidymerge.run.compare import Comparison
    from tidymerge.run.compare import compare as side_by_side
    from tidymerge.run.views import ROWS_ON_PAGE, write_views

    out = output.console(json_wanted=json, quiet=quiet)
    with output.json_failures(json_wanted=json):
        files = options.outputs(changes=changes, page=page, summary=summary)
        asked = Comparison(
            first, second, tuple(key or ()), pairs(mapped, "FIRST=SECOND"), tuple(only or ()),
            options.read_options(delimiter, quote, encoding, form=form), header_row,
        )  # fmt: skip
        with Bars(out, json=json) as progress:
            found, touched = side_by_side(asked, 0 if page is None else ROWS_ON_PAGE, outputs=files, progress=progress)
        write_views(found, touched, files)
    if json:
        output.print_json(found.to_dict())
    else:
        draw_comparison.comparison(out, found)
    if expect_same and (found.changed or found.rows.rejected or found.rows.skipped):
        raise typer.Exit(output.STOPPED)
    output.finish(found)

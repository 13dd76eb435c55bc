"""`tidymerge look`: what is in a sheet or a table."""

from typing import Annotated

import typer

from tidymerge.cli.options import shared as options


def look(
    address: Annotated[
        str,
        typer.Argument(metavar="ADDRESS", help="A workbook, sheet, text file, database or table, as in coop.db#hives."),
    ],
    header_row: options.HeaderRow = None,
    delimiter: options.Delimiter = None,
    quote: options.Quote = None,
    encoding: options.Encoding = None,
    json: options.AsJson = False,
) -> None:
    """Show the columns of a sheet or table: types, blanks, commonest values, and what can serve as key."""
    from msgspec import to_builtins

    from tidymerge.cli.screen import draw_look, output
    from tidymerge.run.look import Overview
    from tidymerge.run.look import look as look_at

    with output.json_failures(json_wanted=json):
        found = look_at(address, options.read_options(delimiter, quote, encoding), header_row)
    if json:
        output.print_json(to_builtins(found))
    elif isinstance(found, Overview):
        draw_look.overview(output.console(), found)
    else:
        draw_look.view(output.console(), found)

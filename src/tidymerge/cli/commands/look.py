"""`tidymerge look`: what is in a sheet or a table."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidymerge.cli.options import shared as options
from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.model import ReadOptions
    from tidymerge.run.look import Overview, View


Address = Annotated[
    str,
    typer.Argument(metavar="ADDRESS", help="A workbook, sheet, text file, database or table, as in coop.db#hives."),
]
Values = Annotated[
    str | None, typer.Option("--values", metavar="COLUMN", help="All different values of this column, with counts.")
]
Where = Annotated[
    str | None, typer.Option("--where", metavar="CONDITION", help="With --values: only of rows that meet this.")
]
Chart = Annotated[
    str | None, typer.Option("--chart", metavar="FILE", help="Draw the values, or a database's tables: .png, .svg.")
]
WouldHold = Annotated[
    list[str] | None,
    typer.Option("--would-hold", metavar="RULE", help="Which records break this: 'code is unique' (repeatable)."),
]
Since = Annotated[
    str | None,
    typer.Option("--since", metavar="RUN|TIME", help="How the table differs from then, as the log knows it."),
]
Against = Annotated[
    str | None, typer.Option("--against", metavar="ADDRESS", help="How it differs from this table, sheet or file.")
]
Mermaid = Annotated[
    bool, typer.Option("--mermaid", help="Print a database's tables and their relations as a Mermaid diagram.")
]


def look(
    address: Address,
    header_row: options.HeaderRow = None,
    delimiter: options.Delimiter = None,
    quote: options.Quote = None,
    encoding: options.Encoding = None,
    form: options.Format = None,
    values: Values = None,
    where: Where = None,
    chart: Chart = None,
    would_hold: WouldHold = None,
    since: Since = None,
    against: Against = None,
    mermaid: Mermaid = False,
    json: options.AsJson = False,
) -> None:
    """Show the columns of a sheet or table: types, blanks, commonest values, and what can serve as key."""
    from msgspec import to_builtins

    from tidymerge.cli.screen import draw_look, output
    from tidymerge.run.look import FORMAT, Overview
    from tidymerge.run.look import look as look_at

    read = options.read_options(delimiter, quote, encoding, form=form)
    with output.json_failures(json_wanted=json):
        if values is not None:
            _values(address, values, read, header_row, where, chart, json=json)
            return
        if would_hold:
            _would_hold(address, would_hold, json=json)
            return
        if since is not None or against is not None:
            _differences(address, since, against, read, header_row, json=json)
            return
        if where is not None:
            raise BadOption("--where is about the values of a column: say which, by --values COLUMN.")
        files = options.outputs(relations=chart)
        files.check(incoming=[address])
        found = look_at(address, read, header_row)
        _draw(found, files.relations, mermaid=mermaid)
    if mermaid:
        return
    if json:
        output.print_json({"format": FORMAT, **to_builtins(found)})
    elif isinstance(found, Overview):
        draw_look.overview(output.console(), found)
    else:
        draw_look.view(output.console(), found)


def _values(
    address: str,
    column: str,
    read: "ReadOptions",
    header_row: int | None,
    where: str | None,
    chart: str | None,
    *,
    json: bool,
) -> None:
    """Show the values of one column."""
    from msgspec import to_builtins

    from tidymerge.address import without_password
    from tidymerge.cli.screen import draw_look, output
    from tidymerge.core.infer.spellings import as_map
    from tidymerge.run.look import VALUES, look_at_values

    files = options.outputs(chart=chart)
    files.check(incoming=[address])
    found = look_at_values(address, column, read, header_row, where)
    if files.chart is not None:
        from tidymerge.reports.charts import values_chart

        values_chart(found, without_password(address), files.chart)
    if json:
        output.print_json({"format": VALUES, **to_builtins(found), "map": as_map(found)})
    else:
        draw_look.values(output.console(), found, without_password(address))


def _would_hold(address: str, rules: list[str], *, json: bool) -> None:
    """Show which records would break rules."""
    from msgspec import to_builtins

    from tidymerge.cli.screen import draw_look, output
    from tidymerge.run.would_hold import FORMAT, would_hold

    found = [would_hold(address, rule) for rule in rules]
    if json:
        output.print_json({"format": FORMAT, "rules": to_builtins(found)})
        return
    for one in found:
        draw_look.verdict(output.console(), one)


def _differences(
    address: str, since: str | None, against: str | None, read: "ReadOptions", header_row: int | None, *, json: bool
) -> None:
    """Show how the structure differs from another."""
    from msgspec import to_builtins

    from tidymerge.cli.screen import draw_look, output
    from tidymerge.run import look_structure

    if since is not None and against is not None:
        raise BadOption("--since looks at an earlier time, --against at another address: give one of them.")
    if since is not None:
        found = look_structure.since(address, since)
    else:
        found = look_structure.against(address, against or "", read, header_row)
    if json:
        output.print_json({"format": look_structure.FORMAT, **to_builtins(found)})
    else:
        draw_look.differences(output.console(), found)


def _draw(found: "Overview | View", path: Path | None, *, mermaid: bool) -> None:
    """Draw the tables of a database. Raises BadOption for what is no database."""
    from tidymerge.run.look import Overview

    if path is None and not mermaid:
        return
    if not isinstance(found, Overview) or found.kind != "table":
        raise BadOption("A database's tables can be drawn: name the database alone. Or say --values COLUMN.")
    if mermaid:
        from tidymerge.core.explain.relations import as_mermaid

        print(as_mermaid(found.nodes, found.relations), end="")
    if path is not None:
        from tidymerge.reports.relations_chart import relations_chart

        relations_chart(found.nodes, found.relations, found.address, path)

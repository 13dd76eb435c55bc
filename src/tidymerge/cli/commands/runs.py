"""`tidymerge runs`: past runs, and the story of one record."""

from typing import Annotated

import typer

from tidymerge.cli.options import shared as options


def runs(
    target: Annotated[
        str | None, typer.Option("--target", metavar="TARGET", help="Only runs into this table, as in coop.db#hives.")
    ] = None,
    since: Annotated[
        str | None, typer.Option("--since", metavar="TIME", help="Only runs since 2026-05-04, yesterday, 2h.")
    ] = None,
    state: Annotated[
        str | None,
        typer.Option(
            "--state", metavar="STATE", help="Only runs that were loaded, undone, stopped, failed, or are partly there."
        ),
    ] = None,
    record: Annotated[
        list[str] | None,
        typer.Option("--record", metavar="KEY", help="What became of one record; repeat for a key of several columns."),
    ] = None,
    everything: Annotated[
        bool, typer.Option("--all", help="List all runs or changes, not only the latest 30.")
    ] = False,
    chart: Annotated[
        str | None, typer.Option("--chart", metavar="FILE", help="Draw the loads over time to this .png file.")
    ] = None,
    json: options.AsJson = False,
) -> None:
    """List past runs, the latest first; or tell the story of one record."""
    from tidymerge.cli.screen import draw_runs, output
    from tidymerge.run.past import past_runs, story

    most = None if everything or json else 30
    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        files = options.outputs(chart=chart)
        files.check()
        past = past_runs(target=target, since=since, state=state)
        told = story(record, past, most) if record else []
        if files.chart is not None:
            from tidymerge.reports.charts import runs_chart

            odd = runs_chart([one.run for one in past.runs], files.chart)
    if json:
        output.print_json(draw_runs.as_data(past, record, told))
        return
    if record:
        draw_runs.story(out, record, told, most=most)
    else:
        draw_runs.listing(out, past, most=most)
    draw_runs.notes(out, past)
    if chart is not None:
        out.print(f"Drew them to {chart}; {odd or 'none'} {'stands' if odd <= 1 else 'stand'} out.")

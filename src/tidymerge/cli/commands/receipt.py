"""`tidymerge receipt`: one run in full."""

from typing import Annotated

import typer

from tidymerge.cli.options import shared as options


def receipt(
    run: Annotated[str, typer.Argument(metavar="RUN", help="A run's name, or how it begins; last is the latest.")],
    changes: Annotated[
        str | None,
        typer.Option(
            "--changes", metavar="FILE", help="Write each changed field to this file: .csv, .jsonl or .parquet."
        ),
    ] = None,
    page: options.Page = None,
    chart: options.Chart = None,
    summary: options.Summary = None,
    json: options.AsJson = False,
) -> None:
    """Show one run as it was at the time, and who ran it with which file."""
    from tidymerge.cli.screen import draw, draw_runs, output
    from tidymerge.run.past import one_run, save_changes
    from tidymerge.run.views import write_views

    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        files = options.outputs(changes=changes, page=page, chart=chart, summary=summary)
        past = one_run(run)
        (found,) = past.runs
        files.check(incoming=list(found.run.files), target=found.run.target)
        written = None if files.changes is None else save_changes(found.run, files.changes)
        if found.run.receipt is not None:
            write_views(found.run.receipt, None, files)
    if json:
        shown = found.run.receipt
        output.print_json({**({} if shown is None else shown.to_dict()), "log": draw_runs.entry(found)})
        return
    if found.run.receipt is not None and found.run.settled:  # else nobody knows yet what is true of it
        draw.receipt(out, found.run.receipt)
    draw_runs.about(out, found)
    draw_runs.notes(out, past)
    if written is not None:
        lines = "line" if written == 1 else "lines"
        out.print(f"Wrote {written:,} {lines} to {changes}: each changed field, and records that hold only their key.")

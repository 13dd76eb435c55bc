"""`tidymerge undo`: put back what a run changed."""

import sys
from typing import Annotated

import typer

from tidymerge.cli.options import shared as options


def undo(
    run: Annotated[str, typer.Argument(metavar="RUN", help="A run's name, or how it begins; last is the latest.")],
    into: Annotated[
        str | None,
        typer.Option("--into", metavar="TARGET", help="Where the target is now, if not where the log has it."),
    ] = None,
    rest: Annotated[
        bool, typer.Option("--rest", help="Leave the records that can't be put back as they are, and undo the rest.")
    ] = False,
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would be undone.")] = False,
    conflicts: Annotated[
        str | None,
        typer.Option("--conflicts", metavar="FILE", help="Write the records that can't be put back to this CSV file."),
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    expect: options.Expect = None,
    trust_triggers: options.TrustTriggers = False,
    wait: options.Wait = None,
    page: options.Page = None,
    chart: options.Chart = None,
    json: options.AsJson = False,
) -> None:
    """Put back what a run changed, all or nothing, where nobody has changed it since."""
    from tidymerge.cli.screen import output
    from tidymerge.cli.screen.bars import Bars
    from tidymerge.run.undo import preview_undo, preview_undo_in_full
    from tidymerge.run.undo import undo as put_back

    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        files = options.outputs(conflicts=conflicts, page=page, chart=chart)
        if preview:
            with Bars(out, json=json) as progress:
                most = output.ROWS_ON_PAGE
                receipt, touched = preview_undo_in_full(run, most, into=into, outputs=files, progress=progress)
            output.write_views(receipt, touched, files)
        else:
            asked = not yes and expect is None and out.is_terminal and sys.stdin.isatty()
            if asked:
                expect = output.confirmed(
                    out, lambda progress: preview_undo(run, into=into, progress=progress),
                    json=json, undo=True, stops=not rest,
                )  # fmt: skip
            with Bars(out, json=json) as progress, output.drawn_if_stopped(out, quiet=json or asked):
                receipt = put_back(
                    run, into=into, rest=rest, expect=expect, outputs=files, trust_triggers=trust_triggers,
                    wait_seconds=wait, progress=progress, shield=output.uninterrupted,
                )  # fmt: skip
    if preview:
        output.show(out, receipt, json=json)
    else:
        output.report(out, receipt, files, json=json)
    output.finish(receipt)

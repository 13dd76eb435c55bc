"""`tidymerge undo`: put back what a run changed."""

from typing import Annotated

import typer

from tidymerge.cli.options import shared as options


def undo(
    run: Annotated[
        str, typer.Argument(metavar="RUN", help="A run's name, or how it begins; last is the last that wrote.")
    ],
    into: Annotated[
        str | None,
        typer.Option("--into", metavar="TARGET", help="Where the target is now, if not where the log has it."),
    ] = None,
    rest: options.Rest = False,
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would be undone.")] = False,
    conflicts: options.Conflicts = None,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    expect: options.Expect = None,
    trust_triggers: options.TrustTriggers = False,
    wait: options.Wait = None,
    page: options.Page = None,
    chart: options.Chart = None,
    summary: options.Summary = None,
    quiet: options.Quiet = False,
    json: options.AsJson = False,
) -> None:
    """Put back what a run changed, all or nothing, where nobody has changed it since."""
    from tidymerge.cli.screen import output
    from tidymerge.run.undo import preview_undo_in_full
    from tidymerge.run.undo import undo as put_back

    out = output.console(json_wanted=json, quiet=quiet)
    with output.json_failures(json_wanted=json):
        files = options.outputs(conflicts=conflicts, page=page, chart=chart, summary=summary)
    output.perform(
        out,
        output.Wish(preview, yes, expect, json),
        files,
        lambda most, outputs, progress: preview_undo_in_full(run, most, into=into, outputs=outputs, progress=progress),
        lambda expected, progress: put_back(
            run, into=into, rest=rest, expect=expected, outputs=files, trust_triggers=trust_triggers,
            wait_seconds=wait, progress=progress, shield=output.uninterrupted,
        ),
        stops=not rest,
    )  # fmt: skip

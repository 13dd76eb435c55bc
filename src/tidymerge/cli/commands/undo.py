"""`tidymerge undo`: put back what a run changed."""

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from tidymerge.cli.options import shared as options

if TYPE_CHECKING:
    from rich.console import Console


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
    from tidymerge.run.undo import preview_undo_in_full
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
                expect = _ask(out, run, into, rest=rest, json=json)
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


def _ask(out: "Console", run: str, into: str | None, *, rest: bool, json: bool) -> str:
    """Show what would be undone, ask, and return its fingerprint, so that the undo does what was shown or stops."""
    from tidymerge.cli.screen import draw, output
    from tidymerge.cli.screen.bars import Bars
    from tidymerge.run import undo as undoing

    with Bars(out, json=json) as progress:
        receipt = undoing.preview_undo(run, into=into, progress=progress)
    draw.receipt(out, receipt)
    if receipt.rows.rejected and not rest:
        return receipt.fingerprint  # the undo itself says why it stops
    if not receipt.changed and json:
        return receipt.fingerprint
    if not receipt.changed:
        out.print("There is nothing to undo.")
        output.finish(receipt)
    output.ask(output.question(receipt), "Nothing was undone.", json=json)
    return receipt.fingerprint

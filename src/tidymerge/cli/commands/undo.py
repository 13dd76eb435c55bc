"""`tidymerge undo`: put back what a run changed."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidymerge.cli import options
from tidymerge.errors import Stopped

if TYPE_CHECKING:
    from rich.console import Console

    from tidymerge.cli.bars import Bars
    from tidymerge.receipt import Receipt


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
    page: options.Page = None,
    chart: options.Chart = None,
    json: options.AsJson = False,
) -> None:
    """Put back what a run changed, all or nothing, where nobody has changed it since."""
    from tidymerge import flow
    from tidymerge.cli import output
    from tidymerge.cli.bars import Bars

    out = output.console(json_wanted=json)
    with output.json_failures(json_wanted=json):
        output.check_views(page, chart)
        drawn = False
        if not preview and not yes and expect is None and out.is_terminal and sys.stdin.isatty():
            expect, drawn = _ask(out, run, into, rest=rest), True
        with Bars(out, json=json) as progress:
            if preview:
                receipt = flow.preview_undo(run, into=into, progress=progress)
            else:
                receipt = _undo(out, run, into, rest, expect, conflicts, trust_triggers, progress, quiet=json or drawn)
    output.save_views(receipt, None, page, chart)
    output.show(out, receipt, json=json, details=preview)
    output.finish(receipt)


def _undo(
    out: "Console",
    run: str,
    into: str | None,
    rest: bool,
    expect: str | None,
    conflicts: str | None,
    trust_triggers: bool,
    progress: "Bars",
    *,
    quiet: bool,
) -> "Receipt":
    """Undo; if it is stopped, what stands in the way is shown first."""
    from tidymerge import flow
    from tidymerge.cli import draw, output

    try:
        return flow.undo(
            run,
            into=into,
            rest=rest,
            expect=expect,
            conflicts=Path(conflicts) if conflicts else None,
            trust_triggers=trust_triggers,
            progress=progress,
            shield=output.uninterrupted,
        )
    except Stopped as stopped:
        if not quiet:
            draw.receipt(out, stopped.receipt)
        raise


def _ask(out: "Console", run: str, into: str | None, *, rest: bool) -> str:
    """Show what would be undone, ask, and return its fingerprint, so that the undo does what was shown or stops."""
    from tidymerge import flow
    from tidymerge.cli import draw, output
    from tidymerge.cli.bars import Bars
    from tidymerge.core.caution import plural

    with Bars(out) as progress:
        receipt = flow.preview_undo(run, into=into, progress=progress)
    draw.receipt(out, receipt)
    if receipt.rows.rejected and not rest:
        return receipt.fingerprint  # the undo itself says why it stops
    if not receipt.changed:
        out.print("There is nothing to undo.")
        output.finish(receipt)
    question = f"\nPut back {receipt.changed:,} {plural(receipt.changed, 'record', 'records')}?"
    if not typer.confirm(question, default=False):
        out.print("Nothing was undone.")
        raise typer.Exit(4)
    return receipt.fingerprint

"""Where output goes: results to standard output, everything else to standard error."""

import json as json_form
import signal
import sys
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import partial
from os import environ
from typing import TYPE_CHECKING, Any

import typer
from msgspec import Struct
from rich.console import Console

from tidymerge.cli.screen.closing import note_commit
from tidymerge.errors import Stopped, TidyMergeError
from tidymerge.reports.error_json import error_to_dict, failure_to_dict

if TYPE_CHECKING:
    from tidymerge.model.receipt import Receipt, Touch
    from tidymerge.ports.progress import Progress
    from tidymerge.run.outputs import Outputs

    Look = Callable[[int, Outputs, Progress], tuple[Receipt, list[Touch]]]
    Act = Callable[[str | None, Progress], Receipt]

DONE, WITH_REJECTS, STOPPED = 0, 3, 4
_ENOUGH = 20_000  # signs in a line of a file or a pipe, where no terminal tells its width


def console(*, json_wanted: bool = False, quiet: bool = False) -> Console:
    """The console for people: standard output, or standard error when JSON goes to standard output.

    A `quiet` one prints nothing, and is no terminal: whoever wants to read nothing can't be asked either.
    It knows no markup: values from files are printed, and must not be obeyed. COLUMNS gives the width, and with
    CLICOLOR_FORCE there is colour also where no terminal is.
    """
    stream = sys.stderr if json_wanted else sys.stdout
    kind = Console if stream.isatty() else _Plain
    width = None if stream.isatty() or environ.get("COLUMNS", "").isdigit() else _ENOUGH
    coloured = True if environ.get("CLICOLOR_FORCE", "0") != "0" else None
    shown = False if quiet else coloured
    return kind(file=stream, width=width, highlight=False, emoji=False, markup=False, force_terminal=shown, quiet=quiet)


class _Plain(Console):
    """For a file or a pipe: lines are as long as they need, and end where their words end."""

    def print(self, *objects: Any, **options: Any) -> None:
        """Print without the spaces that would fill a terminal's line."""
        with self.capture() as caught:
            super().print(*objects, **options)
        self.file.writelines(f"{line.rstrip()}\n" for line in caught.get().splitlines())


def print_json(data: Mapping[str, Any]) -> None:
    """Print one JSON document to standard output: in UTF-8 always (RFC 8259, 8.1), whatever the terminal's encoding."""
    sys.stdout.flush()
    text = json_form.dumps(data, indent=2, ensure_ascii=False)
    sys.stdout.buffer.write(f"{text}\n".encode("utf-8", "backslashreplace"))  # half a letter has an escape in JSON too
    sys.stdout.buffer.flush()


@contextmanager
def json_failures(*, json_wanted: bool) -> Iterator[None]:
    """With `--json`, print what ended the run as JSON too before the error goes on its way."""
    try:
        yield
    except Stopped as stopped:
        if json_wanted:
            print_json({**stopped.receipt.to_dict(), "error": error_to_dict(stopped)})
        raise
    except TidyMergeError as error:
        if json_wanted:
            print_json(failure_to_dict(error))
        raise


def show(out: Console, receipt: "Receipt", *, json: bool, details: bool = True) -> None:
    """Print a receipt: for people, or as JSON to standard output."""
    from tidymerge.cli.screen import draw

    if json:
        print_json(receipt.to_dict())
    else:
        draw.receipt(out, receipt, details=details)


def report(out: Console, receipt: "Receipt", outputs: "Outputs", *, json: bool, details: bool = False) -> None:
    """After a commit: show the receipt and write its views.

    Whatever goes wrong now must not look as if the run had failed: it is only said.
    """
    note_commit(receipt.run or "")
    with _only_said(receipt, "its receipt is not shown"):
        show(out, receipt, json=json, details=details)
    with _only_said(receipt, "not all of its views are written"):
        from tidymerge.run.views import write_views

        write_views(receipt, None, outputs)


@contextmanager
def _only_said(receipt: "Receipt", words: str) -> Iterator[None]:
    try:
        yield
    except Exception as error:  # noqa: BLE001 - the run is done
        again = f"tidymerge receipt {receipt.run}" if receipt.lasts else "tidymerge runs"
        print(f"tidymerge: The run is done, but {words}: {error}. See it with: {again}", file=sys.stderr)


@contextmanager
def drawn_if_stopped(out: Console, *, quiet: bool) -> Iterator[None]:
    """If a run is stopped, show what it would have done, unless that was shown already or nobody looks.

    Also where the rest is not to be shown: else nobody would know what stopped it.
    """
    try:
        yield
    except Stopped as stopped:
        if not quiet:
            from tidymerge.cli.screen import draw

            draw.receipt(console(json_wanted=True) if out.quiet else out, stopped.receipt)
        raise


def question(receipt: "Receipt") -> str:
    """What is asked on the terminal before a run writes."""
    from tidymerge.core.words import counted, what_to_do

    if receipt.request is not None and receipt.request.drops:
        names = " and ".join(receipt.request.drops)
        return f"Take {names} away from {receipt.tables[0].target}, with {counted(receipt.fields_updated, 'value')}?"
    undo = receipt.undoes is not None
    said = [
        what_to_do(table.rows, table.records_updated, table.rows_before, table.target, undo=undo).rstrip("?")
        for table in receipt.tables
        if table.rows.inserted or table.rows.removed or table.records_updated
    ]
    return f"{', '.join([said[0], *(f'{one[0].lower()}{one[1:]}' for one in said[1:])])}?"


class Wish(Struct, frozen=True):
    """How a command is to be carried out: only as a preview, unasked, if it is what was expected, with JSON."""

    preview: bool
    yes: bool
    expect: str | None
    json: bool


def perform(
    out: Console,
    wish: Wish,
    files: "Outputs",
    look: "Look",
    act: "Act",
    *,
    stops: bool = True,
) -> None:
    """Preview, or ask and do; then show the receipt, write its views, and end with its exit status.

    `look` previews, and gives so many of the first changed records, too. `act` does it, if the fingerprint is as given.
    """
    from tidymerge.cli.screen.bars import Bars
    from tidymerge.run.outputs import Outputs
    from tidymerge.run.views import ROWS_ON_PAGE, write_views

    json = wish.json
    with json_failures(json_wanted=json):
        if wish.preview:
            with Bars(out, json=json) as progress:
                receipt, touched = look(0 if files.page is None else ROWS_ON_PAGE, files, progress)
            write_views(receipt, touched, files)
        else:
            expect = wish.expect
            asks = not wish.yes and expect is None and out.is_terminal and sys.stdin.isatty()
            if asks:
                shown = partial(look, 0, Outputs())
                expect = confirmed(out, lambda progress: shown(progress)[0], json=json, stops=stops)
            with Bars(out, json=json) as progress, drawn_if_stopped(out, quiet=json or asks):
                receipt = act(expect, progress)
    if wish.preview:
        show(out, receipt, json=json)
    else:
        report(out, receipt, files, json=json)
    finish(receipt)


def confirmed(out: Console, preview: "Callable[[Progress], Receipt]", *, json: bool, stops: bool = True) -> str:
    """Show a preview, ask, and return its fingerprint, so that the run does what was shown or stops.

    Nothing is asked where the run itself says why it `stops`: at a limit, or at what an undo can't put back, or what
    can't be removed.
    """
    from tidymerge.cli.screen import draw
    from tidymerge.cli.screen.bars import Bars

    with Bars(out, json=json) as progress:
        receipt = preview(progress)
    draw.receipt(out, receipt)
    needed = receipt.warnings if receipt.request is not None and receipt.request.drops else ()
    if stops and (receipt.limits or needed or _all_or_none(receipt)):
        return receipt.fingerprint
    if not receipt.lasts and json:
        return receipt.fingerprint
    if not receipt.lasts:
        out.print(f"There is nothing to {receipt.action.value}.")
        finish(receipt)
    ask(question(receipt), f"Nothing was {'undone' if receipt.undoes else 'written'}.", json=json)
    return receipt.fingerprint


def _all_or_none(receipt: "Receipt") -> bool:
    """Whether a run stops because of what was rejected: an undo; a removal, but for rows that name no record."""
    from tidymerge.model import Reason
    from tidymerge.model.receipt import Action

    if receipt.action is Action.REMOVE and receipt.request is not None and receipt.request.keys is not None:
        stuck = any(table.rows.rejected for table in receipt.tables[1:])  # what goes along, or a copy
        return stuck or Reason.REFERRED_TO.value in receipt.rejects.reasons
    return receipt.action in (Action.UNDO, Action.REMOVE) and receipt.rows.rejected > 0


def ask(question: str, refused: str, *, json: bool) -> None:
    """Ask on the terminal; a no ends the program with exit status 4."""
    if not typer.confirm(f"\n{question}", default=False, err=json):
        console(json_wanted=json).print(refused)
        raise typer.Exit(STOPPED)


def finish(receipt: "Receipt") -> None:
    """End with the exit status that the receipt calls for."""
    raise typer.Exit(WITH_REJECTS if receipt.rows.rejected else DONE)


@contextmanager
def uninterrupted() -> Iterator[Callable[[], bool]]:
    """Hold Ctrl-C and SIGTERM back from the commit on, so that what is said of it is true.

    What is given tells whether one came: a commit that takes long may end by itself and take back what it wrote. After
    a commit only the receipt is left to print, which is quick: a signal then would say "nothing was written".
    """
    came: list[int] = []
    if threading.current_thread() is not threading.main_thread():
        yield lambda: False
        return
    numbers = (signal.SIGINT, signal.SIGTERM)
    before = [signal.signal(number, lambda number, _: came.append(number)) for number in numbers]
    try:
        yield lambda: bool(came)
        for number in numbers:
            signal.signal(number, signal.SIG_IGN)
    except BaseException:
        for number, handler in zip(numbers, before, strict=True):
            signal.signal(number, handler)
        raise

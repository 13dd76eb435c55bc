"""Where output goes: results to standard output, everything else to standard error."""

import json as json_form
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer
from rich.console import Console

from tidymerge.errors import BadOption, Stopped, TidyMergeError
from tidymerge.reports.receipt_json import failure_to_dict

if TYPE_CHECKING:
    from tidymerge.receipt import Receipt, Touch

DONE, WITH_REJECTS, STOPPED = 0, 3, 4
ROWS_ON_PAGE = 1000  # changed records; more would make a page slow to open
_PLAIN_WIDTH = 120  # in a file or a pipe, where no terminal tells its width


def console(*, json_wanted: bool = False) -> Console:
    """The console for people: standard output, or standard error when JSON goes to standard output.

    It knows no markup: values from files are printed, and must not be obeyed.
    """
    stream = sys.stderr if json_wanted else sys.stdout
    return Console(
        file=stream, width=None if stream.isatty() else _PLAIN_WIDTH, highlight=False, emoji=False, markup=False
    )


def print_json(data: dict[str, Any]) -> None:
    """Print one JSON document to standard output."""
    print(json_form.dumps(data, indent=2, ensure_ascii=False))


@contextmanager
def json_failures(*, json_wanted: bool) -> Iterator[None]:
    """With `--json`, print what ended the run as JSON too before the error goes on its way."""
    try:
        yield
    except Stopped as stopped:
        if json_wanted:
            error = {"error": {"code": stopped.code, "message": str(stopped)}}
            print_json({**stopped.receipt.to_dict(), **error})
        raise
    except TidyMergeError as error:
        if json_wanted:
            print_json(failure_to_dict("failed", error.code, str(error)))
        raise


def show(out: Console, receipt: "Receipt", *, json: bool, details: bool = True) -> None:
    """Print a receipt: for people, or as JSON to standard output."""
    from tidymerge.cli import draw

    if json:
        print_json(receipt.to_dict())
    else:
        draw.receipt(out, receipt, details=details)


def check_views(page: str | None, chart: str | None, marked: str | None = None) -> None:
    """Make sure, before anything is done, that the files asked for can be written. Raises BadOption."""
    for path, *endings in ((page, ".html"), (chart, ".png"), (marked, ".xlsx", ".csv")):
        if path is not None and Path(path).suffix.lower() not in endings:
            raise BadOption(f"{path} must end in {' or '.join(endings)}, as that is what is written to it.")
        if path is not None and not Path(path).absolute().parent.is_dir():
            raise BadOption(f"There is no folder {Path(path).parent} to write {Path(path).name} to.")


def write_views(receipt: "Receipt", touched: "list[Touch] | None", page: str | None, chart: str | None) -> None:
    """Write the receipt as a page and as a chart, where asked for. `touched` is looked up in the log if None.

    Raises BadOption where a file can't be written.
    """
    if page is not None:
        from tidymerge.past import touched_of
        from tidymerge.reports.page import write_page

        found = touched_of(receipt, ROWS_ON_PAGE) if touched is None else touched
        write_page(receipt, found, Path(page))
    if chart is not None:
        from tidymerge.reports.charts import receipt_chart

        receipt_chart(receipt, Path(chart))


def try_views(receipt: "Receipt", page: str | None, chart: str | None) -> None:
    """The same after a commit, when whatever goes wrong must not look as if the run had failed: it is only said."""
    try:
        write_views(receipt, None, page, chart)
    except Exception as error:  # noqa: BLE001 - as the docstring says
        print(f"tidymerge: The run is done, but not all of its views are written: {error}", file=sys.stderr)


@contextmanager
def drawn_if_stopped(out: Console, *, quiet: bool) -> Iterator[None]:
    """If a run is stopped, show what it would have done, unless that was shown already or nobody looks."""
    try:
        yield
    except Stopped as stopped:
        if not quiet:
            from tidymerge.cli import draw

            draw.receipt(out, stopped.receipt)
        raise


def ask(question: str, refused: str, *, json: bool) -> None:
    """Ask on the terminal; a no ends the program with exit status 4."""
    if not typer.confirm(f"\n{question}", default=False, err=json):
        console(json_wanted=json).print(refused)
        raise typer.Exit(STOPPED)


def finish(receipt: "Receipt") -> None:
    """End with the exit status that the receipt calls for."""
    raise typer.Exit(WITH_REJECTS if receipt.rows.rejected else DONE)


@contextmanager
def uninterrupted() -> Iterator[None]:
    """Hold Ctrl-C and SIGTERM back from the commit on, so that what is said of it is true.

    After a commit only the receipt is left to print, which is quick: a signal then would say "nothing was written".
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    numbers = (signal.SIGINT, signal.SIGTERM)
    before = [signal.signal(number, signal.SIG_IGN) for number in numbers]
    try:
        yield
    except BaseException:
        for number, handler in zip(numbers, before, strict=True):
            signal.signal(number, handler)
        raise

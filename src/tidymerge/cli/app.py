"""The program: its commands, and how every error becomes a sentence and an exit status."""

import os
import shutil
import signal
import sys
import textwrap
import traceback
from collections.abc import Callable, Sequence
from functools import cache
from types import FrameType
from typing import Annotated, NoReturn

import typer

from tidymerge import settings
from tidymerge.address import is_text
from tidymerge.cli.commands import (
    change,
    compare,
    demo,
    draft,
    explain,
    extract,
    load,
    look,
    preview,
    receipt,
    remove,
    runs,
    schema,
    undo,
    watch,
)
from tidymerge.cli.options.complete import completed
from tidymerge.cli.screen.closing import committed
from tidymerge.cli.screen.streams import Streams
from tidymerge.cli.screen.typed import hint
from tidymerge.errors import BadOption, Interrupted, TidyMergeError

AllowVariable = Annotated[
    list[str] | None,
    typer.Option(
        "--allow-variable",
        metavar="NAME",
        help="Let addresses take this environment variable for more than a user name or password; repeat.",
    ),
]

app = typer.Typer(
    help="Load incoming spreadsheet rows into existing tables: matched by key, every row accounted for.",
    epilog="An address is FILE or FILE#PART, as in week32.xlsx#Inspections or coop.db#hives. "
    "Start with: tidymerge demo",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,  # plain help needs no Rich, and answers at once
    context_settings={"help_option_names": ["-h", "--help"]},
)
app.command(short_help="Show what is in a sheet or a table.")(completed(look.look))
app.command(short_help="Write a job file by matching columns.")(completed(draft.draft))
app.command(short_help="Show what a load would do.")(completed(preview.preview))
app.command(short_help="Load the rows, all or nothing.")(completed(load.load))
app.command(short_help="Set columns of records that are there.")(completed(change.change))
app.command(short_help="Take records out of a table.")(completed(remove.remove))
app.command(short_help="Take rows out into a file, to be edited.")(completed(extract.extract))
app.command(short_help="Load what arrives in a folder, each file once.")(completed(watch.watch))
app.command(short_help="Show how two tables or files differ.")(completed(compare.compare))
app.command(short_help="List past runs; tell what became of a record.")(completed(runs.runs))
app.command(short_help="Show one run in full.")(completed(receipt.receipt))
app.command(short_help="Put back what a run changed.")(completed(undo.undo))
app.command(short_help="Print a JSON Schema: of job files, receipts, runs.")(completed(schema.schema))
app.command(short_help="Say what an error means, and what to do.")(completed(explain.explain))
app.command(short_help="Run the whole tour on demo data.")(completed(demo.demo))


@app.callback(invoke_without_command=True)
def common(
    version: bool = typer.Option(False, "--version", help="Print the version and stop.", is_eager=True),
    debug: bool = typer.Option(False, "--debug", help="Show where in the program an error arose."),
    allow_variable: AllowVariable = None,
) -> None:
    """Load incoming spreadsheet rows into existing tables: matched by key, every row accounted for."""
    if version:
        from tidymerge import __version__

        print(f"tidymerge {__version__}")
        raise typer.Exit
    if debug:
        settings.debug()
    settings.allow_variables(allow_variable or [])


def main() -> NoReturn:
    """Run the program. Its exit statuses are in docs/meaning.md.

    The process ends without the libraries' own tidying up: all files are closed and all is written by then, and
    Arrow's threads now and then abort in it (seen once in a hundred runs on a busy machine), which would end a
    finished load with another exit status than its own.
    """
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, _interrupted)
    streams = Streams()
    status = _run()
    failure = streams.failure()
    if failure is not None:
        _say(f"Not all of the output could be written: {failure.strerror}.")
        if not committed():  # then the output was all there was to do
            status = status if status not in (0, 3) else 1
        streams.failure()
    os._exit(status)


@cache
def command() -> Callable[[], object]:
    """All commands and their options, made once: making them takes longer than a small run."""
    return typer.main.get_command(app)


def _run() -> int:
    try:
        _check_arguments(sys.argv)
        command()()
    except SystemExit as ended:  # how Typer ends every command
        if "--json" in sys.argv and isinstance(ended.__context__, Exception) and ended.code == BadOption.exit_status:
            _print_usage_error(ended.__context__)
        return ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except TidyMergeError as error:
        _say(f"{error}{hint(error)} (tidymerge explain {error.code})")
        return error.exit_status
    except MemoryError:
        _say("Not enough memory; nothing was written. Load the rows in smaller files.")
        return 1
    except OSError as error:
        _say(f"The system refused: {error}. Unless it was said that the load committed, nothing was written.")
        return 1
    except Exception as error:  # noqa: BLE001 - the last door: no traceback unless asked for
        _say(
            f"{type(error).__name__}: {error}. This is a defect of the program. Unless it said that it committed, "
            "nothing was written; --debug shows where it arose."
        )
        return 1
    return 0


def _print_usage_error(error: Exception) -> None:
    """What was wrong with the words of the command, which is said already, as JSON too."""
    from tidymerge.cli.screen.output import print_json
    from tidymerge.reports.error_json import failure_to_dict

    said = getattr(error, "format_message", error.__str__)()
    print_json(failure_to_dict(BadOption(said)))


def _check_arguments(arguments: Sequence[str]) -> None:
    """Nothing that is no text can be shown, or kept in the log. Raises BadOption."""
    for argument in arguments:
        if not is_text(argument):
            coding = sys.getfilesystemencoding()
            raise BadOption(f"{argument!r} has bytes that are not {coding} text. If a file is called so, rename it.")


def _interrupted(_number: int, _frame: FrameType | None) -> None:
    raise Interrupted("Interrupted; nothing was written.")


def _say(words: str) -> None:
    """One or two sentences on standard error, without what would steer the terminal; with --debug also the place."""
    if settings.is_debugging():
        traceback.print_exc()
    shown = "".join(sign if sign.isprintable() else "\N{REPLACEMENT CHARACTER}" for sign in words)
    print(_wrapped(f"tidymerge: {shown}"), file=sys.stderr)


def _wrapped(words: str) -> str:
    """On a terminal, in lines that end where words end: an option that is broken in two can't be typed."""
    if not sys.stderr.isatty():
        return words
    width = shutil.get_terminal_size().columns
    return textwrap.fill(words, width, break_long_words=False, break_on_hyphens=False)

"""The program: its commands, and how every error becomes a sentence and an exit status."""

import os
import signal
import sys
from types import FrameType

import typer

from tidymerge.cli.commands import demo, draft, load, look, preview, schema
from tidymerge.errors import Interrupted, TidyMergeError

app = typer.Typer(
    help="Load incoming spreadsheet rows into existing tables: matched by key, every row accounted for.",
    epilog="An address is FILE or FILE#PART, as in week32.xlsx#Inspections or coop.db#hives. "
    "Start with: tidymerge demo",
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,  # plain help needs no Rich, and answers at once
    context_settings={"help_option_names": ["-h", "--help"]},
)
app.command()(look.look)
app.command()(draft.draft)
app.command()(preview.preview)
app.command()(load.load)
app.command()(schema.schema)
app.command()(demo.demo)


@app.callback(invoke_without_command=True)
def common(
    version: bool = typer.Option(False, "--version", help="Print the version and stop.", is_eager=True),
    debug: bool = typer.Option(False, "--debug", help="Show where in the program an error arose."),
) -> None:
    """Load incoming spreadsheet rows into existing tables: matched by key, every row accounted for."""
    if version:
        from tidymerge import __version__

        print(f"tidymerge {__version__}")
        raise typer.Exit
    if debug:
        os.environ["TIDYMERGE_DEBUG"] = "1"


def main() -> None:
    """Run the program. Exit statuses are in section 4 of the design."""
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, _interrupted)
    try:
        app()
    except TidyMergeError as error:
        _say(f"{error} (docs/errors.md#{error.code})", error)
        sys.exit(error.exit_status)
    except MemoryError as error:
        _say("Not enough memory; nothing was written. Load the rows in smaller files.", error)
        sys.exit(1)
    except BrokenPipeError:
        # The reader of our output went away, as `head` does; what was done is done.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(0)


def _interrupted(_number: int, _frame: FrameType | None) -> None:
    raise Interrupted("Interrupted; nothing was written.")


def _say(words: str, error: BaseException) -> None:
    if os.environ.get("TIDYMERGE_DEBUG"):
        raise error
    print(f"tidymerge: {words}", file=sys.stderr)

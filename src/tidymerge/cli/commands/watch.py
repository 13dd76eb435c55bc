"""`tidymerge watch`: load what arrives in a folder."""

import json as json_form
import signal
import time
from collections.abc import Callable, Generator, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from tidymerge.errors import Interrupted

if TYPE_CHECKING:
    from tidymerge.errors import TidyMergeError
    from tidymerge.run.watch import Event

Folder = Annotated[str, typer.Argument(metavar="FOLDER", help="The folder into which files are dropped.")]
JobPath = Annotated[str, typer.Option("--job", metavar="FILE", help="The job by which they are loaded.")]
Into = Annotated[str | None, typer.Option("--into", metavar="TARGET", help="Another table than that of the job.")]
Pattern = Annotated[str, typer.Option("--pattern", metavar="NAMES", help="Only files called so, as in 'week*.xlsx'.")]
Sheets = Annotated[
    str | None, typer.Option("--sheets", metavar="NAMES", help="In workbooks only the sheets called so, as in 'Insp*'.")
]
Once = Annotated[bool, typer.Option("--once", help="Load what is there, and end.")]
Leave = Annotated[bool, typer.Option("--leave", help="Leave files where they are.")]
Order = Annotated[Literal["name", "time"], typer.Option("--order", help="By what files that wait are put in order.")]
Rest = Annotated[
    float, typer.Option("--rest", metavar="SECONDS", min=0, help="How long a file must be at rest to be complete.")
]
Yes = Annotated[bool, typer.Option("--yes", help="Load in spite of warnings.")]
Log = Annotated[Literal["text", "json"], typer.Option("--log", help="How to say what happens: a line each.")]


def watch(
    folder: Folder,
    job: JobPath,
    into: Into = None,
    pattern: Pattern = "*",
    sheets: Sheets = None,
    once: Once = False,
    leave: Leave = False,
    order: Order = "name",
    rest: Rest = 3.0,
    yes: Yes = False,
    log: Log = "text",
) -> None:
    """Load what arrives in a folder, each content once; then files go to done/, rejected/ or held/ in it."""
    from tidymerge.cli.screen import output
    from tidymerge.job.over import Given, job_with
    from tidymerge.run.watch import Watching
    from tidymerge.run.watch import watch as watching

    asked = Watching(
        Path(folder), job_with(Path(job), Given(target=into)), pattern, sheets, rest=rest, by_time=order == "time",
        once=once, leave=leave, accept_warnings=yes, release=lambda place, error: _to_release(place, error, job),
    )  # fmt: skip
    signals, say = _Signals(), _as_json if log == "json" else _as_text

    def tell(event: "Event") -> None:
        say(event)
        signals.check()

    counts = watching(asked, tell, signals.checked(_waiting(Path(folder))), signals.held_back)
    if counts.get("later") and once:
        raise typer.Exit(1)
    if counts.get("held") and once:
        raise typer.Exit(output.STOPPED)


class _Signals:
    """Ctrl-C and SIGTERM wait while a load commits and its file goes to its place: then the watch ends."""

    def __init__(self) -> None:
        self._asked = False

    @contextmanager
    def held_back(self) -> Iterator[None]:
        """Only remember a signal that comes inside."""
        numbers = (signal.SIGINT, signal.SIGTERM)
        before = [signal.signal(number, self._note) for number in numbers]
        try:
            yield
        finally:
            for number, handler in zip(numbers, before, strict=True):
                signal.signal(number, handler)

    def _note(self, _number: int, _frame: FrameType | None) -> None:
        self._asked = True

    def check(self) -> None:
        """End if that was asked for meanwhile. Raises Interrupted."""
        if self._asked:
            self._asked = False
            raise Interrupted("Interrupted; nothing is under way.")

    def checked(self, wait: Callable[[float], object]) -> Callable[[float], object]:
        """The waiting, which ends too."""

        def waiting(seconds: float) -> None:
            self.check()
            wait(seconds)

        return waiting


def _to_release(place: Path, error: "TidyMergeError", job: str) -> str:
    from tidymerge.cli.screen.typed import hint

    said = f"{error}{hint(error)}"
    return f"{said}\nOnce it is right, load it, and it goes on: tidymerge load '{place}' --job '{job}' --yes"


def _as_text(event: "Event") -> None:
    print(f"{datetime.now():%Y-%m-%d %H:%M:%S} {event.what:8} {event.words}", flush=True)  # noqa: DTZ005


def _as_json(event: "Event") -> None:
    line = {
        "time": datetime.now(UTC).isoformat(timespec="milliseconds"), "event": event.what, "file": event.file,
        "run": event.run, "rows": dict(event.counts) or None, "message": event.words,
    }  # fmt: skip
    print(json_form.dumps(line, ensure_ascii=False), flush=True)


def _waiting(folder: Path) -> Callable[[float], object]:
    """What waits for something to happen in the folder, or so many seconds; without the package that tells, seconds.

    It goes on listening while files are loaded: what arrives between two looks is heard. Where it begins to listen, it
    waits only a moment, as it may have missed something. It begins anew where nothing was heard for so long: another
    folder may have come in the place of this one.
    """
    try:
        from watchfiles import watch as changes
    except ImportError:
        return lambda seconds: time.sleep(min(seconds, 2.0))

    heard: Generator[object] | None = None

    def wait(seconds: float) -> None:
        nonlocal heard
        if seconds <= 1.0:
            time.sleep(seconds)
            return
        if heard is None:
            heard = changes(folder, recursive=False, rust_timeout=1000, yield_on_timeout=True, debounce=100)
            next(heard)
            return
        until = time.monotonic() + seconds
        while not next(heard):
            if time.monotonic() > until:
                heard.close()
                heard = None
                return

    return wait

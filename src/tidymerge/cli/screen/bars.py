"""Progress: a bar for each stage on a terminal, a line for each long stage in a log, nothing beside JSON."""

import sys
import time
from collections.abc import Callable
from typing import Self

from rich.console import Console
from rich.progress import BarColumn, Progress, ProgressColumn, Task, TaskID, TextColumn
from rich.text import Text

_LONG = 1.0  # seconds: a shorter stage is nothing that anybody waited for


class Bars:
    """How far a run has come. On a terminal all of it is gone when the receipt is printed; a log keeps its lines."""

    def __init__(self, out: Console, *, json: bool = False, clock: Callable[[], float] = time.perf_counter) -> None:
        self._clock = clock
        self._silent = json or out.quiet
        self._words, self._rows, self._began = "", 0, 0.0
        self._task: TaskID | None = None
        self._bars = None
        if out.is_terminal and not self._silent:
            bar = BarColumn(complete_style="cyan", finished_style="dim cyan", pulse_style="cyan")
            self._bars = Progress(TextColumn("{task.description}"), bar, _Rows(), console=out, transient=True)

    def stage(self, words: str, rows: int | None = None) -> None:
        """A stage begins. Said again with its rows, it goes on."""
        if words == self._words:
            if self._bars is not None and self._task is not None:
                self._bars.update(self._task, total=rows)
            return
        self._ended()
        self._words, self._rows, self._began = words, 0, self._clock()
        if self._bars is not None:
            self._task = self._bars.add_task(words, total=rows)

    def rows(self, count: int) -> None:
        """So many more rows have gone through the stage."""
        self._rows += count
        if self._bars is not None and self._task is not None:
            self._bars.advance(self._task, count)

    def _ended(self) -> None:
        if not self._words:
            return
        took = self._clock() - self._began
        if self._bars is not None and self._task is not None:
            self._bars.update(self._task, total=max(self._rows, 1), completed=max(self._rows, 1))
            self._bars.stop_task(self._task)
        elif took >= _LONG and not self._silent:
            done = f"{self._rows:,} rows, {self._rows / took:,.0f} a second" if self._rows else "done"
            print(f"{self._words}: {done}, {took:.1f} s", file=sys.stderr, flush=True)
        self._words = ""

    def __enter__(self) -> Self:
        if self._bars is not None:
            self._bars.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._ended()
        if self._bars is not None:
            self._bars.stop()


class _Rows(ProgressColumn):
    """How many rows of how many, and how many a second."""

    def render(self, task: Task) -> Text:
        if not task.completed and not task.total:
            return Text("")
        whole = f" of {task.total:,.0f}" if task.total and task.total != task.completed else ""
        rate = f", {task.completed / task.elapsed:,.0f} a second" if task.completed and task.elapsed else ""
        return Text(f"{task.completed:,.0f}{whole} rows{rate}", "dim")

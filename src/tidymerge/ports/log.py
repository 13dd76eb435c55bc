"""Where runs are kept."""

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from typing import Protocol

import pyarrow as pa

from tidymerge.model import Mask
from tidymerge.model.changes import Logged
from tidymerge.model.run import Run


class Recording(Protocol):
    """The log of one run, from its start until it is settled.

    `restart`, `add`, `keep_rows` and `seal` may raise LogUnwritable.
    """

    def restart(self) -> None:
        """Forget what was added: the run starts again."""

    def add(self, log: Logged, table: int = 0) -> None:
        """Keep the changes of one part, in one of the run's tables."""

    def keep_rows(self, codes: pa.Array) -> None:
        """Keep which rows were loaded, by their codes, if they may count only once."""

    def keep_base(self, base: bytes) -> None:
        """Keep what rows are that are taken out."""

    def seal(self, run: Run) -> None:
        """Make sure that all is on disk, before the target commits."""

    def settle(self, run: Run) -> None:
        """Say how the run ended, as well as that can be done: what it did is done."""

    def leave(self) -> None:
        """Let go of the run as it is."""


class RunLog(Protocol):
    """The runs of the past, by name; names sort by time."""

    def begin(self, name: str) -> Recording:
        """Start to record a run. Raises LogUnwritable."""

    def names(self) -> list[str]:
        """The names of all runs, the latest first."""

    def read(self, name: str) -> Run:
        """The run of that exact name. Raises LogDamaged."""

    def find(self, text: str, *, wrote: bool = False) -> Run:
        """The run whose name is, or begins with, `text`; `last` is the latest. Raises NoSuchRun and LogDamaged.

        With `wrote` it is the latest that changed its target, if there is one.
        """

    def changes(self, run: Run, wanted: Callable[[pa.Table], Mask] | None = None) -> Iterator[Logged]:
        """What a run did to records of its table, some at a time; only those whose keys `wanted` picks.

        Raises LogDamaged.
        """

    def rows_of(self, run: Run) -> pa.Array:
        """The codes of the rows that a run loaded which may count only once. Raises LogDamaged."""

    def base_of(self, run: Run) -> bytes:
        """What the rows of an extract were. Raises LogDamaged."""

    def alone(self, name: str) -> AbstractContextManager[None]:
        """Keep out others that ask for the same name. Raises TargetLocked where they take too long."""

    def unsettled(self) -> list[str]:
        """The runs of which it is not known whether their commit lasted, or that are at it now."""

    def ended(self, name: str) -> AbstractContextManager[bool]:
        """Whether the process of a run is gone; while inside, nobody else takes its place."""

    def write(self, run: Run) -> None:
        """Write a run's entry, whole or not at all, and make sure that it is on disk. Raises LogUnwritable."""

    def tidy(self) -> None:
        """Remove runs that are older than they are to be kept, and what runs left that never came to writing."""

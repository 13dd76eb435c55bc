"""Starting again while others change the same records."""

import secrets
import time
from collections.abc import Iterator
from itertools import count
from types import TracebackType
from typing import Self

from tidymerge.core.words import counted
from tidymerge.errors import TargetChanged
from tidymerge.ports.log import Recording
from tidymerge.ports.progress import Progress
from tidymerge.settings import wait

FIRMLY_FROM = 3  # the attempt from which on nobody else may write to the table meanwhile
_FIRST_PAUSE, _LONGEST_PAUSE = 0.05, 5.0  # seconds


class Attempt:
    """One attempt: inside of it, a TargetChanged ends this attempt only, unless the time is up.

    `firmly`: nobody else is to write to the table meanwhile.
    """

    def __init__(self, number: int, began: float, longest: float, recording: Recording, progress: Progress) -> None:
        self.firmly = number >= FIRMLY_FROM
        self._number, self._began, self._longest = number, began, longest
        self._recording, self._progress = recording, progress

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> bool:
        if not isinstance(error, TargetChanged):
            return False
        # At random, so that two loads don't meet again in step.
        pause = min(_FIRST_PAUSE * 2**self._number, _LONGEST_PAUSE) * (0.5 + secrets.randbelow(100) / 100)
        spent = time.monotonic() - self._began
        if spent + pause > self._longest:
            raise TargetChanged(
                f"{error} Tried {counted(self._number, 'time')} in {spent:.0f} seconds; nothing was written. Run it "
                "again when it is quieter there, or wait longer.",
                give=((("wait", "SECONDS"),),),
                **error.facts,
            ) from error
        self._recording.restart()
        self._progress.stage("others changed the same records: starting again")
        time.sleep(pause)
        return True


def attempts(recording: Recording, progress: Progress, seconds: int | None) -> Iterator[Attempt]:
    """Attempts, after pauses that grow, for so many seconds (else as the settings say)."""
    began, longest = time.monotonic(), wait() if seconds is None else seconds
    for number in count(1):
        yield Attempt(number, began, longest, recording, progress)

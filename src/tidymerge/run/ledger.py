"""Which contents were loaded already, by the log: by their bytes, the job and the target."""

import hashlib
from contextlib import suppress
from pathlib import Path

from tidymerge.address import reopened, same_place, same_table
from tidymerge.errors import LogDamaged
from tidymerge.job.model import Job
from tidymerge.job.tables import TablesJob, jobs_of
from tidymerge.model.receipt import State
from tidymerge.model.run import Run
from tidymerge.ports.log import RunLog
from tidymerge.run.record import settle_all

_BLOCK = 1 << 20  # bytes hashed at a time


class Ledger:
    """The loads of one job (or any) into its target, by the SHA-256 of the files; those taken back don't count."""

    def __init__(self, log: RunLog, job: Job | TablesJob, *, of_any_job: bool = False) -> None:
        self._log = log
        self._any = of_any_job
        self._file, self._target = job.file, reopened(jobs_of(job)[0].target)
        self._several = isinstance(job, TablesJob)
        self._read: set[str] = set()
        self._runs: dict[str, Run] = {}
        self._sums: dict[Path, tuple[tuple[int, int, int], str]] = {}

    def refresh(self) -> list[str]:
        """Read what came to the log since; first find out about runs that were cut off. What is worth telling."""
        told = settle_all(self._log, self._target)
        for name in sorted(set(self._log.names()) - self._read):
            with suppress(LogDamaged):  # one that can't be read is asked about again
                run = self._log.read(name)
                if run.settled:
                    self._read.add(name)
                    self._note(run)
        return told

    def _note(self, run: Run) -> None:
        if run.undoes and run.wrote:
            undone = self._runs.pop(run.undoes, None)
            if undone is None and run.undoes in self._read:  # an undo of an undo: the load stands again
                with suppress(LogDamaged):
                    self._note(self._log.read(self._log.read(run.undoes).undoes or ""))
        elif run.state is State.LOADED and (self._any or run.job == self._file) and self._same_target(run.target):
            self._runs[run.name] = run

    def _same_target(self, address: str) -> bool:
        return (same_place if self._several else same_table)(address, self._target)

    def loaded(self, checksum: str) -> Run | None:
        """The run that loaded this content, if one did and was not taken back."""
        return next((run for run in self._runs.values() if checksum in run.files.values()), None)

    def in_doubt(self, checksum: str) -> str | None:
        """The run that loads this content just now, or was cut off while it did, and of which nobody can tell."""
        for name in self._log.unsettled():
            with suppress(LogDamaged):
                if checksum in self._log.read(name).files.values():
                    return name
        return None

    def checksum(self, path: Path) -> str:
        """The SHA-256 of a file; of one that is as it was, it is known. Raises OSError."""
        found = path.stat()
        state = (found.st_ino, found.st_size, found.st_mtime_ns)
        known = self._sums.get(path)
        if known is None or known[0] != state:
            digest = hashlib.sha256()
            with path.open("rb") as file:
                while block := file.read(_BLOCK):
                    digest.update(block)
            known = self._sums[path] = (state, digest.hexdigest())
        return known[1]

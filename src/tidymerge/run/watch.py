"""Loading what arrives in a folder, each content once, whatever ends the process in between.

A load is in the log before its file is moved: so a file that is still there, and that the log knows, only moves.
"""

import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from fnmatch import fnmatch
from pathlib import Path

from filelock import FileLock, Timeout
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.address import without_password
from tidymerge.errors import (
    BadOption,
    Interrupted,
    LogUnwritable,
    NoSuchFile,
    NoSuchSheet,
    NoSuchTable,
    SourceChanged,
    Stopped,
    TargetError,
    TidyMergeError,
)
from tidymerge.history.folder import FolderLog
from tidymerge.job.model import Job
from tidymerge.job.over import Given, job_with
from tidymerge.job.tables import TablesJob, jobs_of
from tidymerge.model import ReadOptions
from tidymerge.model.receipt import Receipt
from tidymerge.run import load as loading
from tidymerge.run.arrivals import PRIVATE, Arrivals, Beside, finish, held, hold
from tidymerge.run.commit import Shield
from tidymerge.run.ledger import Ledger
from tidymerge.run.outputs import Outputs
from tidymerge.sources import open_source

_LONGEST = 30.0  # seconds between looks, where nothing is heard: some file systems tell of nothing
_LATER = 10.0  # seconds until what could not be loaded is tried again
_BOOKS = (".xlsx", ".xlsm")


class Watching(Struct, frozen=True):
    """What is to be watched: a folder, for files that fit `pattern`, in workbooks the sheets that fit `sheets`.

    A file is complete that was at `rest` for so many seconds. They are taken by name, or `by_time`. With `once` it ends
    when all that is there is done; with `leave` files stay where they are; `accept_warnings` loads in spite of them.
    `release` says why a file waits for a person, and what that person can do.
    """

    folder: Path
    job: Job | TablesJob
    pattern: str = "*"
    sheets: str | None = None
    rest: float = 3.0
    by_time: bool = False
    once: bool = False
    leave: bool = False
    accept_warnings: bool = False
    release: Callable[[Path, TidyMergeError], str] = lambda _, error: str(error)


class Event(Struct, frozen=True):
    """Something that happened: what, to which file, in words, by which run, with which counts."""

    what: str
    words: str
    file: str | None = None
    run: str | None = None
    counts: Mapping[str, int] = field(default_factory=dict)


Tell = Callable[[Event], None]
Wait = Callable[[float], object]


def watch(asked: Watching, tell: Tell, wait: Wait, shield: Shield) -> Mapping[str, int]:
    """Load what arrives until it is interrupted, or all is done with `once`; how many events there were of each kind.

    `wait` sleeps for some seconds, or until something happens in the folder; `shield` guards the moment of a commit.
    Raises BadOption and NoSuchFile.
    """
    if not asked.folder.is_dir():
        raise NoSuchFile(f"There is no folder {asked.folder} to watch.")
    if asked.job.file is None:
        raise BadOption("What arrives is loaded by a job file, by which it is known again: name one.")
    watcher = _Watcher(asked, tell, shield)
    targets = ", ".join(without_password(job.target) for job in jobs_of(asked.job))
    try:
        with _alone(asked.folder, tell, wait):
            tell(Event("watching", f"Watching {asked.folder} for {targets}."))
            while (pause := watcher.sweep()) is not None:
                wait(pause)
        tell(Event("ended", "All that was there is done."))
    except (Interrupted, KeyboardInterrupt):
        tell(Event("ended", "Asked to end: nothing is under way."))
    return watcher.counts


@contextmanager
def _alone(folder: Path, tell: Tell, wait: Wait) -> Iterator[None]:
    """One watcher of a folder at a time: a second one waits."""
    (folder / PRIVATE).mkdir(mode=0o700, exist_ok=True)
    lock = FileLock(folder / PRIVATE / "lock", mode=0o600)
    said = False
    while True:
        try:
            lock.acquire(timeout=0)
            break
        except Timeout:
            if not said:
                tell(Event("waiting", f"Another watcher is at work in {folder}; this one waits until it ends."))
            said = True
            wait(1.0)
    try:
        yield
    finally:
        lock.release()


class _Watcher:
    """The work on what arrives. Of what could not be done, it is remembered when to try again."""

    def __init__(self, asked: Watching, tell: Tell, shield: Shield) -> None:
        self._asked, self._tell, self._shield = asked, tell, shield
        self._arrivals = Arrivals(asked.folder, asked.pattern, asked.rest, by_time=asked.by_time)
        self._ledger = Ledger(FolderLog(), asked.job)
        self._later: dict[str, float] = {}
        self._said: dict[str, str] = {}
        self._told: set[str] = set()
        self.counts: Counter[str] = Counter()

    def _say(self, event: Event) -> None:
        self.counts[event.what] += 1
        self._tell(event)

    def sweep(self) -> float | None:
        """Do all that can be done now; the seconds until it is worth looking again, None if it is over."""
        now = time.monotonic()
        self._later = {what: until for what, until in self._later.items() if until > now}
        for said in self._ledger.refresh():
            self._say(Event("settled", said))
        for path in held(self._asked.folder) if not self._asked.leave else ():
            self._released(path)
        found = self._arrivals.look()
        for path in found.open:
            self._put_off(str(path), path.name, "a spreadsheet program has it open")
        for path in found.complete:
            try:
                self._arrived(path)
            except OSError as error:
                self._put_off(str(path), path.name, f"{path}: {error.strerror or error}")
        if self._asked.once and not found.on_their_way:
            return None
        return min(self._asked.rest, 1.0) if found.on_their_way else _LATER / 2 if self._later else _LONGEST

    def _released(self, path: Path) -> None:
        """Move a file that was held and that somebody loaded since."""
        try:
            run = self._ledger.loaded(self._ledger.checksum(path))
        except OSError:  # it went
            return
        if run is not None and run.receipt is not None:
            place = finish(path, self._asked.folder, run.name, run.receipt, Beside())
            self._tell(
                Event(
                    "released", f"{path.name} was loaded by the run {run.name}: it is {place} now.", path.name, run.name
                )
            )

    def _arrived(self, path: Path) -> None:
        """Load a file, unless its content was loaded before; and move it to its place."""
        for said in self._ledger.refresh():  # what the file before brought, or somebody else
            self._say(Event("settled", said))
        checksum = self._ledger.checksum(path)
        if self._later.get(checksum, 0.0) > time.monotonic() or (self._asked.leave and checksum in self._told):
            return
        beside = self._beside(path, checksum)
        known = self._ledger.loaded(checksum)
        if known is not None and known.receipt is not None:
            self._told.add(checksum)
            self._done(path, known.name, known.receipt, beside, known=True)
            return
        doubt = self._ledger.in_doubt(checksum)
        if doubt is not None:
            self._put_off(checksum, path.name, f"the run {doubt} is at it, or was cut off; nobody can tell yet")
            return
        try:
            receipt = self._load(path, beside)
        except SourceChanged:  # it is not complete after all
            return
        except TidyMergeError as error:
            if isinstance(error, Interrupted):
                raise
            if isinstance(error, (TargetError, NoSuchTable, LogUnwritable)) or _lacks_target(error, path):
                self._put_off(checksum, path.name, str(error))
            else:
                self._hold(path, checksum, error)
            return
        self._later.pop(checksum, None)
        self._told.add(checksum)
        self._done(path, receipt.run or "", receipt, beside, known=False)

    def _beside(self, path: Path, checksum: str) -> Beside:
        """Where what lies beside a file is written before it has its place."""
        folder = self._asked.folder / PRIVATE
        several = isinstance(self._asked.job, TablesJob)
        book = path.suffix.lower() in _BOOKS
        marked = None if several and not book else folder / f"{checksum[:16]}.marked{'.xlsx' if book else '.csv'}"
        return Beside(folder / f"{checksum[:16]}.rejects.csv", marked)

    def _load(self, path: Path, beside: Beside) -> Receipt:
        outputs = Outputs(rejects=beside.rejects, marked=beside.marked, only_rejected=True)
        for left in (beside.rejects, beside.marked):
            if left is not None:
                left.unlink(missing_ok=True)
        return loading.load(
            self._job_of(path), accept_warnings=self._asked.accept_warnings, outputs=outputs, shield=self._shield
        )

    def _job_of(self, path: Path) -> Job | TablesJob:
        """The job for one file, or for those of its sheets that are meant. Raises NoSuchSheet."""
        job = job_with(self._asked.job, Given(incoming=(str(path),)))
        if self._asked.sheets is None or isinstance(job, TablesJob):
            return job
        names = [name for name, *_ in open_source(str(path), ReadOptions()).sheets()]
        meant = [name for name in names if fnmatch(name, self._asked.sheets)]
        if names and not meant:
            raise NoSuchSheet(
                f"{path} has no sheet that fits {self._asked.sheets}.", sheet=self._asked.sheets, known=tuple(names)
            )
        return replace(job, incoming=tuple(f"{path}#{name}" for name in meant)) if meant else job

    def _done(self, path: Path, run: str, receipt: Receipt, beside: Beside, *, known: bool) -> None:
        place = path if self._asked.leave else finish(path, self._asked.folder, run, receipt, beside)
        went = "" if self._asked.leave else f" It went to {place.parent}."
        if known:
            self._say(Event("known", f"{path.name} was loaded before, by the run {run}.{went}", path.name, run))
            return
        rows = receipt.rows
        counts = {
            "inserted": rows.inserted, "updated": rows.updated, "unchanged": rows.unchanged, "skipped": rows.skipped,
            "rejected": rows.rejected, "removed": rows.removed,
        }  # fmt: skip
        told = ", ".join(f"{count:,} {word}" for word, count in counts.items() if count) or "no rows"
        self._say(Event("loaded", f"{path.name}: {told}.{went} Run {run}.", path.name, run, counts))

    def _hold(self, path: Path, checksum: str, error: TidyMergeError) -> None:
        """Let a file wait for a person."""
        warnings = error.receipt.warnings if isinstance(error, Stopped) else ()
        why = " ".join([*warnings, str(error)])
        if self._asked.leave:
            self._told.add(checksum)
            self._say(Event("held", f"{path.name} was not loaded, and stays: {why}", path.name))
            return

        def words(place: Path) -> str:
            return "\n".join([*warnings, self._asked.release(place, error)])

        place = hold(path, self._asked.folder, checksum, words)
        self._say(Event("held", f"{path.name} waits in {place.parent}: {why}", path.name))

    def _put_off(self, checksum: str, name: str, words: str) -> None:
        """Try again later: what stands in the way may go."""
        self._later[checksum] = time.monotonic() + _LATER
        if self._said.get(checksum) != words:
            self._said[checksum] = words
            self._say(Event("later", f"{name} could not be loaded yet: {words}.".replace("..", "."), name))


def _lacks_target(error: TidyMergeError, path: Path) -> bool:
    """Whether a file is missing that is not the one which arrived."""
    return isinstance(error, NoSuchFile) and path.exists()

"""Files that arrive in a folder: which are meant, which are complete, and where they go when they are done."""

import json
import time
from collections.abc import Callable, Iterator
from fnmatch import fnmatch
from pathlib import Path

from msgspec import Struct, field

from tidymerge.address import Address
from tidymerge.formats.files import FORMATS, ending_of
from tidymerge.model.receipt import Receipt
from tidymerge.on_disk import replacing, sync_folder

DONE, REJECTED, HELD = "done", "rejected", "held"
PRIVATE = ".tidymerge-watch"
_WHY = ".why.txt"


class Found(Struct):
    """Files that are complete, in their order; those on their way; and those that a spreadsheet program has open."""

    complete: list[Path] = field(default_factory=list)
    on_their_way: list[Path] = field(default_factory=list)
    open: list[Path] = field(default_factory=list)


class Arrivals:
    """The files of a folder that fit a pattern. One is complete when its size and time were at `rest` for so long."""

    def __init__(self, folder: Path, pattern: str, rest: float, *, by_time: bool) -> None:
        self.folder, self._pattern, self._rest, self._by_time = folder, pattern, rest, by_time
        self._seen: dict[Path, tuple[tuple[int, int, int], float]] = {}

    def look(self) -> Found:
        """The files that are there: complete, on their way, or open."""
        found = Found()
        for path in self._meant():
            if any(path.with_name(name).exists() for name in (f"~${path.name}", f".~lock.{path.name}#")):
                found.open.append(path)
            elif self._is_complete(path):
                found.complete.append(path)
            else:
                found.on_their_way.append(path)
        found.complete.sort(key=self._place)
        return found

    def _place(self, path: Path) -> tuple[float, str]:
        return (path.stat().st_mtime if self._by_time and path.exists() else 0.0, path.name)

    def _meant(self) -> Iterator[Path]:
        for path in self.folder.iterdir():
            known = ending_of(Address(path)) in FORMATS
            hidden = path.name.startswith((".", "~$"))
            if known and not hidden and fnmatch(path.name, self._pattern) and path.is_file() and not path.is_symlink():
                yield path

    def _is_complete(self, path: Path) -> bool:
        """Whether nothing happened to a file for a while."""
        try:
            found = path.stat()
        except OSError:  # it went again
            return False
        state, now = (found.st_ino, found.st_size, found.st_mtime_ns), time.monotonic()
        before = self._seen.get(path)
        if before is None or before[0] != state:
            self._seen[path] = before = (state, now)
        return time.time() - found.st_mtime >= self._rest or now - before[1] >= self._rest


class Beside(Struct, frozen=True):
    """What lies beside a file that is done: its rejected rows, its marked copy."""

    rejects: Path | None = None
    marked: Path | None = None


def finish(path: Path, root: Path, run: str, receipt: Receipt, beside: Beside) -> Path:
    """Move a loaded file to its place, last of all, with its receipt and what lies beside it. Raises OSError.

    All names come from the run's, so that whoever was cut off does the same again.
    """
    folder = root / (REJECTED if receipt.rows.rejected else DONE)
    folder.mkdir(exist_ok=True)
    for kept, word in ((beside.rejects, "rejects"), (beside.marked, "marked")):
        if kept is not None and kept.exists():
            kept.replace(folder / f"{path.stem}.{run}.{word}{kept.suffix}")
    with replacing(folder / f"{path.stem}.{run}.json") as new:
        new.write_text(json.dumps(receipt.to_dict(), indent=2, ensure_ascii=False), "utf-8")
    place = folder / path.name
    if place.exists():
        place = folder / f"{path.stem}.{run}{path.suffix}"
    path.replace(place)
    path.with_name(f"{path.name}{_WHY}").unlink(missing_ok=True)
    sync_folder(folder)
    return place


def hold(path: Path, root: Path, checksum: str, words: Callable[[Path], str]) -> Path:
    """Move a file that was stopped to where it waits for a person, with the reason beside it. Raises OSError."""
    folder = root / HELD
    folder.mkdir(exist_ok=True)
    place = folder / path.name
    if place.exists():
        place = folder / f"{path.stem}.{checksum[:8]}{path.suffix}"
    with replacing(place.with_name(f"{place.name}{_WHY}")) as new:
        new.write_text(f"{words(place)}\n", "utf-8")
    path.replace(place)
    sync_folder(folder)
    return place


def held(root: Path) -> list[Path]:
    """The files that wait for a person."""
    folder = root / HELD
    return (
        sorted(path for path in folder.iterdir() if path.is_file() and not path.name.endswith(_WHY))
        if folder.is_dir()
        else []
    )

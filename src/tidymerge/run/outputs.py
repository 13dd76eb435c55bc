"""The files that a run writes in addition to its target: where they may go. All is checked before anything is done."""

import os
import stat
from collections.abc import Callable, Iterator, Sequence
from importlib.util import find_spec
from pathlib import Path

from msgspec import Struct

from tidymerge.address import STANDARD_INPUT, is_server, parse
from tidymerge.errors import BadOption, MissingPackage
from tidymerge.job.model import Job, is_archive_file
from tidymerge.reports.ours import is_chart, is_drawing, is_page, is_script, is_summary, is_table, is_workbook
from tidymerge.settings import home

_CSV, _PARQUET = (".csv", ".csv.gz"), ".parquet"
_BESIDE_DATABASE = ("-journal", "-wal", "-shm")  # SQLite's own files: https://www.sqlite.org/tempfiles.html


class Outputs(Struct, frozen=True):
    """The files asked for, each None if it was not.

    Without `save_rejects`, rejected rows go to no file; else, without `rejects`, to a new one in the current folder.
    """

    rejects: Path | None = None  # the rejected rows
    marked: Path | None = None  # the sender's copy
    page: Path | None = None
    chart: Path | None = None
    summary: Path | None = None
    sql: Path | None = None  # the decided changes, to be read
    conflicts: Path | None = None  # of an undo
    changes: Path | None = None  # changed fields
    relations: Path | None = None  # of a database's tables
    draft: Path | None = None  # a job
    save_rejects: bool = True
    only_rejected: bool = False  # the rejected rows and the marked copy only where rows are rejected

    def check(
        self,
        job: Job | None = None,
        *,
        incoming: Sequence[str] = (),
        target: str | None = None,
        archives: Sequence[str] = (),
    ) -> None:
        """Make sure that no file is overwritten that was not meant. Raises BadOption and MissingPackage.

        Refused are what is read (`incoming`, the job), the target, `archives`, the log, one file for two things, and
        any file that is there already and that we did not write as the same kind of thing.
        """
        drawn = self.chart or self.relations
        if drawn is not None and find_spec("matplotlib") is None:
            raise MissingPackage(
                "Charts are drawn by a package that is not installed: pip install 'tidymerge[charts]'.",
                package="matplotlib",
            )
        if self.rejects is not None and not self.save_rejects:
            raise BadOption("The rejected rows are to go to a file, and to none: say one of both.")
        kept = [("the incoming rows", path) for path in _files([*incoming, *(job.incoming if job else ())])]
        kept += [("the target", path) for path in _files([target or (job.target if job else "")])]
        kept += [("the job", Path(job.file))] if job and job.file else []
        archives = [*archives, *(job.removal.archive.values() if job and job.removal else ())]
        kept += [("an archive", Path(archive)) for archive in archives if is_archive_file(archive)]
        for words, path, known in self._asked():
            _check_place(path, words)
            others = [other for other, there in kept if _is_same(path, there)]
            others += ["in the run log"] if (home() / "runs").resolve() in _resolved(path).parents else []
            if others:
                raise BadOption(f"{path} is asked for as {words}, but is {others[0]}. Name another file.")
            if path.exists() and path.stat().st_size and not known(path):
                raise BadOption(
                    f"{path} is there already, and is not {words} of an earlier run: it would be lost. Name another "
                    "file, or move that one away."
                )
            kept.append((words, path))

    def _asked(self) -> Iterator[tuple[str, Path, Callable[[Path], bool]]]:
        for name, (words, endings, known) in _KINDS.items():
            path = getattr(self, name)
            if path is None:
                continue
            if not path.name.lower().endswith(endings):
                listed = " or ".join(endings)
                raise BadOption(f"{path} must end in {listed}, as that is what is written to it.")
            yield words, path, known


_KINDS: dict[str, tuple[str, tuple[str, ...], Callable[[Path], bool]]] = {
    "rejects": ("the rejected rows", _CSV, is_table),
    "marked": ("the marked copy", (*_CSV, ".xlsx"), lambda path: is_workbook(path) or is_table(path)),
    "page": ("the page", (".html",), is_page),
    "summary": ("the summary", (".md",), is_summary),
    "sql": ("the script", (".sql",), is_script),
    "chart": ("the chart", (".png",), is_chart),
    "relations": ("the relations", (".png", ".svg"), is_drawing),
    "conflicts": ("the conflicts", _CSV, is_table),
    "draft": ("the job", ("",), lambda _: True),  # what stands in it is kept, if it is a job
    "changes": ("the changed fields", (*_CSV, ".jsonl", _PARQUET), is_table),
}


def _check_place(path: Path, words: str) -> None:
    folder = path.absolute().parent
    if not folder.is_dir():
        raise BadOption(f"There is no folder {path.parent} to write {words} to.")
    if path.exists() and not stat.S_ISREG(path.stat().st_mode):
        raise BadOption(f"{path} is no file that {words} could be written to.")
    if not os.access(folder, os.W_OK | os.X_OK):
        raise BadOption(f"Nothing may be written in the folder {folder}; name a file elsewhere for {words}.")


def _files(addresses: Sequence[str]) -> Iterator[Path]:
    """The files and folders that addresses lead to, and what a database keeps beside its own."""
    for text in addresses:
        if text and text != STANDARD_INPUT and not is_server(text):
            path = parse(text).path
            yield path
            yield from (path.with_name(f"{path.name}{ending}") for ending in _BESIDE_DATABASE if path.name)


def _is_same(path: Path, other: Path) -> bool:
    """Whether a path leads to the other file, also by a link or before it exists, or would be in its table."""
    if path.exists() and other.exists() and path.samefile(other):
        return True
    inside, there = _resolved(path), other.resolve()
    return inside in (there, _resolved(other)) or (path.suffix.lower() == _PARQUET and inside.parent == there)


def _resolved(path: Path) -> Path:
    """Where a new file of that name would be."""
    return path.absolute().parent.resolve() / path.name

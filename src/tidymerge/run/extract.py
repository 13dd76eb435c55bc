"""Taking rows out of a table, to be edited elsewhere and brought back by a load."""

from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.address import reopened
from tidymerge.core.words import counted
from tidymerge.errors import BadOption
from tidymerge.history.base_file import to_bytes
from tidymerge.history.folder import FolderLog
from tidymerge.history.who import user
from tidymerge.model.base import Base
from tidymerge.model.receipt import Action, Request, State
from tidymerge.model.run import Run
from tidymerge.on_disk import name_beside, place_new
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.reports.extract_file import TEXTS, Taken, check, write_parquet, write_text
from tidymerge.run.commit import full_address
from tidymerge.run.meanwhile import meanwhile
from tidymerge.run.opening import QUIET, opened
from tidymerge.run.record import recorded
from tidymerge.run.report import Clock
from tidymerge.run.taking import Extraction, Rows, taken_out


class Extracted(Struct, frozen=True):
    """What was taken out: by which run, from where, how many rows, which columns and others beside, to which file."""

    run: str
    target: str
    rows: int
    columns: tuple[str, ...]
    file: str
    notes: tuple[str, ...] = ()
    beside: tuple[str, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """As plain data."""
        return {
            "format": "tidymerge-extract/1", "run": self.run, "target": self.target, "rows": self.rows,
            "columns": list(self.columns), "file": self.file, "notes": list(self.notes),
            "beside": list(self.beside),
        }  # fmt: skip


def extract(asked: Extraction, progress: Progress = QUIET) -> Extracted:
    """Take rows out, and keep in the log what they are. Raises UsageError, TargetError, LogUnwritable."""
    check(asked.out, carried=asked.carry)
    clock, log = Clock.begin(named=True), FolderLog()
    name = clock.run or ""
    address = reopened(asked.target)
    request = Request(Action.EXTRACT, {}, asked.where, keys=asked.query)
    run = Run(name, State.EXTRACTED, clock.started, user(), address, files={str(asked.out): None}, request=request)
    draft = name_beside(asked.out)
    try:
        with recorded(log, run) as recording, _written(asked.out):
            with opened(asked.target, write=False, types=asked.types) as target:
                taken = taken_out(asked, target, clock, progress)
                guarded = asked.out.suffix.lower() in TEXTS
                base = Base(name, full_address(address, target.address), taken.key, taken.rows, guarded=guarded)
                progress.stage("writing the file", taken.rows.num_rows)
                with meanwhile(partial(to_bytes, base), break_off=lambda: None) as packed:
                    _write(asked, draft, taken, base, packed() if asked.carry else None, target)
                    kept = packed()
            recording.keep_base(kept)
            message = f"{counted(taken.rows.num_rows, 'row')} to {asked.out}"
            run = replace(run, target=base.target, key=taken.key, record_key=taken.key, message=message)
            recording.settle(run)  # before the file is there: nobody is to have one of which the log knows nothing
            try:
                place_new(draft, asked.out)
            except OSError as error:
                log.write(replace(run, state=State.FAILED, message=f"{asked.out}: {error.strerror or error}"))
                raise
    finally:
        draft.unlink(missing_ok=True)
    columns, beside = (tuple(table.column_names) for table in (taken.rows, taken.beside))
    return Extracted(name, base.target, taken.rows.num_rows, columns, str(asked.out), tuple(taken.notes), beside)


@contextmanager
def _written(path: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise BadOption(f"{path} can't be written: {error.strerror or error}. Nothing was taken out.") from None


def _write(asked: Extraction, draft: Path, taken: Rows, base: Base, carried: bytes | None, target: Target) -> None:
    """Write the file, in the form of its ending."""
    ending = asked.out.suffix.lower()
    rows = Taken(base.run, taken.in_full, asked.mark, carried)
    if ending in TEXTS:
        write_text(draft, rows)
    elif ending == ".parquet":
        write_parquet(draft, rows)
    else:
        from tidymerge.run.extract_book import write_workbook  # late: few forms need it

        write_workbook(draft, asked.out, taken, base, carried, target)

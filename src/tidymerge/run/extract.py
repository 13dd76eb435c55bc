"""Taking rows out of a table, to be edited elsewhere and brought back by a load."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.address import reopened, without_password
from tidymerge.core.infer.bounds import Bounds, bounds_of
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.words import counted
from tidymerge.errors import BadOption
from tidymerge.history.base_file import to_bytes
from tidymerge.history.folder import FolderLog
from tidymerge.history.who import user
from tidymerge.model import Kind, TableShape, TargetColumn
from tidymerge.model.base import ROW_MARK, Base
from tidymerge.model.receipt import Action, Request, State
from tidymerge.model.run import Run
from tidymerge.on_disk import name_beside, place_new
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Related, Target
from tidymerge.reports.extract_file import TEXTS, Taken, check, write_parquet, write_text
from tidymerge.run.commit import full_address
from tidymerge.run.opening import QUIET, opened
from tidymerge.run.record import recorded
from tidymerge.run.report import Clock
from tidymerge.run.taking import Extraction, Rows, taken_out

if TYPE_CHECKING:
    from tidymerge.formats.sheet.new_book import Choice

_MOST_CHOICES = 2_000  # of a list to choose from


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
                kept = to_bytes(base)
                progress.stage("writing the file", taken.rows.num_rows)
                _write(asked, draft, taken, base, kept if asked.carry else None, target)
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
    rows = Taken(base.run, _in_full(taken), asked.mark, carried)
    if ending in TEXTS:
        write_text(draft, rows)
    elif ending == ".parquet":
        write_parquet(draft, rows)
    else:
        _write_workbook(draft, asked, taken, base, carried, target)


def _in_full(taken: Rows) -> pa.Table:
    """The rows with what stands beside them."""
    rows = taken.rows
    for name in taken.beside.column_names:
        rows = rows.append_column(name, taken.beside[name])
    return rows


def _write_workbook(
    draft: Path, asked: Extraction, taken: Rows, base: Base, carried: bytes | None, target: Target
) -> None:
    from tidymerge.formats.sheet.new_book import MOST_ROWS, MOST_SIGNS, NewBook, SheetColumn, write_book

    if taken.rows.num_rows >= MOST_ROWS:
        raise BadOption(
            f"A sheet holds {MOST_ROWS - 1:,} rows; these are {taken.rows.num_rows:,}: take out fewer, or CSV."
        )
    told = bounds_of(taken.shape.checks)
    columns = []
    for name in taken.rows.column_names:
        column = taken.shape.column(name)
        values = as_array(taken.rows[name])
        kind = Kind.TEXT if pa.types.is_string(values.type) and column.type.kind is not Kind.TEXT else column.type.kind
        if pa.types.is_string(values.type):
            longest = pc.max(pc.utf8_length(values)).as_py() or 0
            if longest > MOST_SIGNS:
                raise BadOption(
                    f"{name} has a text of {longest:,} letters, and a cell holds {MOST_SIGNS:,}: leave the column out, "
                    "or take the rows out as CSV."
                )
        bounds = told.get(name, Bounds())
        columns.append(
            SheetColumn(
                name,
                kind,
                scale=column.type.scale or 0,
                key=name in taken.key,
                required=not column.nullable and not column.has_default,
                choice=_choice(column, taken.shape, taken.key, bounds, target),
                least=bounds.least,
                most=bounds.most,
                length=column.type.length,
            )
        )
    columns += [SheetColumn(name, Kind.TEXT, beside=True) for name in taken.beside.column_names]
    count, place = counted(taken.rows.num_rows, "row"), without_password(base.target)
    taken_out = f"These {count} of {place} were taken out by the run {base.run}."
    to_do = (
        "Correct cells, add rows at the end, sort and filter as you like. The shaded cells say which record a row is; "
        "they are locked, without a password."
    )
    back = (
        f"It goes back by: tidymerge preview {asked.out.name}, then tidymerge load {asked.out.name}. What others "
        "changed meanwhile stays; what both changed is said."
    )
    about = (taken_out, to_do, back)
    title = _title(taken.shape.name)
    book = NewBook(title, columns, about, base.run, ROW_MARK, carried)
    if asked.out.suffix.lower() == ".ods":
        from tidymerge.formats.sheet.new_ods import write_ods

        write_ods(draft, book, _in_full(taken))
    else:
        write_book(draft, book, _in_full(taken))


def _title(name: str) -> str:
    """A name for the sheet: up to 31 signs, none of which a sheet can't have."""
    kept = "".join("_" if sign in "[]:*?/\\" else sign for sign in name)[:31].strip("'") or "Rows"
    return kept if kept.casefold() not in ("about", "lists", "base") else f"{kept}_"


def _choice(
    column: TargetColumn, shape: TableShape, own: Sequence[str], bounds: Bounds, target: Target
) -> "Choice | None":
    """The values that a column may have, if they are few; `own` is the table's key."""
    from tidymerge.formats.sheet.new_book import Choice, spoiled

    listed = column.type.allowed or bounds.allowed
    if listed and column.type.kind is Kind.TEXT:
        return Choice(pa.array(listed, pa.string()))
    key = next((one for one in shape.foreign_keys if one.columns == (column.name,)), None)
    if key is None or not isinstance(target, Related):
        return None
    parent, records = target.sibling(key.table)
    if not 0 < records.num_rows <= _MOST_CHOICES:
        return None
    records = records.sort_by(key.referred[0])
    values = as_array(records[key.referred[0]])
    names = None if column.name in own else _readable(parent, key.referred[0])  # key columns stand together
    if values.type != column.type.arrow or (
        spoiled(values, column.type.kind).any() and column.type.kind is not Kind.TEXT
    ):
        return None
    return Choice(values, None if names is None else as_array(records[names]))


def _readable(parent: TableShape, key: str) -> str | None:
    """The column that says for people which record is meant: the first text that can't be blank, but for the key."""
    texts = [one for one in parent.columns if one.type.kind is Kind.TEXT and one.name != key and not one.foreign]
    unique = {names[0] for names in parent.unique if len(names) == 1}
    firm = [one.name for one in texts if not one.nullable]
    return next(iter([*firm, *(one.name for one in texts if one.name in unique)]), None)

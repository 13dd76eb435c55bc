"""Taking rows out of a table, to be edited elsewhere and brought back by a load."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.address import reopened, without_password
from tidymerge.core.decide.change import ChangePlan
from tidymerge.core.decide.columns import Surroundings
from tidymerge.core.infer.bounds import Bounds, bounds_of
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.core.naming.mapping import target_name
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.words import counted
from tidymerge.errors import BadOption
from tidymerge.history.base_file import to_bytes
from tidymerge.history.folder import FolderLog
from tidymerge.history.who import user
from tidymerge.model import Existing, Kind, Pair, Pairing, TableShape, TargetColumn
from tidymerge.model.base import ROW_MARK, Base
from tidymerge.model.receipt import Action, Request, State
from tidymerge.model.rules import ColumnRule
from tidymerge.model.run import Run
from tidymerge.on_disk import name_beside, place_new
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Related, Target
from tidymerge.reports.extract_file import TEXTS, Taken, check, write_parquet, write_text
from tidymerge.run.ask import equal_texts
from tidymerge.run.commit import full_address
from tidymerge.run.opening import QUIET, opened
from tidymerge.run.record import recorded
from tidymerge.run.records import condition, read_records, record_key
from tidymerge.run.report import Clock

if TYPE_CHECKING:
    from tidymerge.formats.sheet.new_book import Choice

_MOST_CHOICES = 2_000  # of a list to choose from


class Extraction(Struct, frozen=True):
    """What is to be taken out of a target: records that meet `where`, of them the columns `only`, to the file `out`.

    They are in the `order` of some columns, or of the `key` (empty: the target's own). The file may carry what the rows
    were (`carry`), and number them (`mark`) where it does not anyway.
    """

    target: str
    out: Path
    where: str | None = None
    only: tuple[str, ...] = ()
    order: tuple[str, ...] = ()
    key: tuple[str, ...] = ()
    carry: bool = False
    mark: bool = False
    types: dict[str, str] = field(default_factory=dict)


class Extracted(Struct, frozen=True):
    """What was taken out: by which run, from where, how many rows and columns, to which file."""

    run: str
    target: str
    rows: int
    columns: tuple[str, ...]
    file: str
    notes: tuple[str, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """As plain data."""
        return {
            "format": "tidymerge-extract/1", "run": self.run, "target": self.target, "rows": self.rows,
            "columns": list(self.columns), "file": self.file, "notes": list(self.notes),
        }  # fmt: skip


def extract(asked: Extraction, progress: Progress = QUIET) -> Extracted:
    """Take rows out, and keep in the log what they are. Raises UsageError, TargetError, LogUnwritable."""
    check(asked.out, carried=asked.carry)
    clock, log = Clock.begin(named=True), FolderLog()
    name = clock.run or ""
    address = reopened(asked.target)
    request = Request(Action.EXTRACT, {}, asked.where)
    run = Run(name, State.EXTRACTED, clock.started, user(), address, files={str(asked.out): None}, request=request)
    draft = name_beside(asked.out)
    try:
        with recorded(log, run) as recording, _written(asked.out):
            with opened(asked.target, write=False, types=asked.types) as target:
                taken = _taken(asked, target, clock, progress)
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
    columns = tuple(taken.rows.column_names)
    return Extracted(name, base.target, taken.rows.num_rows, columns, str(asked.out), tuple(taken.notes))


@contextmanager
def _written(path: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise BadOption(f"{path} can't be written: {error.strerror or error}. Nothing was taken out.") from None


class _Rows(Struct):
    """The rows, in order, with their key and the shape of their table."""

    rows: pa.Table
    key: tuple[str, ...]
    shape: TableShape
    notes: list[str] = field(default_factory=list)


def _taken(asked: Extraction, target: Target, clock: Clock, progress: Progress) -> _Rows:
    """Read the records that are meant."""
    shape = target.describe()
    key = record_key(asked.key, shape)
    wanted = {target_name(shape, name) for name in asked.only} | set(key)
    columns = [one for one in shape.columns if one.loadable and (not asked.only or one.name in wanted)]
    columns = [*(one for one in columns if one.name in key), *(one for one in columns if one.name not in key)]
    order = [_ordering(text, shape) for text in asked.order]
    beside = tuple(name for name, _ in order)
    plan = ChangePlan(
        shape, _pairing(columns, key), (), condition(asked.where, shape), Surroundings(clock.started), beside
    )
    progress.stage("reading the records", target.about_how_many)
    read = read_records(plan, shape, target, progress)
    if read.several is not None and read.several.any():
        raise BadOption(
            f"{counted(int(read.several.sum()), 'record')} of {shape.name} share their {' + '.join(key)} with others, "
            "so a row could not be told apart when it comes back: say by which columns, or take out others.",
            give=((("key", "COLUMN"),),),
        )
    existing = read.existing
    sorting = order or [(name, "ascending") for name in key]
    if existing.values.num_rows:
        at = pc.sort_indices(
            existing.values.select(list(dict.fromkeys(name for name, _ in sorting))), sort_keys=sorting
        )
        existing = Existing(
            existing.values.take(at), existing.places.take(at), complete=False,
            unreadable={name: mask[at.to_numpy()] for name, mask in existing.unreadable.items()},
        )  # fmt: skip
    rows = _with_exact(existing, [c for c in columns if c.name in existing.unreadable], plan.pairing, target)
    notes = []
    if read.unclear:
        notes.append(f"{counted(read.unclear, 'record')} left out: the condition can't be worked out there.")
    return _Rows(rows.select([column.name for column in columns]), key, shape, notes)


def _ordering(text: str, shape: TableShape) -> tuple[str, str]:
    """A column by which rows are put in order, and how. Raises NoSuchColumn."""
    name, _, how = text.rpartition(" ")
    if name and how.lower() in ("desc", "asc"):
        return target_name(shape, name.strip()), "descending" if how.lower() == "desc" else "ascending"
    return target_name(shape, text), "ascending"


def _pairing(columns: Sequence[TargetColumn], key: Sequence[str]) -> Pairing:
    pairs = tuple(Pair(column, column.name, ColumnRule(sources=(column.name,))) for column in columns)
    return Pairing(pairs, tuple(key), (), ())


def _with_exact(existing: Existing, odd: Sequence[TargetColumn], pairing: Pairing, target: Target) -> pa.Table:
    """The values, with the target's exact text for columns that hold what is not of their type."""
    values = existing.values
    if not odd:
        return values
    key = pairing.key_columns
    keys = values.select(pairing.key)
    found = target.fetch([*key, *(column.as_stored() for column in odd if column.name not in pairing.key)], key, keys)
    equal = by_number(equal_texts(target, key, texts_to_tell([keys, found.values], key)))
    at = pa.array(match(code_keys(keys, found.values, key, equal)).record)
    for column in odd:
        if column.name not in pairing.key:
            place = values.column_names.index(column.name)
            texts = as_array(found.values[column.name]).take(at)
            shown = pa.table({column.name: texts})
            values = values.set_column(place, column.name, as_array(target.readable(shown)[column.name]))
    return values


def _write(asked: Extraction, draft: Path, taken: _Rows, base: Base, carried: bytes | None, target: Target) -> None:
    """Write the file, in the form of its ending."""
    ending = asked.out.suffix.lower()
    rows = Taken(base.run, taken.rows, asked.mark, carried)
    if ending in TEXTS:
        write_text(draft, rows)
    elif ending == ".parquet":
        write_parquet(draft, rows)
    else:
        _write_workbook(draft, asked, taken, base, carried, target)


def _write_workbook(
    draft: Path, asked: Extraction, taken: _Rows, base: Base, carried: bytes | None, target: Target
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

        write_ods(draft, book, taken.rows)
    else:
        write_book(draft, book, taken.rows)


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

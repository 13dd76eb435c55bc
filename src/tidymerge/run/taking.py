"""Which rows are taken out of a table: those that meet a condition, or those of a query; as they are then."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field

from tidymerge.address import without_fragment
from tidymerge.core.decide.change import ChangePlan
from tidymerge.core.decide.columns import Surroundings
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.core.naming.mapping import fold, target_name
from tidymerge.core.tidy.cells import as_array, mask_of
from tidymerge.core.tidy.convert import as_text, cast_cells
from tidymerge.core.words import counted
from tidymerge.errors import BadOption
from tidymerge.model import Existing, Incoming, Indices, Pair, Pairing, ReadOptions, TableShape, TargetColumn
from tidymerge.model.rules import ColumnRule
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.ask import equal_texts
from tidymerge.run.records import condition, read_records, record_key
from tidymerge.run.report import Clock
from tidymerge.sources import open_source


class Extraction(Struct, frozen=True):
    """What is to be taken out of a target: records that meet `where`, of them the columns `only`, to the file `out`.

    Or they are those that the rows of a `query` name by their key. They are in the `order` of some columns, or of the
    `key` (empty: the target's own). The file may carry what the rows were (`carry`), and number them (`mark`) where it
    does not anyway.
    """

    target: str
    out: Path
    where: str | None = None
    query: str | None = None
    only: tuple[str, ...] = ()
    order: tuple[str, ...] = ()
    key: tuple[str, ...] = ()
    carry: bool = False
    mark: bool = False
    types: dict[str, str] = field(default_factory=dict)


class Rows(Struct):
    """The rows, in order, with their key and the shape of their table; and further columns of a query, as text."""

    rows: pa.Table
    key: tuple[str, ...]
    shape: TableShape
    beside: pa.Table
    notes: list[str] = field(default_factory=list)

    @property
    def in_full(self) -> pa.Table:
        """The rows with what stands beside them."""
        rows = self.rows
        for name in self.beside.column_names:
            rows = rows.append_column(name, self.beside[name])
        return rows


def taken_out(asked: Extraction, target: Target, clock: Clock, progress: Progress) -> Rows:
    """Read the records that are meant. Raises UsageError and TargetError."""
    shape = target.describe()
    key = record_key(asked.key, shape)
    progress.stage("reading the records", target.about_how_many)
    if asked.query is not None:
        return _by_query(asked, asked.query, target, shape, key)
    wanted = {target_name(shape, name) for name in asked.only} | set(key)
    columns = _keys_first(
        [one for one in shape.columns if one.loadable and (not asked.only or one.name in wanted)], key
    )
    order = [_ordering(text, shape) for text in asked.order]
    plan = ChangePlan(
        shape, _pairing(columns, key), (), condition(asked.where, shape), Surroundings(clock.started),
        tuple(name for name, _ in order),
    )  # fmt: skip
    read = read_records(plan, shape, target, progress)
    if read.several is not None and read.several.any():
        raise _shared(int(read.several.sum()), shape, key)
    existing = _sorted(read.existing, order or [(name, "ascending") for name in key])
    rows = _with_exact(existing, columns, plan.pairing, target)
    unclear = f"{counted(read.unclear, 'record')} left out: the condition can't be worked out there."
    return Rows(rows, key, shape, pa.table({}), [unclear] if read.unclear else [])


def _keys_first(columns: Sequence[TargetColumn], key: Sequence[str]) -> list[TargetColumn]:
    return sorted(columns, key=lambda column: column.name not in key)


def _shared(count: int, shape: TableShape, key: Sequence[str]) -> BadOption:
    return BadOption(
        f"{counted(count, 'record')} of {shape.name} share their {' + '.join(key)} with others, so a row could not be "
        "told apart when it comes back: say by which columns, or take out others.",
        give=((("key", "COLUMN"),),),
    )


def _sorted(existing: Existing, order: Sequence[tuple[str, str]]) -> Existing:
    """The records in the order of some columns."""
    if not existing.values.num_rows:
        return existing
    sought = existing.values.select(list(dict.fromkeys(name for name, _ in order)))
    if _is_sorted(sought, order):
        return existing
    return _at(existing, pc.sort_indices(sought, sort_keys=list(order)).to_numpy())


def _is_sorted(values: pa.Table, order: Sequence[tuple[str, str]]) -> bool:
    """Whether rows are in ascending order already, as a table often gives them by its key."""
    equal = np.ones(max(values.num_rows - 1, 0), bool)
    for name, how in order:
        column = as_array(values[name])
        if how != "ascending" or column.null_count:
            return False
        one, other = column.slice(0, len(column) - 1), column.slice(1)
        if (equal & mask_of(pc.greater(one, other))).any():
            return False
        equal &= mask_of(pc.equal(one, other))
    return True


def _at(existing: Existing, records: Indices) -> Existing:
    at = pa.array(records)
    unreadable = {name: mask[records] for name, mask in existing.unreadable.items()}
    return Existing(existing.values.take(at), existing.places.take(at), complete=False, unreadable=unreadable)


def _by_query(asked: Extraction, query: str, target: Target, shape: TableShape, key: tuple[str, ...]) -> Rows:
    """The records that the rows of a query name by their key; what else it says stands beside them."""
    if asked.where or asked.only or asked.order:
        raise BadOption("A query says itself which rows and columns it gives, and in which order.")
    found = open_source(without_fragment(asked.target), ReadOptions(query=query)).read(0)
    own = {fold(column.name): column for column in shape.columns if column.loadable}
    fed = {own[fold(one.name)].name: one.name for one in found.columns if fold(one.name) in own}
    lacking = [name for name in key if name not in fed]
    if lacking:
        raise BadOption(f"The query's rows lack {lacking[0]}, which tells the records of {shape.name} apart.")
    columns = _keys_first([column for column in shape.columns if column.name in fed], key)
    pairing = _pairing(columns, key)
    keys = pa.table({column.name: _cast(found, fed[column.name], column) for column in pairing.key_columns})
    existing = target.fetch(columns, pairing.key_columns, keys)
    equal = by_number(
        equal_texts(target, pairing.key_columns, texts_to_tell([keys, existing.values], pairing.key_columns))
    )
    codes = code_keys(keys, existing.values, pairing.key_columns, equal)
    matches = match(codes)
    there = np.flatnonzero(matches.times > 0)
    again = len(there) - len(np.unique(matches.record[there]))
    if again or (matches.times > 1).any():
        raise _shared(again or int((matches.times > 1).sum()), shape, key)
    lost = len(matches.times) - len(there)
    rows = _with_exact(_at(existing, matches.record[there]), columns, pairing, target)
    beside = {one.name: as_text(one).take(pa.array(there)) for one in found.columns if one.name not in fed.values()}
    notes = [f"{counted(lost, 'row')} of the query left out: {shape.name} has no record of that key."] if lost else []
    return Rows(rows, key, shape, pa.table(beside), notes)


def _cast(rows: Incoming, name: str, column: TargetColumn) -> pa.Array:
    return cast_cells(list(rows.column(name).arrays), column.type, len(rows.row_numbers)).values


def _ordering(text: str, shape: TableShape) -> tuple[str, str]:
    """A column by which rows are put in order, and how. Raises NoSuchColumn."""
    name, _, how = text.rpartition(" ")
    if name and how.lower() in ("desc", "asc"):
        return target_name(shape, name.strip()), "descending" if how.lower() == "desc" else "ascending"
    return target_name(shape, text), "ascending"


def _pairing(columns: Sequence[TargetColumn], key: Sequence[str]) -> Pairing:
    pairs = tuple(Pair(column, column.name, ColumnRule(sources=(column.name,))) for column in columns)
    return Pairing(pairs, tuple(key), (), ())


def _with_exact(existing: Existing, columns: Sequence[TargetColumn], pairing: Pairing, target: Target) -> pa.Table:
    """The values of the columns, with the target's exact text for those that hold what is not of their type."""
    values = existing.values.select([column.name for column in columns])
    odd = [column for column in columns if column.name in existing.unreadable]
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

"""Looking at an address: what the sheets, tables and columns are. The `look` command's own flow."""

from collections.abc import Mapping
from datetime import UTC, datetime

import numpy as np
import pyarrow as pa
from msgspec import Struct

from tidymerge.address import parse
from tidymerge.core.decide.change import ChangePlan, meeting, only
from tidymerge.core.decide.columns import Surroundings
from tidymerge.core.decide.conditions import rows_meeting
from tidymerge.core.explain.relations import Node, Relation
from tidymerge.core.infer.profile import Profile, profile, table_columns
from tidymerge.core.infer.spellings import Values, values_of
from tidymerge.core.naming.header import ROWS_SEARCHED, guess_header
from tidymerge.core.naming.mapping import incoming_name, target_name
from tidymerge.core.tidy.cells import as_array, shown
from tidymerge.core.tidy.convert import as_text, tidy_arrays
from tidymerge.core.tidy.fill import merged_notes
from tidymerge.databases import is_database
from tidymerge.errors import BadOption
from tidymerge.model import IncomingColumn, Pair, Pairing, ReadOptions
from tidymerge.model.rules import ColumnRule
from tidymerge.ports.target import AmongOthers, Target
from tidymerge.run.records import condition
from tidymerge.sources import open_source
from tidymerge.targets import open_target

FORMAT, VALUES = "tidymerge-look/1", "tidymerge-values/1"  # of what is printed for programs


class Overview(Struct, frozen=True):
    """The sheets of a workbook, or the tables of a database (`kind`): name, rows and columns of each.

    Of tables also their primary keys, and how they refer to each other.
    """

    address: str
    kind: str
    tables: tuple[tuple[str, int, int], ...]
    keys: Mapping[str, tuple[str, ...]] = {}
    relations: tuple[Relation, ...] = ()

    @property
    def nodes(self) -> list[Node]:
        """The tables with their keys."""
        return [Node(name, rows, columns, self.keys.get(name, ())) for name, rows, columns in self.tables]


class View(Struct, frozen=True):
    """One sheet or table: where it is, what is in it, its declared keys, and notes."""

    address: str
    header_row: int | None
    profile: Profile
    primary_key: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    notes: tuple[str, ...] = ()


def look(text: str, options: ReadOptions, header_row: int | None = None) -> Overview | View:
    """What is at an address. Raises what opening it raises."""
    if is_database(text):
        return _database(text)
    source = open_source(text, options)
    if parse(text).fragment is None and len(source.sheets()) > 1:
        return Overview(str(parse(text).path), "sheet", source.sheets())
    if header_row is not None and header_row < 1:
        raise BadOption("Rows count from 1, so the row of the column names is 1 or more.")
    row = header_row - 1 if header_row is not None else guess_header(source.head(ROWS_SEARCHED))
    incoming = source.read(row)
    notes = (*incoming.notes, *merged_notes(incoming))
    return View(incoming.address, incoming.header_row, profile(incoming.columns), notes=notes)


def look_at_values(
    text: str, column: str, options: ReadOptions, header_row: int | None = None, where: str | None = None
) -> Values:
    """All different values of a column, of the rows that meet a condition. Raises what opening it raises."""
    if is_database(text):
        return _stored_values(text, column, where)
    source = open_source(text, options)
    row = header_row - 1 if header_row is not None else guess_header(source.head(ROWS_SEARCHED))
    rows = source.read(row)
    if where is not None:
        rows = rows.only(np.flatnonzero(rows_meeting(rows, where, datetime.now(UTC))))
    found = rows.column(incoming_name([one.name for one in rows.columns], column))
    arrays = tuple(tidy_arrays(found.arrays))
    texts = as_text(IncomingColumn(found.name, arrays)) if arrays else pa.nulls(len(rows.row_numbers), pa.string())
    return _values(found.name, texts)


def _stored_values(text: str, column: str, where: str | None) -> Values:
    with open_target(text, write=False) as target:
        shape = target.describe()
        one = shape.column(target_name(shape, column))
        pairing = Pairing((Pair(one, one.name, ColumnRule(sources=(one.name,))),), (), (), ())
        plan = ChangePlan(shape, pairing, (), condition(where, shape), Surroundings(datetime.now(UTC)))
        batches = target.read_in_batches(plan.columns_read, (), plan.terms)
        parts = [shown(as_array(only(batch, meeting(plan, batch).records).values[one.name])) for batch in batches]
    return _values(one.name, pa.concat_arrays(parts) if parts else pa.nulls(0, pa.string()))


def _values(name: str, texts: pa.Array) -> Values:
    (told,) = profile([IncomingColumn(name, (texts,))]).columns
    return values_of(name, texts, words=told.kind == "text")


def _database(text: str) -> Overview | View:
    address = parse(text)
    with open_target(text, write=False) as target:
        if address.fragment is None:
            return _overview(address.place, target)
        shape = target.describe()
        readable = [column for column in shape.columns if not column.foreign]
        values = target.read(readable)
        declared = [column.type.declared for column in readable]
        others = [f"{column.name} ({column.type.declared})" for column in shape.columns if column.foreign]
        notes = (f"Of a type that rows can't be loaded into: {', '.join(others)}.",) if others else ()
        found = profile(table_columns(values), declared)
        return View(target.address, None, found, shape.primary_key, shape.unique, notes)


def _overview(place: str, target: Target) -> Overview:
    """All tables of a database, with their keys and relations."""
    if not isinstance(target, AmongOthers):
        return Overview(place, "table", ())
    tables = target.tables()
    shapes = {name: target.beside(name).describe() for name, *_ in tables}
    relations = tuple(
        Relation(name, key.columns, key.table, key.referred)
        for name, shape in shapes.items()
        for key in shape.foreign_keys
    )
    return Overview(place, "table", tables, {name: shape.primary_key for name, shape in shapes.items()}, relations)

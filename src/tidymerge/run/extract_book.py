"""The workbook that rows are taken out to: what its columns may hold, and what it says of itself."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.address import without_password
from tidymerge.core.infer.bounds import Bounds, bounds_of
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.words import counted
from tidymerge.errors import BadOption
from tidymerge.formats.sheet.extracted import ABOUT_SHEET, BASE_SHEET, LISTS_SHEET
from tidymerge.formats.sheet.new_book import MOST_ROWS, MOST_SIGNS, Choice, NewBook, SheetColumn, spoiled, write_book
from tidymerge.model import Kind, TableShape, TargetColumn
from tidymerge.model.base import ROW_MARK, Base
from tidymerge.ports.target import Related, Target
from tidymerge.run.taking import Rows

_MOST_CHOICES = 2_000  # of a list to choose from


def write_workbook(draft: Path, out: Path, taken: Rows, base: Base, carried: bytes | None, target: Target) -> None:
    """Write the rows to `draft`, which is to be `out`. Raises BadOption where a sheet can't hold them, and OSError."""
    if taken.rows.num_rows >= MOST_ROWS:
        raise BadOption(
            f"A sheet holds {MOST_ROWS - 1:,} rows; these are {taken.rows.num_rows:,}: take out fewer, or CSV."
        )
    told = bounds_of(taken.shape.checks)
    columns = [_column(name, taken, told, target) for name in taken.rows.column_names]
    columns += [SheetColumn(name, Kind.TEXT, beside=True) for name in taken.beside.column_names]
    book = NewBook(_title(taken.shape.name), columns, _about(taken, base, out), base.run, ROW_MARK, carried)
    if out.suffix.lower() == ".ods":
        from tidymerge.formats.sheet.new_ods import write_ods  # its library need not be there

        write_ods(draft, book, taken.in_full)
    else:
        write_book(draft, book, taken.in_full)


def _column(name: str, taken: Rows, told: Mapping[str, Bounds], target: Target) -> SheetColumn:
    """What a column of the sheet may hold."""
    column, values = taken.shape.column(name), as_array(taken.rows[name])
    kind = column.type.kind
    if pa.types.is_string(values.type):
        kind = Kind.TEXT
        longest = pc.max(pc.utf8_length(values)).as_py() or 0
        if longest > MOST_SIGNS:
            raise BadOption(
                f"{name} has a text of {longest:,} letters, and a cell holds {MOST_SIGNS:,}: leave the column out, or "
                "take the rows out as CSV."
            )
    bounds = told.get(name, Bounds())
    return SheetColumn(
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


def _about(taken: Rows, base: Base, out: Path) -> tuple[str, ...]:
    """What the workbook is, and how it goes back, in three lines."""
    count, place = counted(taken.rows.num_rows, "row"), without_password(base.target)
    taken_out = f"These {count} of {place} were taken out by the run {base.run}."
    to_do = (
        "Correct cells, add rows at the end, sort and filter as you like. The shaded cells say which record a row is; "
        "they are locked, without a password."
    )
    back = (
        f"It goes back by: tidymerge preview {out.name}, then tidymerge load {out.name}. What others changed meanwhile "
        "stays; what both changed is said."
    )
    return taken_out, to_do, back


def _title(name: str) -> str:
    """A name for the sheet: up to 31 signs, none of which a sheet can't have."""
    kept = "".join("_" if sign in "[]:*?/\\" else sign for sign in name)[:31].strip("'") or "Rows"
    taken = {name.casefold() for name in (ABOUT_SHEET, LISTS_SHEET, BASE_SHEET)}
    return f"{kept[:30]}_" if kept.casefold() in taken else kept


def _choice(
    column: TargetColumn, shape: TableShape, own: Sequence[str], bounds: Bounds, target: Target
) -> Choice | None:
    """The values that a column may have, if they are few; `own` is the table's key."""
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

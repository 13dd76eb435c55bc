"""A job of several tables, proposed from a workbook and a database: which sheet feeds which table, and how."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import pyarrow as pa
import tomlkit
from msgspec import Struct

from tidymerge.address import without_password
from tidymerge.core.infer.fits import fits
from tidymerge.core.infer.propose import Parents, propose
from tidymerge.core.match.family import family
from tidymerge.core.naming.mapping import fold
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.tidy.convert import as_text, cast_cells
from tidymerge.core.words import counted
from tidymerge.errors import BadOption
from tidymerge.job.reading import parse_job
from tidymerge.model import Incoming, ReadOptions, TableShape
from tidymerge.ports.target import AmongOthers, Target
from tidymerge.run.draft import filled, read_rows, told_key, written_from
from tidymerge.sources import open_source
from tidymerge.targets import is_workbook, open_target


class _Fed(Struct, frozen=True):
    """A sheet that feeds a table, which is `called` so in its place: its rows, and the row of names if not found."""

    sheet: str
    called: str
    target: Target
    shape: TableShape
    rows: Incoming
    header_row: int | None


def draft_tables(incoming: str, into: str, path: Path, read: ReadOptions) -> tuple[str, list[str]]:
    """The text of the job file, and what to tell the person.

    A sheet feeds the table that is called like it, and those of which it has a key and something beside it. Raises
    BadOption where no sheet feeds any, or the file is there already.
    """
    if path.exists():
        raise BadOption(f"{path} is there already: a draft of several tables is written to a new file.")
    filled_sheets = [name for name, rows, _ in open_source(into, read).sheets() if rows] if is_workbook(into) else []
    with open_target(f"{into}#{filled_sheets[0]}" if filled_sheets else into, write=False) as target:
        fed = _fed(incoming, target, read)
        if not fed:
            raise BadOption(
                f"No sheet of {incoming} is called like a table of {without_password(into)}, or has the columns of "
                "one: name a sheet and a table."
            )
        shapes = {one.shape.name: one.shape for one in fed}
        order = family(list(shapes.values()), {name: shape.primary_key for name, shape in shapes.items()}).order
        known = {name: _known(name, fed) for name in shapes}
        parts, said = [], []
        for one in sorted(fed, key=lambda one: order.index(one.shape.name)):
            part, told = _part(one, into, path, read, known)
            parts.append(part)
            said.append(told)
    head = f"[incoming]\nat = {tomlkit.item(written_from(incoming, path.parent)).as_string()}\n"
    text = "\n".join([head, *parts])
    parse_job(text, str(path))
    fed_sheets = {one.sheet for one in fed}
    lone = [name for name, *_ in open_source(incoming, read).sheets() if name not in fed_sheets]
    return text, [
        f"Wrote {path}: {counted(len(parts), 'table')}, parents first.", *said,
        *(f"The sheet {name} feeds no table." for name in lone),
    ]  # fmt: skip


def _fed(incoming: str, target: Target, read: ReadOptions) -> list[_Fed]:
    """Which sheets feed which tables."""
    assert isinstance(target, AmongOthers)  # noqa: S101 - it is a database or a workbook
    called = [name for name, rows, _ in target.tables() if rows or not is_workbook(target.address)]
    tables = [target.beside(name) for name in called]
    shapes = [table.describe() for table in tables]
    values = [
        table.read([column for column in shape.columns if not column.foreign])
        for table, shape in zip(tables, shapes, strict=True)
    ]
    found = []
    for sheet in [name for name, rows, _ in open_source(incoming, read).sheets() if rows]:
        for name, table, shape, records in zip(called, tables, shapes, values, strict=True):
            rows, header_row = read_rows(open_source(f"{incoming}#{sheet}", read), shape, None, None)
            names = {fold(column.called or column.name) for column in rows.columns}
            own = {column.name for column in shape.columns if column.loadable and fold(column.name) in names}
            own |= set(fits(rows, shape, records))
            keys = [set(key) for key in (shape.primary_key, *shape.unique, told_key(shape, records)) if key]
            referring = {name for key in shape.foreign_keys for name in key.columns}
            has_key = any(key <= own and own - key - referring for key in keys)
            if own and (fold(sheet) in (fold(name), fold(shape.name)) or has_key):
                found.append(_Fed(sheet, name, table, shape, rows, header_row))
    return found


def _known(name: str, fed: Sequence[_Fed]) -> tuple[TableShape, pa.Table]:
    """A table's records, and behind them what sheets bring for it by columns of the same name."""
    first = next(one for one in fed if one.shape.name == name)
    columns = [column for column in first.shape.columns if not column.foreign]
    parts = [first.target.read(columns)]
    for one in fed:
        if one.shape.name == name:
            length = len(one.rows.row_numbers)
            brought = {fold(column.called or column.name): column for column in one.rows.columns}
            values = {}
            for column in columns:
                source = brought.get(fold(column.name))
                cells = [] if source is None else [as_text(source)]
                values[column.name] = cast_cells(cells, column.type, length).values
            parts.append(pa.table(values))
    return first.shape, pa.concat_tables(parts).combine_chunks()


def _part(
    fed: _Fed, into: str, path: Path, read: ReadOptions, known: Mapping[str, tuple[TableShape, pa.Table]]
) -> tuple[str, str]:
    """One [[table]] of the job, and what to tell of it."""
    shape = fed.shape
    parents: Parents = {key.table: _parent(fed, key.table, known) for key in shape.foreign_keys}
    existing = fed.target.read([column for column in shape.columns if not column.foreign])
    proposals = propose(fed.rows, shape, existing, parents)
    document = tomlkit.document()
    address = f"{written_from(into, path.parent)}#{fed.called}"
    told = told_key(shape, existing)
    filled(document, (f"#{fed.sheet}", address), fed.rows, shape, proposals, read, fed.header_row, told)
    sections = {name: tomlkit.dumps({name: document[name]}) for name in ("incoming", "target", "columns")}
    rows, target, columns = (text.partition("\n")[2].strip("\n") for text in sections.values())
    rows = rows.replace("at = ", "rows = ", 1)
    text = f"[[table]]\n{rows}\n{target}\n[table.columns]\n{columns}\n"
    names = [proposal.target for proposal in proposals if proposal.rule is not None]
    asked = [proposal.target for proposal in proposals if proposal.open]
    look = f"; to look at: {', '.join(asked)}" if asked else ""
    return text, f"  {fed.sheet} into {fed.called}: {', '.join(names)}{look}."


def _parent(fed: _Fed, table: str, known: Mapping[str, tuple[TableShape, pa.Table]]) -> tuple[TableShape, pa.Table]:
    """What a table holds that one refers to, with what comes for it."""
    if table in known:
        return known[table]
    assert isinstance(fed.target, AmongOthers)  # noqa: S101 - it has foreign keys
    shape, values = fed.target.sibling(table)
    return shape, pa.table({name: as_array(values[name]) for name in values.column_names})

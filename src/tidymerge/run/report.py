"""From what was decided to the receipt and the rejects, over all the parts of a load."""

import secrets
import time
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.address import is_server, parse
from tidymerge.core.account import account
from tidymerge.core.explain import samples
from tidymerge.core.explain.marks import marks_of, together
from tidymerge.core.explain.rejects import first_rejects, rejected_rows, rejects_table
from tidymerge.core.tidy.convert import as_text
from tidymerge.core.tidy.corrected import TABLE
from tidymerge.core.tidy.tidying import guard
from tidymerge.core.warn.limits import Excess
from tidymerge.errors import BadOption
from tidymerge.model import Incoming
from tidymerge.model.receipt import Example, Receipt, RejectedCell, Rejects, SampleRow, State, TableReceipt, Touch
from tidymerge.on_disk import Placed
from tidymerge.reports import rejects_file
from tidymerge.reports.ours import CLASH
from tidymerge.run.decided import Decided

if TYPE_CHECKING:
    from tidymerge.reports.marked_file import Marked

_CLASH = ("row", "key", "column", CLASH, "conflict: sheet", "conflict: now")
_CONFLICTS_LISTED = 1000  # in the receipt; the file of conflicts has them all
_REJECTS_SHOWN = 10  # of each reason, in the receipt; the rejects file has them all
_UPDATES_SHOWN, _INSERTS_SHOWN = 2, 1


class Clock(Struct, frozen=True):
    """When the run began, and its name: no two loads have the same, previews have none."""

    started: datetime
    began: float
    run: str | None = None

    @classmethod
    def begin(cls, *, named: bool) -> "Clock":
        """The clock of a run that begins now."""
        now = datetime.now(UTC)
        # Names sort by time, to the millisecond.
        name = f"{now:%Y%m%d-%H%M%S}-{now.microsecond // 1000:03d}{secrets.token_hex(2)}" if named else None
        return cls(now, time.perf_counter(), name)


def all_rejects(decided: Decided) -> pa.Table:
    """The rejected rows of all parts, in the order of the incoming rows."""
    parts = [part for part in decided.parts if decided.tally.rejected and len(rejected_rows(part.changes))]
    tables = [rejects_table(*part.of_rows()) for part in parts or decided.parts[:1]]
    if len(tables) == 1:
        return tables[0]
    numbers = [part.incoming().row_numbers[rejected_rows(part.changes)] for part in parts]
    return pa.concat_tables(tables).take(pa.array(np.argsort(np.concatenate(numbers), kind="stable")))


def save_rejects(decided: Decided, path: Path | None, incoming: str) -> Placed:
    """Write the rejected rows as CSV; without a path to a new file in the current folder. Raises BadOption."""
    table = all_rejects(decided) if not decided.beside else _rejects_of_tables(decided)
    return rejects_file.save_new(table, incoming, Path()) if path is None else rejects_file.save(table, path)


def _rejects_of_tables(decided: Decided) -> pa.Table:
    """The rejected records of several tables, with the name of each one's table; columns of others are empty."""
    tables = []
    for one in decided.all:
        if one.tally.rejected:
            rejects = all_rejects(one)
            name = guard(pa.array([one.shape.name])).take(pa.array(np.zeros(rejects.num_rows, np.int64)))
            tables.append(rejects.add_column(0, TABLE, name))
    return pa.concat_tables(tables, promote_options="default") if tables else all_rejects(decided)


def save_clashes(decided: Decided, path: Path) -> Placed:
    """Write the fields that a sheet which came back and others both changed. Raises BadOption."""
    found = [
        (int(part.incoming().row_numbers[row]), *values)
        for part in decided.parts
        if (clashes := part.changes.clashes) is not None
        for row, *values in zip(
            clashes.rows.tolist(), clashes.keys, clashes.columns, clashes.was, clashes.sheet, clashes.now, strict=True
        )
    ]
    columns = list(zip(*found, strict=True)) if found else [()] * len(_CLASH)
    texts = [pa.array([None if one is None else str(one) for one in column], pa.string()) for column in columns]
    return rejects_file.save(pa.table([guard(text) for text in texts], names=list(_CLASH)), path)


def save_conflicts(decided: Decided, key: Sequence[str], path: Path) -> Placed:
    """Write all records that an undo can't put back as CSV. `key` are the columns that the run found records by."""
    each = [(one, conflict) for one in decided.all for conflict in one.conflicts(one.parts)]
    found = [conflict for _, conflict in each]
    columns: dict[str, list[str | None]] = {}
    if decided.beside:  # the keys of several tables have other columns each
        columns = {"table": [one.shape.name for one, _ in each], "key": [" / ".join(one.key) for one in found]}
    else:
        columns = {name: [one.key[at] for one in found] for at, name in enumerate(key)}
    for name in ("reason", "expected", "column", "wrote", "now", "by"):
        columns[f"undo: {name}"] = [getattr(one, name) for one in found]
    guarded = {name: guard(pa.array(texts, pa.string())) for name, texts in columns.items()}
    return rejects_file.save(pa.table(guarded), path)


def save_script(decided: Decided, path: Path) -> None:
    """Write the changes as SQL, to be read. Raises BadOption."""
    from tidymerge.reports.sql_script import write_script

    tally = decided.total
    names = ("inserted", "updated", "removed")
    counts = ", ".join(f"{getattr(tally, name):,} {name}" for name in names if getattr(tally, name)) or "nothing"
    rows = _rows_of(decided) if decided.related else decided.sample.rows.address
    place = decided.target.removesuffix(f"#{decided.called}") if decided.related else decided.target
    about = {"rows": rows, "target": place, "counts": counts, "mark": decided.mark}
    tables = [
        (one.shape.name, one.shape.columns, [one.shown(part.changes) for part in one.parts]) for one in decided.all
    ]
    write_script(tables, about, path)


def save_marked(decided: Decided, path: Path, clock: Clock, *, preview: bool) -> tuple[Placed, str | None]:
    """Write the incoming rows with what became of each; what is worth knowing about the file. Raises BadOption."""
    from tidymerge.reports.marked_file import write_marked  # late: few ask for it, and it takes long to import

    tables = decided.all if decided.related else (decided,)
    shared = Counter(one.sample.rows.sheet for one in tables)
    marked = [_marked(one, shared=shared[one.sample.rows.sheet] > 1) for one in tables]
    originals = {_original(one.sample.rows) for one in tables}
    if len(tables) > 1 and (None in originals or len(originals) > 1 or path.suffix.lower() != ".xlsx"):
        raise BadOption("A marked copy of several tables' rows is a copy of the one workbook (.xlsx) that they are in.")
    return write_marked(path, marked, originals.pop(), clock.started, preview=preview)


def _marked(decided: Decided, *, shared: bool) -> "Marked":
    """The rows of one table with their marks; where its sheet is `shared`, those say which table they are about."""
    from tidymerge.reports.marked_file import Marked

    incoming = decided.sample.rows
    if incoming.origin is not None:
        raise BadOption("A marked copy is made of one sheet or file at a time; this load takes rows from several.")
    parts = [part.of_rows() for part in decided.parts]
    tables = [pa.table({column.name: as_text(column) for column in rows.columns}) for rows, _ in parts]
    order = np.argsort(np.concatenate([rows.row_numbers for rows, _ in parts]), kind="stable")
    cells = pa.concat_tables(tables, promote_options="default").take(pa.array(order))
    marks = together([marks_of(rows, changes, decided.pairing) for rows, changes in parts])
    return Marked(marks, cells, incoming.sheet, incoming.header_row, decided.shape.name if shared else "")


def _original(incoming: Incoming) -> Path | None:
    """The workbook that rows came in, if it is one that can be copied: not where one of its rows is several."""
    if len(np.unique(incoming.row_numbers)) < len(incoming.row_numbers):
        return None
    file = parse(incoming.address).path if incoming.sheet and not is_server(incoming.address) else None
    return file if file is not None and file.suffix.lower() == ".xlsx" and file.is_file() else None


def first_touches(decided: Decided, most: int) -> list[Touch]:
    """The first records that are to change, of all parts, in row order; those of further tables after them."""
    found: list[Touch] = []
    for one in decided.all:
        own: list[Touch] = []
        for part in one.parts if most > len(found) else ():
            if part.changes.touched:
                own += samples.first_touches(part.rows(), one.shown(part.changes), most)
        own.sort(key=lambda touch: touch.row)
        found += [replace(touch, table=one.shape.name) for touch in own] if decided.beside else own
    return found[:most]


def make_receipt(
    decided: Decided, state: State, clock: Clock, rejects: Path | None = None, *, verified: bool = True
) -> Receipt:
    """The receipt of a run that has come to `state`."""
    shown = [_shown(one) for one in decided.all]
    incoming = decided.sample.rows
    several = decided.related
    limits = [excess for one in decided.all for excess in one.limits]
    return Receipt(
        state=state,
        incoming=_rows_of(decided) if several else incoming.address,
        sheet=None if several else incoming.sheet,
        header_row=0 if several else incoming.header_row,
        rows=decided.total,
        fingerprint=decided.mark,
        tables=tuple(
            _table_receipt(one, state, examples, rows, decided.all if several else ())
            for one, (examples, rows, _) in zip(decided.all, shown, strict=True)
        ),
        rejects=Rejects(
            account.reasons([part.changes for one in decided.all for part in one.parts]),
            _of_all(decided, [first for _, _, first in shown]),
            str(rejects) if rejects is not None else None,
        ),
        warnings=decided.warnings,
        notes=decided.notes,
        started=clock.started,
        seconds=time.perf_counter() - clock.began,
        verified=verified if state.done else None,
        run=clock.run,
        limits=tuple(excess.words for excess in limits),
        go_ahead=going_ahead(limits),
        conflicts=tuple(
            islice((found for one in decided.all for found in one.conflicts(one.parts)), _CONFLICTS_LISTED)
        ),
        request=decided.request,
    )


def _rows_of(decided: Decided) -> str:
    """Where the rows of all tables are: the file, if it is one."""
    addresses = list(dict.fromkeys(one.sample.rows.address for one in decided.all))
    files = list(dict.fromkeys(address.partition("#")[0] for address in addresses))
    return files[0] if len(files) == 1 else ", ".join(addresses)


def going_ahead(limits: Sequence[Excess]) -> dict[str, int | bool]:
    """With which limits a run would go ahead: the greatest of each name."""
    found: dict[str, int | bool] = {}
    for excess in limits:
        found[excess.name] = max(found.get(excess.name, 0), excess.count)
    return found


def _of_all(decided: Decided, first: Sequence[tuple[RejectedCell, ...]]) -> tuple[RejectedCell, ...]:
    """The first rejects of all tables; those of further ones are told by the name of their table, too."""
    if decided.related:
        shared = Counter(one.sample.rows.address for one in decided.all)
        return tuple(
            replace(cell, origin=cell.origin or _origin(one, alone=shared[one.sample.rows.address] == 1))
            for one, cells in zip(decided.all, first, strict=True)
            for cell in cells
        )
    found = list(first[0])
    for one, cells in zip(decided.all[1:], first[1:], strict=True):
        name = one.shape.name
        found += [replace(cell, record=f"{name} {cell.record}" if cell.record else name) for cell in cells]
    return tuple(found)


def _origin(decided: Decided, *, alone: bool) -> str:
    """Where the rows of a table are, for people; with its name, where they are those of another one, too."""
    rows = decided.sample.rows
    place = rows.sheet or rows.address
    return place if alone else f"{decided.shape.name}: {place}"


def _table_receipt(
    decided: Decided,
    state: State,
    examples: Mapping[str, Example],
    sample_rows: tuple[SampleRow, ...],
    relatives: Sequence[Decided] = (),
) -> TableReceipt:
    tally, touched = decided.tally, state.done
    after = tally.inserted - tally.removed if touched or state is State.PREVIEWED else 0
    columns: Counter[str] = Counter()
    for part in decided.parts:
        columns.update({name: int(mask.sum()) for name, mask in part.changes.updates.changed.items() if mask.any()})
    return TableReceipt(
        target=decided.target,
        key=decided.pairing.key,
        rows_before=decided.rows_before,
        rows_after=decided.rows_before + after,
        rows=tally,
        fields_updated=columns.total(),
        columns=dict(columns),
        mapping={pair.target.name: pair.incoming for pair in decided.pairing.pairs},
        not_loaded=decided.pairing.not_loaded,
        left_alone=decided.pairing.left_alone,
        view=decided.view,
        examples=examples,
        samples=sample_rows,
        read_back=sum(part.changes.written for part in decided.parts) if touched and not decided.only_drops else 0,
        columns_added={column.name: column.type for column in decided.added},
        table_made=decided.made,
        table_gone=decided.goes,
        columns_dropped={column.name: column.type for column in decided.dropped},
        records_updated=sum(len(part.changes.updates) for part in decided.parts),
        incoming=decided.sample.rows.address if relatives else "",
        name=decided.shape.name,
        parents=tuple(one.shape.name for one in relatives if one.shape.name in _parents(decided, relatives)),
    )


def _parents(decided: Decided, relatives: Sequence[Decided]) -> set[str]:
    """The other tables to which one refers, by a foreign key or by ids."""
    keys = {key.table for key in decided.shape.foreign_keys}
    found = keys | {relatives[one.table].shape.name for one in decided.awaits if one.table >= 0}
    return found - {decided.shape.name}


def _shown(decided: Decided) -> tuple[dict[str, Example], tuple[SampleRow, ...], tuple[RejectedCell, ...]]:
    """The first few changes and rejected cells of all parts, in row order."""
    examples: dict[str, Example] = {}
    rows: list[SampleRow] = []
    cells: list[RejectedCell] = []
    for part in decided.parts:
        if not part.changes.touched and not part.changes.flaws:
            continue
        incoming, changes = part.rows(), decided.shown(part.changes)
        for name, example in samples.examples(incoming, changes).items():
            if name not in examples or example.row < examples[name].row:
                examples[name] = example
        rows += samples.sample_rows(incoming, changes, (_UPDATES_SHOWN, _INSERTS_SHOWN))
        cells += first_rejects(incoming, changes, _REJECTS_SHOWN)
    if len(decided.parts) == 1:
        return examples, tuple(rows), tuple(cells)
    updated = sorted((row for row in rows if row.outcome == "updated"), key=lambda row: row.row)[:_UPDATES_SHOWN]
    inserted = sorted((row for row in rows if row.outcome != "updated"), key=lambda row: row.row)[:_INSERTS_SHOWN]
    seen: Counter[str] = Counter()
    kept = []
    for cell in sorted(cells, key=lambda cell: cell.row):
        seen[cell.reason] += 1
        if seen[cell.reason] <= _REJECTS_SHOWN:
            kept.append(cell)
    return examples, (*updated, *inserted), tuple(kept)

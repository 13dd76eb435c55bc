"""The receipt in its published form, `tidymerge-receipt/1` (docs/receipt.md): how it is written, and read from the log.

The keys stand here by themselves: renaming a field of a record changes no key. A key that is younger than the form is
not required, so that older receipts can still be read.
"""

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import NotRequired, TypedDict

from tidymerge.model.changes import Tally
from tidymerge.model.receipt import (
    Conflict,
    Example,
    MappedColumn,
    Receipt,
    RejectedCell,
    Rejects,
    SampleRow,
    State,
    TableReceipt,
)
from tidymerge.model.request_form import RequestForm, request_from_dict, request_to_dict

FORMAT = "tidymerge-receipt/1"


class RowsForm(TypedDict):
    """Rows by what became of them. What is removed was called `deleted` in the first entries of the log."""

    inserted: int
    updated: int
    unchanged: int
    skipped: int
    rejected: int
    removed: NotRequired[int]
    absent: NotRequired[int]
    deleted: NotRequired[int]


class IncomingForm(TypedDict):
    """Where the rows came from."""

    address: str
    sheet: str | None
    header_row: int
    rows: int


class ExampleForm(TypedDict):
    """The first change of a column."""

    row: int
    key: tuple[str, ...]
    before: str | None
    after: str | None


class FieldForm(TypedDict):
    """One field of a sample."""

    column: str
    before: str | None
    after: str | None
    changed: bool


class SampleForm(TypedDict):
    """A touched record in full."""

    row: int
    outcome: str
    fields: tuple[FieldForm, ...]


class ViewForm(TypedDict):
    """How a column is fed."""

    target: str
    source: str
    rule: str
    samples: tuple[tuple[str | None, str | None], ...]


class TableForm(TypedDict):
    """What was done to one table."""

    target: str
    key: tuple[str, ...]
    rows_before: int
    rows_after: int
    rows: RowsForm
    fields_updated: int
    columns: Mapping[str, int]
    mapping: Mapping[str, str]
    not_loaded: tuple[str, ...]
    left_alone: tuple[str, ...]
    examples: Mapping[str, ExampleForm]
    samples: tuple[SampleForm, ...]
    view: tuple[ViewForm, ...]
    read_back: NotRequired[int]
    columns_added: NotRequired[Mapping[str, str]]
    columns_dropped: NotRequired[Mapping[str, str]]
    table_made: NotRequired[bool]
    table_gone: NotRequired[bool]
    records_updated: NotRequired[int]
    incoming: NotRequired[str]
    parents: NotRequired[tuple[str, ...]]
    name: NotRequired[str]


class CellForm(TypedDict):
    """One thing that is wrong with a rejected row."""

    row: int
    column: str | None
    value: str | None
    reason: str
    expected: str
    origin: NotRequired[str | None]
    record: NotRequired[str | None]


class RejectsForm(TypedDict):
    """The rejected rows."""

    reasons: Mapping[str, int]
    first: tuple[CellForm, ...]
    file: str | None


class ConflictForm(TypedDict):
    """A record that an undo can't put back."""

    row: int
    key: tuple[str, ...]
    reason: str
    expected: str
    column: str | None
    wrote: str | None
    now: str | None
    by: NotRequired[str | None]


class ReceiptForm(TypedDict):
    """The whole receipt."""

    format: str
    run: str | None
    state: str
    incoming: IncomingForm
    rows: RowsForm
    fields_updated: int
    fingerprint: str
    verified: bool | None
    tables: tuple[TableForm, ...]
    rejects: RejectsForm
    warnings: tuple[str, ...]
    notes: tuple[str, ...]
    limits: NotRequired[tuple[str, ...]]
    go_ahead: NotRequired[Mapping[str, int | bool]]
    undoes: NotRequired[str | None]
    request: NotRequired[RequestForm | None]
    conflicts: NotRequired[tuple[ConflictForm, ...]]
    started: str
    seconds: float


def receipt_to_dict(receipt: Receipt) -> ReceiptForm:
    """The receipt as plain data; keys are stable, more may be added."""
    return {
        "format": FORMAT,
        "run": receipt.run,
        "state": receipt.state.value,
        "incoming": {
            "address": receipt.incoming,
            "sheet": receipt.sheet,
            "header_row": receipt.header_row,
            "rows": receipt.rows.read,
        },
        "rows": _rows(receipt.rows),
        "fields_updated": receipt.fields_updated,
        "fingerprint": receipt.fingerprint,
        "verified": receipt.verified,
        "tables": tuple(_table(table) for table in receipt.tables),
        "rejects": {
            "reasons": dict(receipt.rejects.reasons),
            "first": tuple(cell_to_dict(cell) for cell in receipt.rejects.first),
            "file": receipt.rejects.file,
        },
        "warnings": receipt.warnings,
        "notes": receipt.notes,
        "limits": receipt.limits,
        "go_ahead": receipt.go_ahead,
        "undoes": receipt.undoes,
        "request": request_to_dict(receipt.request),
        "conflicts": tuple(_conflict(conflict) for conflict in receipt.conflicts),
        "started": as_utc(receipt.started),
        "seconds": round(receipt.seconds, 3),
    }


def _rows(tally: Tally) -> RowsForm:
    return {
        "inserted": tally.inserted,
        "updated": tally.updated,
        "unchanged": tally.unchanged,
        "skipped": tally.skipped,
        "rejected": tally.rejected,
        "removed": tally.removed,
        "absent": tally.absent,
    }


def _table(table: TableReceipt) -> TableForm:
    return {
        "target": table.target,
        "key": table.key,
        "rows_before": table.rows_before,
        "rows_after": table.rows_after,
        "rows": _rows(table.rows),
        "fields_updated": table.fields_updated,
        "columns": dict(table.columns),
        "mapping": dict(table.mapping),
        "not_loaded": table.not_loaded,
        "left_alone": table.left_alone,
        "examples": {
            name: {"row": one.row, "key": one.key, "before": one.before, "after": one.after}
            for name, one in table.examples.items()
        },
        "samples": tuple(_sample(sample) for sample in table.samples),
        "view": tuple(
            {"target": column.target, "source": column.source, "rule": column.rule, "samples": column.samples}
            for column in table.view
        ),
        "read_back": table.read_back,
        "columns_added": dict(table.columns_added),
        "columns_dropped": dict(table.columns_dropped),
        "table_made": table.table_made,
        "table_gone": table.table_gone,
        "records_updated": table.records_updated,
        "incoming": table.incoming,
        "parents": table.parents,
        "name": table.name,
    }


def _sample(sample: SampleRow) -> SampleForm:
    fields: tuple[FieldForm, ...] = tuple(
        {"column": column, "before": before, "after": after, "changed": changed}
        for column, before, after, changed in sample.fields
    )
    return {"row": sample.row, "outcome": sample.outcome, "fields": fields}


def cell_to_dict(cell: RejectedCell) -> CellForm:
    """A rejected cell as plain data."""
    return {
        "row": cell.row,
        "column": cell.column,
        "value": cell.value,
        "reason": cell.reason,
        "expected": cell.expected,
        "origin": cell.origin,
        "record": cell.record,
    }


def _conflict(conflict: Conflict) -> ConflictForm:
    return {
        "row": conflict.row,
        "key": conflict.key,
        "reason": conflict.reason,
        "expected": conflict.expected,
        "column": conflict.column,
        "wrote": conflict.wrote,
        "now": conflict.now,
        "by": conflict.by,
    }


def as_utc(time: datetime) -> str:
    """A time to the second, in UTC."""
    return time.astimezone(UTC).isoformat(timespec="seconds").replace("+00:00", "Z")


def receipt_from_dict(form: ReceiptForm) -> Receipt:
    """The receipt of a form whose keys and types are right. Raises ValueError for a state that there is not."""
    return Receipt(
        state=State(form["state"]),
        incoming=form["incoming"]["address"],
        sheet=form["incoming"]["sheet"],
        header_row=form["incoming"]["header_row"],
        rows=_tally(form["rows"]),
        fingerprint=form["fingerprint"],
        tables=tuple(_table_of(table) for table in form["tables"]),
        rejects=Rejects(
            form["rejects"]["reasons"],
            tuple(_cell_of(cell) for cell in form["rejects"]["first"]),
            form["rejects"]["file"],
        ),
        warnings=form["warnings"],
        notes=form["notes"],
        started=datetime.fromisoformat(form["started"]),
        seconds=form["seconds"],
        verified=form["verified"],
        run=form["run"],
        limits=form.get("limits", ()),
        go_ahead=form.get("go_ahead", {}),
        undoes=form.get("undoes"),
        conflicts=tuple(_conflict_of(conflict) for conflict in form.get("conflicts", ())),
        request=request_from_dict(form.get("request")),
    )


def _tally(rows: RowsForm) -> Tally:
    return Tally(
        inserted=rows["inserted"],
        updated=rows["updated"],
        unchanged=rows["unchanged"],
        skipped=rows["skipped"],
        rejected=rows["rejected"],
        removed=rows.get("removed", rows.get("deleted", 0)),
        absent=rows.get("absent", 0),
    )


def _table_of(form: TableForm) -> TableReceipt:
    return TableReceipt(
        target=form["target"],
        key=form["key"],
        rows_before=form["rows_before"],
        rows_after=form["rows_after"],
        rows=_tally(form["rows"]),
        fields_updated=form["fields_updated"],
        columns=form["columns"],
        mapping=form["mapping"],
        not_loaded=form["not_loaded"],
        left_alone=form["left_alone"],
        examples={
            name: Example(one["row"], one["key"], one["before"], one["after"]) for name, one in form["examples"].items()
        },
        samples=tuple(_sample_of(sample) for sample in form["samples"]),
        view=tuple(MappedColumn(one["target"], one["source"], one["rule"], one["samples"]) for one in form["view"]),
        read_back=form.get("read_back", 0),
        columns_added=form.get("columns_added", {}),
        columns_dropped=form.get("columns_dropped", {}),
        table_made=form.get("table_made", False),
        table_gone=form.get("table_gone", False),
        records_updated=form.get("records_updated", 0),
        incoming=form.get("incoming", ""),
        parents=form.get("parents", ()),
        name=form.get("name", ""),
    )


def _sample_of(form: SampleForm) -> SampleRow:
    fields = tuple((one["column"], one["before"], one["after"], one["changed"]) for one in form["fields"])
    return SampleRow(form["row"], form["outcome"], fields)


def _cell_of(form: CellForm) -> RejectedCell:
    return RejectedCell(
        form["row"],
        form["column"],
        form["value"],
        form["reason"],
        form["expected"],
        form.get("origin"),
        form.get("record"),
    )


def _conflict_of(form: ConflictForm) -> Conflict:
    return Conflict(
        row=form["row"],
        key=form["key"],
        reason=form["reason"],
        expected=form["expected"],
        column=form["column"],
        wrote=form["wrote"],
        now=form["now"],
        by=form.get("by"),
    )

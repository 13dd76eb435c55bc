"""A run of which only a part is there: its entry in the log, with the counts that are true of it."""

from collections.abc import Mapping, Sequence

import numpy as np
from msgspec.structs import replace

from tidymerge.core.account import account
from tidymerge.core.words import counted, plural
from tidymerge.model.changes import Logged, Outcome
from tidymerge.model.receipt import Receipt, RejectedCell, State, TableReceipt
from tidymerge.model.run import Run
from tidymerge.ports.log import RunLog

NOT_WRITTEN = "not written, as the run was cut off"
_NAMED = 5  # records in a message
_LISTED = 10  # rows in the receipt
_WRITES = (Outcome.INSERTED, Outcome.UPDATED, Outcome.REMOVED)


def in_part(log: RunLog, run: Run, holds: Mapping[int, tuple[int, ...]]) -> Run:
    """The run as one that wrote a part: the places in the log of what is there, its message, its receipt."""
    assert run.receipt is not None  # noqa: S101 - sealed with one
    part = replace(run, state=State.PARTLY, settled=True, holds=holds)
    planned, done = ([list(log.changes(each)) for each in one.each] for one in (run, part))
    count = sum(len(places) for places in holds.values())
    total = sum(len(one.rows) for logs in planned for one in logs)
    keys = [key for logs in done for one in logs for key in _keys(one, run)]
    more = ", …" if count > _NAMED else ""
    message = (
        f"Of its {counted(total, 'change')} {count:,} {plural(count, 'is', 'are')} there, in {run.target}: "
        f"{', '.join(keys[:_NAMED])}{more}. Undo it to take {plural(count, 'this', 'these')} back, or run it again to "
        "do the rest."
    )
    lost = [cell for at, one in enumerate(planned) for cell in _lost(one, holds.get(at, ()), run)]
    lost.sort(key=lambda cell: cell.row)
    return replace(part, message=message, receipt=_receipt(run.receipt, planned, done, lost[:_LISTED]))


def _lost(logs: list[Logged], holds: Sequence[int], run: Run) -> list[RejectedCell]:
    """The first rows, or records where no row asked for it, that are not there."""
    found: list[RejectedCell] = []
    held, before = set(holds), 0
    for log in logs:
        at = [index for index in range(len(log.rows)) if before + index not in held][: _LISTED - len(found)]
        before += len(log.rows)
        keys = _keys(log, run) if at else []
        for index in at:
            row = int(log.rows[index])
            record = None if row else keys[index]
            found.append(RejectedCell(row, None, None, NOT_WRITTEN, "that the run goes through", record=record))
    return found


def _keys(log: Logged, run: Run) -> list[str]:
    names = [name for name in run.key if name in log.keys.column_names] or log.keys.column_names
    columns = [log.keys[name].to_pylist() for name in names]
    return [" / ".join(map(str, row)) for row in zip(*columns, strict=True)]


def _receipt(
    receipt: Receipt, planned: Sequence[list[Logged]], done: Sequence[list[Logged]], lost: Sequence[RejectedCell]
) -> Receipt:
    tables = [_table(*one) for one in zip(receipt.tables, planned, done, strict=True)]
    rows = account.total([table.rows for table in tables])
    left = rows.rejected - receipt.rows.rejected
    reasons = {**receipt.rejects.reasons, **({NOT_WRITTEN: left} if left else {})}
    rejects = replace(receipt.rejects, reasons=reasons, first=(*receipt.rejects.first, *lost), file=None)
    return replace(receipt, state=State.PARTLY, tables=tuple(tables), rows=rows, rejects=rejects, verified=None)


def _table(table: TableReceipt, planned: list[Logged], done: list[Logged]) -> TableReceipt:
    lost = {outcome: _count(planned, outcome) - _count(done, outcome) for outcome in _WRITES}
    rows = replace(
        table.rows,
        inserted=table.rows.inserted - lost[Outcome.INSERTED],
        updated=table.rows.updated - lost[Outcome.UPDATED],
        removed=table.rows.removed - lost[Outcome.REMOVED],
        rejected=table.rows.rejected + sum(lost.values()),
    )
    fields = {name: sum(int(one.changed[name].sum()) for one in done if name in one.changed) for name in table.columns}
    return replace(
        table,
        rows=rows,
        rows_after=table.rows_before + rows.inserted - rows.removed,
        columns={name: count for name, count in fields.items() if count},
        fields_updated=sum(fields.values()),
        records_updated=_count(done, Outcome.UPDATED),
    )


def _count(logs: list[Logged], outcome: Outcome) -> int:
    return sum(int(np.count_nonzero(one.outcomes == outcome)) for one in logs)

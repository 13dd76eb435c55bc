"""From the decision to the commit: write, prove, put into the log, commit. The same for a load and for an undo."""

import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.account import account
from tidymerge.core.tidy.cells import as_array, differs
from tidymerge.core.undo.reverse import logged
from tidymerge.core.words import plural
from tidymerge.errors import ProofFailed, TargetChanged
from tidymerge.model import Definition, Mask, TargetColumn
from tidymerge.model.changes import Inserts, Logged, Updates, Written
from tidymerge.model.receipt import Receipt
from tidymerge.model.run import OtherTable, Run
from tidymerge.ports.log import Recording
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Piecewise, Related, Spelling, Target
from tidymerge.run.ask import suspects
from tidymerge.run.decided import Decided, Part
from tidymerge.run.logged_columns import LoggedColumns
from tidymerge.run.report import Clock
from tidymerge.run.settle import reject_refusals

Shield = Callable[[], AbstractContextManager[object]]
Keep = Callable[[Logged], None]


class Carried(Struct, frozen=True):
    """What was decided, as far as it is written: what the target said of it, and whether it was read back equal.

    `found` are the written records as they were read back for the log, if nothing was written after that. Some records
    are `waiting` for the log until other tables are written: each part as decided and as kept, and what was before.
    """

    decided: Decided
    written: Written
    record_key: tuple[str, ...]
    whole: bool = False
    found: pa.Table | None = None
    verified: bool = True
    waiting: tuple[tuple[Part, Part, pa.Table], ...] = ()


def full_address(given: str, found: str) -> str:
    """The address given, with the table that was found there; a file is one table by itself."""
    _, mark, table = found.rpartition("#")
    return f"{given}#{table}" if mark and "#" not in given and not Path(found).is_file() else given


def write(
    target: Target,
    decided: Decided,
    keep: Keep,
    progress: Progress,
    *,
    late: bool = False,
    always: bool = False,
    holding: bool = False,
) -> Carried:
    """Write, log, and account for what only the target could find fault with. Raises ProofFailed, LogUnwritable.

    `keep` puts the changes into the log, be it that there are none, if it does so `always`; if that has to be `late`,
    `complete` does it. With `holding` the records that go are left to `remove_held`.
    """
    progress.stage("writing", _changed(decided))
    columns = LoggedColumns.of(decided)
    parts, done, waiting, found = [], [], [], None
    # Once for the log and for the proof, where nothing is written in between, and nothing changes values on its own.
    is_last = sum(part.changes.touched > 0 for part in decided.parts) == 1
    once = is_last and isinstance(target, Spelling) and not suspects(target)
    for part in decided.parts:
        if not part.changes.touched:
            parts.append(part)
            continue
        before = _before(target, part, decided, columns)
        done.append(target.write(part.changes.without_removals() if holding else part.changes))
        (kept,) = reject_refusals([part], done[-1].refused)
        if late:
            waiting.append((part, kept, before))
        else:
            found = target.read_back(kept.changes, decided.pairing) if once else None
            _log(target, decided, columns, (part, kept, before), found, keep)
        parts.append(kept)
        progress.rows(kept.changes.touched)
    if not done and always and parts:
        _log(target, decided, columns, (parts[0], parts[0], _before(target, parts[0], decided, columns)), None, keep)
    if not done and decided.back:  # a column comes back that held nothing
        return let_go(target, decided, keep, progress)
    refused = tuple(refusal for one in done for refusal in one.refused)
    updated, inserted = sum(one.updated for one in done), sum(one.inserted for one in done)
    written = Written(updated, inserted, sum(one.removed for one in done), refused)
    if refused:
        count = len(refused)
        note = (
            f"{count:,} {plural(count, 'row was', 'rows were')} refused by the target only when written, "
            "so the counts and the fingerprint differ from the preview's."
        )
        decided = decided.with_parts(parts, note)
    return Carried(decided, written, columns.record_key, columns.whole, found, waiting=tuple(waiting))


def remove_held(target: Target, carried: Carried) -> Carried:
    """Remove the records that were held until their children had gone. Raises TargetChanged."""
    removed = 0
    for _, kept, _ in carried.waiting:
        if len(kept.changes.removals):
            done = target.write(kept.changes.only_removals())
            if done.refused:
                raise TargetChanged(f"A record that was to go is needed by now: {done.refused[0].message}.")
            removed += done.removed
    return replace(carried, written=replace(carried.written, removed=carried.written.removed + removed))


def complete(target: Target, carried: Carried, keep: Keep) -> Carried:
    """Fill what had to wait for other tables, and log what waited."""
    if not carried.waiting:
        return carried
    decided, filled = carried.decided, 0
    columns = LoggedColumns.of(decided)
    for part, kept, before in carried.waiting:
        filled += target.fill(kept.changes) if isinstance(target, Related) else 0
        _log(target, decided, columns, (part, kept, before), None, keep)
    written = replace(carried.written, updated=carried.written.updated + filled)
    return replace(carried, written=written, waiting=())


def _log(
    target: Target,
    decided: Decided,
    columns: LoggedColumns,
    done: tuple[Part, Part, pa.Table],
    found: pa.Table | None,
    keep: Keep,
) -> None:
    """Put what was done to a part into the log: as it was decided, as it is kept, and what was before."""
    part, kept, before = done
    after = _after(target, kept, decided, columns, found)
    keys = dict.fromkeys((*columns.record_key, *decided.pairing.key))
    stays = np.isin(part.changes.updates.positions, kept.changes.updates.positions)
    was, removals = target.readable(before if stays.all() else before.filter(pa.array(stays))), kept.changes.removals
    done_to = replace(kept.changes, removals=replace(removals, before=target.readable(removals.before)))
    keep(logged(part.rows(), done_to, was, target.readable(after), list(keys), whole=columns.whole))


def let_go(target: Target, decided: Decided, keep: Keep, progress: Progress) -> Carried:
    """Log the values of columns that go, and nothing else changes: they need not be cleared, as they go along."""
    progress.stage("writing", _changed(decided))
    columns = LoggedColumns.of(decided)
    gone = {column.name for column in columns.updated}
    for part in decided.parts:
        before = target.readable(_before(target, part, decided, columns))
        rest = [column for column in columns.written if column.name not in gone]
        after = target.readable(target.as_stored(part.changes, rest))
        for name in gone:
            after = after.append_column(name, pa.nulls(after.num_rows, pa.string()))
        keys = dict.fromkeys((*columns.record_key, *decided.pairing.key))
        keep(logged(part.rows(), part.changes, before, after, list(keys), whole=columns.whole))
        progress.rows(part.changes.touched)
    return Carried(decided, Written(0, 0), columns.record_key, columns.whole)


def prove_gone(target: Target, carried: Carried, progress: Progress) -> Carried:
    """Take the columns away, and prove that all records are still there. Raises ProofFailed."""
    decided = carried.decided
    progress.stage("reading back what was written", _changed(decided))
    for part in decided.parts:
        account.prove_tally(account.tally([part.changes]), part.changes, part.read)
    target.drop([column.name for column in decided.dropped], alone=True)
    account.prove_written([], decided.rows_before, target.count(), (0, 0, 0))
    return carried


def _before(target: Target, part: Part, decided: Decided, columns: LoggedColumns) -> pa.Table:
    """The records to update as exact text: by what was compared, where it tells; the other columns are read."""
    compared = part.changes.updates.before
    texts = {
        column.name: _exact_text(target, decided, column.name, compared)
        for column in columns.updated
        if column.name not in decided.unreadable
    }
    return _with_rest(texts, columns.updated, lambda rest: target.as_stored(part.changes, rest))


def _after(target: Target, kept: Part, decided: Decided, columns: LoggedColumns, found: pa.Table | None) -> pa.Table:
    """The written records as exact text: by what was read back, where it tells; the other columns are read."""

    def read(rest: Sequence[TargetColumn]) -> pa.Table:
        texts = target.as_stored(kept.changes, rest, written=True)
        if texts.num_rows != kept.changes.written:
            raise ProofFailed("Several records have the key of a new one; all was rolled back.")
        return texts

    if found is None or found.num_rows != kept.changes.written:
        return read(columns.written)
    given = kept.changes.inserts.given
    texts = {
        column.name: _exact_text(target, decided, column.name, found)
        for column in columns.written
        if column.name not in decided.unreadable and (column.name not in given or given[column.name].all())
    }
    return _with_rest(texts, columns.written, read)


def _exact_text(target: Target, decided: Decided, name: str, values: pa.Table) -> pa.Array | None:
    """The exact text of a loaded column, if it follows from its typed values."""
    loaded = next((column for column in decided.pairing.columns if column.name == name), None)
    if loaded is None or not isinstance(target, Spelling):
        return None
    return target.exact_text(loaded, as_array(values[name]))


def _with_rest(
    texts: Mapping[str, pa.Array | None],
    columns: Sequence[TargetColumn],
    read: Callable[[Sequence[TargetColumn]], pa.Table],
) -> pa.Table:
    """The columns whose texts are known, and the others read."""
    rest = [column for column in columns if texts.get(column.name) is None]
    others = read(rest) if rest else pa.table({})
    known = {name: text for name, text in texts.items() if text is not None}
    return pa.table({c.name: known[c.name] if c.name in known else others[c.name] for c in columns})


def _changed(decided: Decided) -> int:
    return decided.tally.inserted + decided.tally.updated + decided.tally.removed


def prove(target: Target, carried: Carried, progress: Progress, *, trusting: bool, only_changed: bool) -> Carried:
    """Prove counts and values inside the transaction. Raises ProofFailed, unless triggers are trusted with rows.

    With `only_changed`, columns that an update does not write are not looked at: an undo's are all columns of the
    table, of which some may note by themselves when a record was last touched.
    """
    decided, written = carried.decided, carried.written
    progress.stage("reading back what was written", _changed(decided))
    try:
        for part in decided.parts:
            account.prove_tally(account.tally([part.changes]), part.changes, part.read)
        changes = [part.changes for part in decided.parts]
        did = (written.updated, written.inserted, written.removed)
        account.prove_written(changes, decided.rows_before, target.count(), did)
        for part in decided.parts:
            _prove_read_back(target, carried, part, only_changed=only_changed)
            progress.rows(part.changes.touched)
    except ProofFailed as failed:
        found = suspects(target)
        if not found:
            raise
        if not trusting:
            raise ProofFailed(
                f"{failed} On the table are {', '.join(found)}; they can be trusted with changing rows.",
                give=((("trust_triggers", ""),),),
                **failed.facts,
            ) from None
        note = f"Not verified, as triggers are trusted: {failed}"
        carried = replace(carried, decided=decided.with_parts(decided.parts, note), verified=False)
    if decided.goes:
        target.abolish()
    elif decided.dropped:
        target.drop([column.name for column in decided.dropped], alone=False)
    if decided.added and not decided.made:
        carried = replace(carried, decided=carried.decided.noting(*target.complete(decided.added), last=True))
    return carried


def seal(
    target: Target, carried: Carried, run: Run, receipt: Receipt, recording: Recording, beside: Sequence[Carried] = ()
) -> Run:
    """The run's entry, safe on disk before the target commits. Raises LogUnwritable."""
    decided = carried.decided
    address = full_address(run.target, decided.target)
    entry = replace(
        run,
        target=address,
        called=decided.called if beside else "",
        key=decided.pairing.key or decided.shape.primary_key,
        latest=decided.latest,
        newest=decided.newest,
        record_key=carried.record_key,
        whole=carried.whole,
        appends=run.appends or (not decided.pairing.key and not run.undoes),
        marked=target.marks_text,
        receipt=receipt,
        definitions=_definitions(decided),
        structure=decided.structure,
        others=tuple(
            OtherTable(
                one.decided.called,
                f"{address.removesuffix(f'#{decided.called}')}#{one.decided.called}",
                one.decided.pairing.key or one.decided.shape.primary_key,
                one.record_key,
                target.marks_text,
                one.whole,
                _definitions(one.decided),
                one.decided.structure,
            )
            for one in beside
        ),
    )
    if receipt.lasts:
        recording.seal(entry)
    return entry


def _definitions(decided: Decided) -> dict[str, Definition]:
    """How the columns were declared that go."""
    return {column.name: column.definition for column in decided.dropped if column.definition}


def commit(target: Target, entry: Run, clock: Clock, recording: Recording, shield: Shield) -> Receipt:
    """Make it last, and settle the entry. `shield` guards that moment against interruption."""
    receipt = entry.receipt
    assert receipt is not None  # noqa: S101 - sealed with one
    with shield() as interrupted:
        if isinstance(target, Piecewise) and callable(interrupted):
            target.end_when(interrupted)
        # Else columns that were to be added go again.
        left = target.commit() if receipt.lasts else ()
        notes = (*receipt.notes, *left)
        receipt = replace(receipt, notes=notes, seconds=time.perf_counter() - clock.began)
        recording.settle(replace(entry, receipt=receipt))
    return receipt


def _prove_read_back(target: Target, carried: Carried, part: Part, *, only_changed: bool) -> None:
    """Read every written record again and compare it with what was decided. Raises ProofFailed."""
    changes = part.changes
    updates, inserts = changes.updates, changes.inserts
    found = carried.found
    if found is None or not changes.touched:
        found = target.read_back(changes, carried.decided.pairing)
    if found.num_rows != changes.written:
        raise ProofFailed(
            f"{changes.written:,} records were written but {found.num_rows:,} were found again; "
            "all was rolled back. A trigger of the target may be changing keys."
        )
    remaining = target.remaining(changes)
    if remaining:
        raise ProofFailed(f"{remaining:,} of the {len(changes.removals):,} removed records are still there.")
    new = found.slice(len(updates))
    for column in carried.decided.pairing.columns:
        name = column.name
        looked_at = updates.changing(name) if only_changed else None
        _prove_equal(part, updates, name, found.slice(0, len(updates)), looked_at)
        # Those that do not give the column left its value to the default.
        _prove_equal(part, inserts, name, new, inserts.given[name])


def _prove_equal(part: Part, wrote: Updates | Inserts, name: str, found: pa.Table, looked_at: Mask | None) -> None:
    """Check that a column reads back as it was written, in the records that are looked at. Raises ProofFailed."""
    wanted, stored = as_array(wrote.after[name]), as_array(found[name])
    wrong = differs(wanted, stored)
    if looked_at is not None:
        wrong &= looked_at
    if wrong.any():
        at = int(wrong.argmax())
        row = int(part.rows().numbers_of(wrote.rows)[at])
        raise ProofFailed(
            f"What was written does not read back equal, so all was rolled back: row {row}, column "
            f"{name}, wrote {wanted[at].as_py()!s}, found {stored[at].as_py()!s}. "
            "A trigger or the column's type may be changing values.",
            row=row,
            column=name,
        )

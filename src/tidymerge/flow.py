"""A run from start to end. It reads as a table of contents; the work is in `core` and the adapters."""

import secrets
import time
from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from tidymerge.core import account, caution, samples
from tidymerge.core.columns import Converted, Surroundings, convert
from tidymerge.core.conditions import compile_conditions, resolved, rows_to_skip
from tidymerge.core.decide import Question, decide, differs, reject
from tidymerge.core.lookup import LookUp
from tidymerge.core.mapping import pair_columns, target_name
from tidymerge.core.match import code_keys, match
from tidymerge.core.rejects import first_rejects, rejects_table
from tidymerge.core.view import mapping_view
from tidymerge.errors import ProofFailed, Stopped
from tidymerge.gathering import read_incoming
from tidymerge.job.model import Job
from tidymerge.model import ChangeSet, Existing, Flaw, Incoming, Pairing, Reason, Tally
from tidymerge.ports import Progress, Target, Written
from tidymerge.receipt import MappedColumn, Receipt, Rejects, State, TableReceipt
from tidymerge.reports.rejects_file import default_path, write_rejects
from tidymerge.rules import Find
from tidymerge.targets import open_target

_REJECTS_SHOWN = 10  # of each reason, in the receipt; the rejects file has them all


@dataclass(frozen=True, slots=True)
class Decided:
    """All that is known once every row has its outcome and nothing is written yet."""

    target: str
    incoming: Incoming
    pairing: Pairing
    existing: Existing
    changes: ChangeSet
    tally: Tally
    fingerprint: str
    warnings: tuple[str, ...]
    notes: tuple[str, ...]
    view: tuple[MappedColumn, ...]


@dataclass(frozen=True, slots=True)
class _Clock:
    """When the run began, and its name: no two loads have the same, previews have none."""

    started: datetime
    began: float
    run: str | None = None

    @classmethod
    def start(cls, *, named: bool) -> "_Clock":
        now = datetime.now(UTC)
        return cls(now, time.perf_counter(), f"{now:%Y%m%d-%H%M%S}-{secrets.token_hex(3)}" if named else None)


class _Quiet:
    def stage(self, words: str) -> None:
        """Say nothing."""


QUIET: Progress = _Quiet()


def preview(job: Job, *, rejects: Path | None = None, progress: Progress = QUIET) -> Receipt:
    """Decide everything and write nothing; the target is opened read-only."""
    clock = _Clock.start(named=False)
    with open_target(job.target, write=False) as target:
        decided = _decide(job, target, clock, progress)
    if rejects is not None:
        write_rejects(rejects_table(decided.incoming, decided.changes), rejects)
    return _receipt(decided, State.PREVIEWED, clock, rejects=rejects)


def load(
    job: Job,
    *,
    accept_warnings: bool = False,
    expect: str | None = None,
    rejects: Path | None = None,
    progress: Progress = QUIET,
    shield: Callable[[], AbstractContextManager[object]] = nullcontext,
) -> Receipt:
    """Decide, write, prove and commit, in one transaction.

    `shield` guards the moment of the commit against interruption, so that what is said afterwards
    is true. Raises Stopped when `expect` (a fingerprint) differs, when there are warnings that
    are not accepted, or when the job is strict and a row was rejected.
    """
    clock = _Clock.start(named=True)
    with open_target(job.target, write=True) as target:
        decided = _decide(job, target, clock, progress)
        _check_expectations(decided, job, clock, accept_warnings=accept_warnings, expect=expect, rejects=rejects)
        progress.stage("writing")
        rows_before = decided.existing.rows_in_target
        decided, written = _write(target, decided)
        if job.strict and decided.tally.rejected:
            _stop_for_rejects(decided, clock, rejects)
        progress.stage("reading back what was written")
        account.prove_tally(decided.tally, decided.changes, len(decided.incoming.row_numbers))
        rows_after = target.count()
        account.prove_written(decided.changes, rows_before, rows_after, written.updated, written.inserted)
        _prove_read_back(target, decided)
        file = _write_rejects(decided, job, rejects)
        try:
            receipt = _receipt(decided, State.LOADED, clock, rejects=file)  # now: after the commit nothing may fail
            with shield():
                target.commit()
        except BaseException:
            if file is not None:
                file.unlink(missing_ok=True)
            raise
    return replace(receipt, seconds=time.perf_counter() - clock.began)


def _decide(job: Job, target: Target, clock: _Clock, progress: Progress) -> Decided:
    shape = target.describe()
    progress.stage("reading the incoming rows")
    incoming = read_incoming(job, shape)
    names = [column.name for column in incoming.columns]
    pairing = pair_columns(names, shape, renames=job.renames, only=job.only, key=job.key, rules=job.columns)
    rules = resolved(job.rules, incoming, pairing, shape)
    conditions = compile_conditions(incoming, pairing, shape, rules, clock.started)
    skipped = rows_to_skip(incoming, conditions)
    progress.stage("reading the target")
    around = Surroundings(
        clock.started,
        conditions.computes,
        {find: _look_up(target, find) for find in {pair.rule.find for pair in pairing.pairs} if find is not None},
        {"time": f"{clock.started:%Y-%m-%d %H:%M:%S}", "file": incoming.address, "run": clock.run or "(preview)"},
        rules.clear_mark,
        shape.name,
    )
    converted = convert(incoming, pairing, around, skipped)
    looked_at = conditions.existing_columns | {column.name for column in pairing.columns}
    columns = tuple(column for column in shape.columns if column.name in looked_at)
    existing = target.fetch(columns, pairing.key_columns, converted.values.select(pairing.key))
    progress.stage("matching and comparing")
    codes = code_keys(converted.values, existing.values, pairing.key_columns)
    question = Question(incoming, converted, existing, codes, match(codes), pairing, shape, rules, conditions)
    changes = _settle_constraints(target, decide(question, skipped), existing, pairing)
    counted = account.tally(changes)
    account.prove_tally(counted, changes, len(incoming.row_numbers))
    complete = existing.complete or not counted.inserted
    known_keys = existing.values if complete else target.read(pairing.key_columns)
    return Decided(
        target.address,
        incoming,
        pairing,
        existing,
        changes,
        counted,
        account.fingerprint(changes),
        tuple(caution.cautions(incoming, existing, known_keys, changes, counted, pairing)),
        _notes(incoming, converted, changes),
        mapping_view(incoming, converted, pairing, skipped),
    )


def _look_up(target: Target, find: Find) -> LookUp:
    """The table of a look-up, read. Raises NoSuchTable and NoSuchColumn."""
    shape, values = target.sibling(find.table)
    where, take = target_name(shape, find.where), target_name(shape, find.take)
    return LookUp(
        replace(find, table=shape.name, where=where, take=take),
        shape.column(where),
        shape.column(take),
        values.select(list(dict.fromkeys([where, take]))),
    )


def _settle_constraints(target: Target, changes: ChangeSet, existing: Existing, pairing: Pairing) -> ChangeSet:
    """Reject what would break a constraint, until nothing does: one rejected record may have been another's parent."""
    while True:
        target.stage(changes, existing, pairing)
        found = target.violations(changes, pairing)
        if not found:
            return changes
        changes = reject(changes, found)


def _notes(incoming: Incoming, converted: Converted, changes: ChangeSet) -> tuple[str, ...]:
    rounded = [
        f"{count:,} {caution.plural(count, 'value', 'values')} in {column} rounded to the column's decimals "
        "(a spreadsheet's float noise)."
        for column, count in converted.rounded.items()
    ]
    skipped = [f"{count:,} skipped: {why}." for why, count in changes.skips.items()]
    return (*incoming.notes, *rounded, *skipped)


def _check_expectations(
    decided: Decided,
    job: Job,
    clock: _Clock,
    *,
    accept_warnings: bool,
    expect: str | None,
    rejects: Path | None,
) -> None:
    if expect is not None and expect != decided.fingerprint:
        receipt = _receipt(decided, State.STOPPED, clock)
        raise Stopped(
            f"The changes are not the expected ones: the fingerprint is {decided.fingerprint}, not {expect}. "
            "The incoming rows or the target changed since; preview again. Nothing was written.",
            receipt,
        )
    if job.strict and decided.tally.rejected:
        _stop_for_rejects(decided, clock, rejects)
    if decided.warnings and not accept_warnings:
        count = len(decided.warnings)
        raise Stopped(
            f"Stopped at {count} {caution.plural(count, 'warning', 'warnings')}; nothing was written. "
            "If all is as it should be, load again with --yes.",
            _receipt(decided, State.STOPPED, clock),
        )


def _stop_for_rejects(decided: Decided, clock: _Clock, rejects: Path | None) -> None:
    if rejects is not None:
        write_rejects(rejects_table(decided.incoming, decided.changes), rejects)
    count = decided.tally.rejected
    raise Stopped(
        f"Stopped: {count:,} {caution.plural(count, 'row was', 'rows were')} rejected and the load is strict; "
        "nothing was written. Mend the rows, or load without --strict to take the good ones.",
        _receipt(decided, State.STOPPED, clock, rejects=rejects),
    )


def _write(target: Target, decided: Decided) -> tuple[Decided, Written]:
    """Write, and account for what only the database could find fault with."""
    written = target.write(decided.changes)
    if not written.refused:
        return decided, written
    flaws = [
        Flaw(
            Reason.REFUSED,
            decided.changes.incoming[np.array([refusal.position])],
            f"a record that the target takes; it said: {refusal.message}",
        )
        for refusal in written.refused
    ]
    changes = reject(decided.changes, flaws)
    count = len(flaws)
    note = (
        f"{count:,} {caution.plural(count, 'row was', 'rows were')} refused by the database only when written, "
        "so the counts and the fingerprint differ from the preview's."
    )
    settled = replace(
        decided,
        changes=changes,
        tally=account.tally(changes),
        fingerprint=account.fingerprint(changes),
        notes=(*decided.notes, note),
    )
    return settled, written


def _prove_read_back(target: Target, decided: Decided) -> None:
    """Read every written record again and compare it with what was decided. Raises ProofFailed."""
    changes = decided.changes
    found = target.read_back(changes)
    if found.num_rows != changes.after.num_rows:
        raise ProofFailed(
            f"{changes.after.num_rows:,} records were written but {found.num_rows:,} were found again; "
            "the load was rolled back. A trigger of the target may be changing keys."
        )
    for column in decided.pairing.columns:
        wanted, stored = changes.after[column.name].combine_chunks(), found[column.name].combine_chunks()
        wrong = differs(wanted, stored)
        wrong[changes.updates :] &= changes.given[column.name]  # the others left the value to the default
        if wrong.any():
            at = int(wrong.argmax())
            row = decided.incoming.row_numbers[changes.incoming[at]]
            raise ProofFailed(
                f"What was written does not read back equal, so the load was rolled back: row {row}, column "
                f"{column.name}, wrote {wanted[at].as_py()!s}, found {stored[at].as_py()!s}. "
                "A trigger or the column's type may be changing values."
            )


def _write_rejects(decided: Decided, job: Job, asked: Path | None) -> Path | None:
    if asked is None and not decided.tally.rejected:
        return None
    path = asked or default_path(job.incoming[0], Path())
    write_rejects(rejects_table(decided.incoming, decided.changes), path)
    return path


def _receipt(decided: Decided, state: State, clock: _Clock, rejects: Path | None = None) -> Receipt:
    changes, tally = decided.changes, decided.tally
    columns = {name: int(mask.sum()) for name, mask in changes.changed.items() if mask.any()}
    rows_before = decided.existing.rows_in_target
    touched = state is State.LOADED
    table = TableReceipt(
        target=decided.target,
        key=decided.pairing.key,
        rows_before=rows_before,
        rows_after=rows_before + (tally.inserted if state in (State.LOADED, State.PREVIEWED) else 0),
        rows=tally,
        fields_updated=sum(columns.values()),
        columns=columns,
        mapping={pair.target.name: pair.incoming for pair in decided.pairing.pairs},
        not_loaded=decided.pairing.not_loaded,
        left_alone=decided.pairing.left_alone,
        view=decided.view,
        examples=samples.examples(decided.incoming, changes),
        samples=samples.sample_rows(decided.incoming, changes),
        read_back=changes.after.num_rows if touched else 0,
    )
    return Receipt(
        state=state,
        incoming=decided.incoming.address,
        sheet=decided.incoming.sheet,
        header_row=decided.incoming.header_row,
        rows=tally,
        fingerprint=decided.fingerprint,
        tables=(table,),
        rejects=Rejects(
            account.reasons(changes),
            first_rejects(decided.incoming, changes, _REJECTS_SHOWN),
            str(rejects) if rejects is not None else None,
        ),
        warnings=decided.warnings,
        notes=decided.notes,
        started=clock.started,
        seconds=time.perf_counter() - clock.began,
        verified=True if touched else None,
        run=clock.run if touched else None,
    )

"""Everything up to the decision: both sides read, matched, compared, staged, and the constraints settled."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.account import account
from tidymerge.core.decide.change_set import reject
from tidymerge.core.decide.columns import Converted, Surroundings, convert, used_columns
from tidymerge.core.decide.conditions import Conditions, compile_conditions, resolved, rows_to_skip
from tidymerge.core.decide.constraints import dropped, flaws_of, refused
from tidymerge.core.decide.decide import decide
from tidymerge.core.decide.lookup import LookUp
from tidymerge.core.decide.question import Question
from tidymerge.core.explain.view import mapping_view
from tidymerge.core.match.match import code_keys, match
from tidymerge.core.naming.mapping import pair_columns, target_name
from tidymerge.core.tidy.cells import as_array, differs
from tidymerge.core.tidy.fill import merged_notes
from tidymerge.core.warn import caution
from tidymerge.core.warn.brakes import brakes
from tidymerge.core.warn.limits import doubts, exceeded
from tidymerge.core.words import plural
from tidymerge.errors import BadOption
from tidymerge.job.model import Job
from tidymerge.model import Existing, Flaw, Incoming, Indices, Kind, NewColumn, Pairing, TableShape, TargetColumn
from tidymerge.model.changes import ChangeSet, Refusal, Tally
from tidymerge.model.receipt import Conflict, MappedColumn
from tidymerge.model.rules import Find, Rules
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.split import Gathered, Piece, can_split, split
from tidymerge.run.widen import check_types, widen


@dataclass(frozen=True, slots=True)
class Part:
    """Some of the incoming rows, with what was decided about them. `rows` gives them, or reads them again."""

    rows: Callable[[], Incoming]
    changes: ChangeSet
    read: int

    def without(self, flaws: Sequence[Flaw]) -> "Part":
        """The part with the rows that have these flaws rejected."""
        return replace(self, changes=reject(self.changes, flaws))


def as_they_are(changes: ChangeSet) -> ChangeSet:
    """The changes, whose values are fit to be read."""
    return changes


def _no_conflicts(_: Sequence[Part]) -> Iterable[Conflict]:
    """A load has none."""
    return ()


@dataclass(frozen=True, slots=True)
class Decided:
    """All that is known once every row has its outcome and nothing is written yet.

    `shown` makes the values of changes fit to be read; `conflicts` gives the records of an undo's parts that can't be
    put back; `limits` are those that the job goes over; `added` columns are in the shape already, `dropped` ones still;
    `latest` has the greatest incoming value of each column of dates.
    """

    target: str
    incoming: Gathered
    shape: TableShape
    pairing: Pairing
    rows_before: int
    parts: tuple[Part, ...]
    tally: Tally
    fingerprint: str
    warnings: tuple[str, ...]
    notes: tuple[str, ...]
    view: tuple[MappedColumn, ...]
    shown: Callable[[ChangeSet], ChangeSet] = as_they_are
    conflicts: Callable[[Sequence[Part]], Iterable[Conflict]] = _no_conflicts
    limits: tuple[str, ...] = ()
    added: tuple[NewColumn, ...] = ()
    dropped: tuple[NewColumn, ...] = ()
    latest: Mapping[str, str] = field(default_factory=dict)

    def with_parts(self, parts: Sequence[Part], *notes: str) -> "Decided":
        """The same with other outcomes of some rows."""
        changes = [part.changes for part in parts]
        return replace(
            self,
            parts=tuple(parts),
            tally=account.tally(changes),
            fingerprint=account.fingerprint(changes),
            notes=(*self.notes, *notes),
        )


@dataclass
class _Noticed:
    """What is to be remembered of the parts: of their existing records, and what is worth saying.

    `complete` says whether the `rows` records read are all of the target's, `known` gives their keys.
    """

    complete: bool = True
    rows: int = 0
    known: list[Callable[[], pa.Table]] = field(default_factory=list)
    refusals: list[Refusal] = field(default_factory=list)
    rounded: dict[str, int] = field(default_factory=dict)
    not_found: dict[str, int] = field(default_factory=dict)
    unreadable: dict[str, int] = field(default_factory=dict)
    skips: dict[str, int] = field(default_factory=dict)
    latest: dict[str, str] = field(default_factory=dict)
    view: tuple[MappedColumn, ...] = ()

    def add(self, counts: Mapping[str, int], into: dict[str, int]) -> None:
        for name, count in counts.items():
            into[name] = into.get(name, 0) + count

    def see_dates(self, values: pa.Table, pairing: Pairing) -> None:
        """Remember the greatest value of each column of dates."""
        for pair in pairing.pairs:
            if pair.target.type.kind in (Kind.DATE, Kind.TIMESTAMP) and pair.rule.sources:
                greatest = pc.max(values[pair.target.name]).as_py()
                if greatest is not None:
                    self.latest[pair.target.name] = max(str(greatest), self.latest.get(pair.target.name, ""))

    def notes(self) -> tuple[str, ...]:
        rounded = [
            f"{count:,} {plural(count, 'value', 'values')} in {column} rounded to the column's decimals "
            "(a spreadsheet's float noise)."
            for column, count in self.rounded.items()
        ]
        lost = [
            f"{count:,} {plural(count, 'look-up', 'look-ups')} for {column} found nothing, which loads nothing."
            for column, count in self.not_found.items()
        ]
        return (*rounded, *lost, *(f"{count:,} skipped: {why}." for why, count in self.skips.items()))


@dataclass(frozen=True, slots=True)
class Plan:
    """What holds for every part: the columns and their rules, compiled, and the tables looked up in."""

    shape: TableShape
    pairing: Pairing
    rules: Rules
    conditions: Conditions
    around: Surroundings
    target: Target

    @classmethod
    def of(cls, job: Job, target: Target, shape: TableShape, gathered: Gathered, run: tuple[str, datetime]) -> "Plan":
        """Pair the columns, compile the conditions, read the look-up tables. Raises UsageError and TargetError."""
        name, now = run
        incoming = gathered.sample
        names = [column.name for column in incoming.columns]
        called = incoming.called
        pairing = pair_columns(
            names, shape, renames=job.renames, only=job.only, key=job.key, rules=job.columns, called=called
        )
        rules = resolved(job.rules, incoming, pairing, shape)
        conditions = compile_conditions(incoming, pairing, shape, rules, now)
        finds = {pair.rule.find for pair in pairing.pairs} - {None}
        around = Surroundings(
            now,
            conditions.computes,
            {find: _look_up(target, find) for find in finds if find is not None},
            {"time": f"{now:%Y-%m-%d %H:%M:%S}", "run": name},
            rules.clear_mark,
            shape.name,
            conditions.asked(incoming) | ({rules.instruction.column} if rules.instruction else set()),
        )
        used = used_columns(pairing, around)
        idle = tuple(name for name in pairing.not_loaded if name not in used)
        return cls(shape, replace(pairing, not_loaded=idle), rules, conditions, around, target)

    @property
    def columns_read(self) -> tuple[TargetColumn, ...]:
        """The target columns whose stored values are needed."""
        looked_at = self.conditions.existing_columns | {column.name for column in self.pairing.columns}
        return tuple(column for column in self.shape.columns if column.name in looked_at)

    def keys(self, incoming: Incoming) -> pa.Table:
        """The typed keys of some rows; null where blank or wrong."""
        pairs = tuple(pair for pair in self.pairing.pairs if pair.target.name in self.pairing.key)
        nothing = np.zeros(len(incoming.row_numbers), bool)
        return convert(incoming, replace(self.pairing, pairs=pairs), self.around, nothing).values

    def decide(self, incoming: Incoming, existing: Existing | None) -> tuple[Converted, Existing, ChangeSet]:
        """Decide about some rows; without the records that may match, these are fetched."""
        skipped = rows_to_skip(incoming, self.conditions)
        converted = convert(incoming, self.pairing, self.around, skipped)
        exact = self._keys_as_they_came(converted)
        if existing is None:
            keys = pa.concat_tables([converted.values.select(self.pairing.key), *([exact[1]] if exact else [])])
            existing = self.target.fetch(self.columns_read, self.pairing.key_columns, keys)
        if exact:
            converted = self._with_exact_keys(converted, exact, existing)
        codes = code_keys(converted.values, existing.values, self.pairing.key_columns, self.target.equal_codes)
        question = Question(
            incoming, converted, existing, codes, match(codes), self.pairing, self.shape, self.rules, self.conditions
        )
        return converted, existing, decide(question, skipped)

    def _keys_as_they_came(self, converted: Converted) -> tuple[Indices, pa.Table] | None:
        """The rows whose key tidying changed, with their keys as they arrived."""
        names = [name for name in self.pairing.key if name in converted.untidied]
        if not names:
            return None
        tidied = converted.values.select(self.pairing.key)
        other = [differs(converted.untidied[name], as_array(tidied[name])) for name in names]
        rows = np.flatnonzero(np.logical_or.reduce(other))
        came = {name: converted.untidied.get(name, tidied[name]) for name in self.pairing.key}
        return (rows, pa.table(came).take(pa.array(rows))) if len(rows) else None

    def _with_exact_keys(self, converted: Converted, exact: tuple[Indices, pa.Table], existing: Existing) -> Converted:
        """A key that a record has exactly as it arrived is that record's, whatever tidying would make of it."""
        rows, keys = exact
        codes = code_keys(keys, existing.values, self.pairing.key_columns, self.target.equal_codes)
        known = match(codes).times > 0
        values = converted.values
        for name in self.pairing.key if known.any() else ():
            mask = np.zeros(values.num_rows, bool)
            mask[rows[known]] = True
            came = pc.replace_with_mask(
                as_array(values[name]), pa.array(mask), as_array(keys[name]).filter(pa.array(known))
            )
            values = values.set_column(values.column_names.index(name), name, came)
        return replace(converted, values=values)


def decide_all(
    job: Job,
    target: Target,
    gather: Callable[[TableShape, Target], Gathered],
    run: tuple[str, datetime],
    progress: Progress,
) -> Decided:
    """Read, match, compare and stage all rows, and settle the constraints. `run` is the run's name and time."""
    shape = target.describe()
    _check(job, shape)
    progress.stage("reading the incoming rows")
    gathered = gather(shape, target)
    widened = widen(job, gathered, shape, target)
    job, shape = widened.job, widened.shape
    plan = Plan.of(job, target, shape, gathered, run)
    if gathered.batches is not None and not can_split(plan.pairing, shape):
        gathered = gathered.together()
    noticed = _Noticed()
    parts = _decide_parts(plan, gathered, noticed, progress)
    rows_before = noticed.rows if noticed.complete else target.count()
    progress.stage("testing the constraints")
    settled = settle_constraints(target, without_refused(parts, noticed.refusals, target), plan.pairing)
    changes = [part.changes for part in settled]
    counted = account.tally(changes)
    for part in settled:
        account.prove_tally(account.tally([part.changes]), part.changes, part.read)
        noticed.add({why: len(rows) for why, rows in part.changes.skips.items()}, noticed.skips)
    # Where nothing is written, nothing is added.
    writes = counted.inserted + counted.updated > 0
    added, said = (widened.added, (*shape.notes, *widened.notes)) if writes else ((), ())
    warnings = caution.cautions(counted, noticed.unreadable, job.take_rows)
    doubtful = doubts(job.limits, counted, rows_before, plan.pairing.key)
    warnings += [*doubtful, *_warnings(plan, gathered.sample, settled, noticed)]
    meant = job.limits.updated is not None or job.limits.expect_updated == counted.updated or bool(doubtful)
    warnings += caution.unseen(counted, target.unseen()) if counted.inserted else []
    new = {column.name for column in widened.added}
    both = [(part.rows, part.changes) for part in settled]
    warnings += brakes(both, plan.pairing, counted, is_meant=meant, added=new)
    return Decided(
        target.address,
        gathered,
        shape,
        plan.pairing,
        rows_before,
        tuple(settled),
        counted,
        account.fingerprint(changes),
        tuple(warnings),
        (*gathered.sample.notes, *merged_notes(gathered.sample), *said, *noticed.notes()),
        noticed.view,
        limits=tuple(exceeded(job.limits, counted, rows_before)),
        added=added,
        latest=noticed.latest,
    )


def _check(job: Job, shape: TableShape) -> None:
    """What a job asks of its target. Raises BadOption."""
    if job.rules.update_all and not shape.primary_key:
        raise BadOption(
            f"{shape.name} has no primary key to tell records of one key apart, so an update of all of them could "
            'not be undone. Leave several_records = "update-all" out, or give the table a primary key.'
        )
    if not job.add:
        check_types(job, shape)


def _warnings(plan: Plan, sample: Incoming, parts: Sequence[Part], noticed: _Noticed) -> list[str]:
    """What the rows themselves give reason to warn of."""
    changes = [part.changes for part in parts]
    both = [(part.rows, part.changes) for part in parts]
    known = noticed.known
    if any(len(part.inserts) for part in changes) and not noticed.complete:
        known = [_lookalikes(plan.target, changes, plan.pairing)]
    return [
        *caution.own_target(sample, plan.target.address),
        *caution.uncalculated(sample, used_columns(plan.pairing, plan.around)),
        *caution.doubtful_letters(both, plan.pairing),
        *caution.near_misses(both, known, plan.pairing),
        *caution.totals(both, plan.pairing),
    ]


def _decide_parts(plan: Plan, gathered: Gathered, noticed: _Noticed, progress: Progress) -> list[Part]:
    """Decide about all rows, most often in one part, and stage what is to change."""
    parts: list[Part] = []
    staged = 0
    batches = gathered.batches
    if batches is None:
        progress.rows(len(gathered.sample.row_numbers))
    else:
        progress.stage("reading the incoming rows", gathered.expected)
        gathered = replace(gathered, batches=lambda: _counted(batches(), progress))
    for piece in split(gathered, plan.keys, plan.pairing, plan.target, plan.columns_read):
        if not parts:
            progress.stage("comparing with the target", gathered.expected or len(gathered.sample.row_numbers))
        parts.append(_decide_piece(plan, piece, noticed, staged))
        progress.rows(parts[-1].read)
        staged += parts[-1].changes.touched
    return parts


def _counted(batches: Iterator[Incoming], progress: Progress) -> Iterator[Incoming]:
    for batch in batches:
        yield batch
        progress.rows(len(batch.row_numbers))


def _decide_piece(plan: Plan, piece: Piece, noticed: _Noticed, first: int) -> Part:
    incoming = piece.incoming()
    converted, existing, changes = plan.decide(incoming, None if piece.existing is None else piece.existing())
    changes = changes.staged_from(first)
    noticed.add(converted.rounded, noticed.rounded)
    noticed.see_dates(converted.values, plan.pairing)
    noticed.add(converted.not_found, noticed.not_found)
    noticed.add({name: int(mask.sum()) for name, mask in existing.unreadable.items()}, noticed.unreadable)
    if not noticed.view:
        skipped = rows_to_skip(incoming, plan.conditions)
        noticed.view = mapping_view(incoming, converted, plan.pairing, skipped)
    noticed.complete &= existing.complete
    noticed.rows += existing.values.num_rows
    noticed.known.append(piece.known_keys(existing, plan.pairing.key))
    noticed.refusals += plan.target.stage(changes, existing, plan.pairing)
    return Part(piece.incoming, piece.kept(changes), len(incoming.row_numbers))


def _lookalikes(target: Target, changes: Sequence[ChangeSet], pairing: Pairing) -> Callable[[], pa.Table]:
    """The keys of the records that a new key may have been meant for, where not all records were read."""
    texts = caution.text_columns(pairing)
    if not texts:
        return lambda: pa.table({column.name: pa.nulls(0, column.type.arrow) for column in pairing.key_columns})
    candidates = caution.lookalikes(changes, target.distinct(texts), pairing)
    return lambda: target.fetch(pairing.key_columns, pairing.key_columns, candidates).values


def _look_up(target: Target, find: Find) -> LookUp:
    """The table of a look-up, read. Raises NoSuchTable and NoSuchColumn."""
    shape, values = target.sibling(find.table)
    where, take = target_name(shape, find.where), target_name(shape, find.take)
    return LookUp(
        replace(find, table=shape.name, where=where, take=take),
        shape.column(where),
        shape.column(take),
        values.select(list(dict.fromkeys([where, take]))),
        target.equal_codes,
    )


def without_refused(parts: Sequence[Part], refusals: Sequence[Refusal], target: Target) -> list[Part]:
    """Reject the rows whose values the database could not even hold in its staging table."""
    settled = reject_refusals(parts, refusals)
    target.unstage([refusal.position for refusal in refusals])
    return settled


def reject_refusals(parts: Sequence[Part], refusals: Sequence[Refusal]) -> list[Part]:
    """The parts with the refused rows rejected, in the database's words."""
    settled = []
    for part in parts:
        flaws = [flaw for refusal in refusals for flaw in refused(refusal.position, refusal.message, part.changes)]
        settled.append(part.without(flaws) if flaws else part)
    return settled


def settle_constraints(
    target: Target, parts: Sequence[Part], pairing: Pairing, shown: Callable[[ChangeSet], ChangeSet] = as_they_are
) -> list[Part]:
    """Reject what would break a constraint, until nothing does: one rejected record may have been another's parent.

    `shown` makes the values fit to be read.
    """
    settled = list(parts)
    while True:
        violations = target.violations(pairing) if any(part.changes.touched for part in settled) else []
        at_fault = False
        for index, part in enumerate(settled):
            readable = shown(part.changes) if violations else part.changes
            flaws = [flaw for violation in violations for flaw in flaws_of(violation, readable, pairing)]
            if flaws:
                at_fault = True
                target.unstage(dropped(part.changes, flaws).tolist())
                settled[index] = part.without(flaws)
        if not at_fault:
            return settled

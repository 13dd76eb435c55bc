"""Deciding about all rows of a load, part by part, and what is worth saying about the whole."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from math import inf

import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.core.account import account
from tidymerge.core.decide.columns import used_columns
from tidymerge.core.decide.part import Decision, Rows, TidyRows, convert_rows, decide_part, read_rows
from tidymerge.core.decide.plan import Plan
from tidymerge.core.explain.view import mapping_view
from tidymerge.core.tidy.fill import merged_notes
from tidymerge.core.warn import caution
from tidymerge.core.warn.brakes import brakes
from tidymerge.core.warn.limits import doubts, exceeded
from tidymerge.core.words import counted, plural
from tidymerge.job.model import Job
from tidymerge.model import Existing, Incoming, Pairing, Sample
from tidymerge.model.changes import ChangeSet, Refusal, Tally
from tidymerge.model.receipt import MappedColumn
from tidymerge.model.rules import Limits, Most
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Related, Target
from tidymerge.run.ask import equal_among, equal_texts, unseen
from tidymerge.run.decide_by_rows import Leaving
from tidymerge.run.decided import Decided, Part, as_they_are
from tidymerge.run.full_list import all_records, notes_on
from tidymerge.run.leaving import for_people, in_full
from tidymerge.run.meanwhile import meanwhile
from tidymerge.run.split import Gathered, Piece, split
from tidymerge.run.widen import Widened


class Noticed(Struct):
    """What is to be remembered of the parts: of their existing records, and what is worth saying.

    `complete` says whether the `rows` records read are all of the target's, `known` gives their keys; `nameless` counts
    the rows of which it is not known which record they mean. The typed `values` of the rows are kept if they are
    `seen` by other tables.
    """

    seen: bool = False
    complete: bool = True
    rows: int = 0
    known: list[Callable[[], pa.Table]] = field(default_factory=list)
    refusals: list[Refusal] = field(default_factory=list)
    rounded: dict[str, int] = field(default_factory=dict)
    not_found: dict[str, int] = field(default_factory=dict)
    unreadable: dict[str, int] = field(default_factory=dict)
    latest: dict[str, str] = field(default_factory=dict)
    nameless: int = 0
    missing: int = 0
    view: tuple[MappedColumn, ...] = ()
    values: pa.Table = field(default_factory=lambda: pa.table({}))

    def see(self, rows: Rows, existing: Existing, decision: Decision, pairing: Pairing) -> None:
        """Remember what a part has that is worth saying."""
        _add(decision.rounded, self.rounded)
        _add(decision.not_found, self.not_found)
        _add(decision.unreadable, self.unreadable)
        for name, value in decision.latest.items():
            self.latest[name] = max(value, self.latest.get(name, ""))
        if not self.view:
            self.view = mapping_view(rows.incoming, rows.converted, pairing, rows.skipped)
        if self.seen:
            self.values = rows.converted.values
        self.nameless += decision.nameless
        self.missing += decision.missing
        self.complete &= existing.complete
        self.rows += existing.values.num_rows

    def notes(self, parts: Sequence[Part]) -> tuple[str, ...]:
        """What is worth saying, in sentences."""
        rounded = [
            f"{count:,} {plural(count, 'value', 'values')} in {column} rounded to the column's decimals "
            "(a spreadsheet's float noise)."
            for column, count in self.rounded.items()
        ]
        lost = [
            f"{count:,} {plural(count, 'look-up', 'look-ups')} for {column} found nothing, which loads nothing."
            for column, count in self.not_found.items()
        ]
        skips: dict[str, int] = {}
        for part in parts:
            _add({why: len(rows) for why, rows in part.changes.skips.items()}, skips)
        missing = (
            f"{counted(self.missing, 'row')} of the extract {plural(self.missing, 'is', 'are')} not among these; "
            f"nothing is done about {plural(self.missing, 'its record', 'their records')}."
        )
        return (
            *rounded,
            *lost,
            *([missing] if self.missing else []),
            *(f"{count:,} skipped: {why}." for why, count in skips.items()),
        )


def _add(counts: Mapping[str, int], into: dict[str, int]) -> None:
    for name, count in counts.items():
        into[name] = into.get(name, 0) + count


def decide_parts(
    plan: Plan,
    gathered: Gathered,
    target: Target,
    progress: Progress,
    noticed: Noticed,
    leaving: Leaving | None = None,
) -> list[Part]:
    """Decide about all rows, most often in one part, and stage what is to change; what is `leaving` may take along.

    What is worth remembering is `noticed`.
    """
    parts: list[Part] = []
    batches = gathered.batches
    if batches is None:
        progress.rows(gathered.expected)
    else:
        progress.stage("reading the incoming rows", gathered.expected)
        gathered = replace(gathered, batches=lambda: _counted(batches(), progress))

    def keys_of(incoming: Incoming) -> pa.Table:
        return _rows(plan.of_keys, incoming, target).converted.values

    staged = 0
    everything = plan.rules.absent is not None
    for piece in split(gathered, keys_of, plan.pairing, target, plan.columns_read, everything=everything):
        if not parts:
            progress.stage("comparing with the target", gathered.expected)
        parts.append(_decide_piece(plan, piece, target, noticed, staged, leaving))
        progress.rows(parts[-1].read)
        staged += parts[-1].changes.touched
    return parts


def _counted(batches: Iterator[Incoming], progress: Progress) -> Iterator[Incoming]:
    for batch in batches:
        yield batch
        progress.rows(len(batch.row_numbers))


def _decide_piece(
    plan: Plan, piece: Piece, target: Target, noticed: Noticed, first: int, leaving: Leaving | None
) -> Part:
    rows, existing = _both_sides(plan, piece, target)
    existing = _telling(existing, plan, rows, target)
    decision = decide_part(plan, rows, existing)
    changes, held = decision.changes, existing
    if leaving is not None:
        changes, held = leaving.grow(changes, existing, plan.pairing, plan.shape)
    changes = changes.staged_from(first)
    noticed.see(rows, existing, decision, plan.pairing)
    noticed.known.append(piece.known_keys(existing, plan.pairing.key))
    noticed.refusals += target.stage(changes, held, plan.pairing)
    changes = in_full(changes, plan.shape, target)
    return Part(piece.incoming, piece.kept(changes), decision.read)


def _both_sides(plan: Plan, piece: Piece, target: Target) -> tuple[Rows, Existing]:
    """The rows of a piece, and the records that may match. Those arrive while the rows are tidied."""
    incoming = piece.incoming()
    if piece.existing is not None:
        return _rows(plan, incoming, target), piece.existing()
    if plan.rules.absent is not None:
        return _rows(plan, incoming, target), all_records(plan, target)
    if not plan.pairing.key:
        return _rows(plan, incoming, target), target.nothing(plan.columns_read)
    keys = _rows(plan.of_keys, incoming, target).keys(plan)

    def fetch() -> Existing:
        return target.fetch(plan.columns_read, plan.pairing.key_columns, keys)

    with meanwhile(fetch, target.break_off) as fetched:
        tidy = read_rows(plan, incoming)
        existing = fetched()
    return _in_types(plan, tidy, target), existing


def _rows(plan: Plan, incoming: Incoming, target: Target) -> Rows:
    """The rows in the target's types."""
    return _in_types(plan, read_rows(plan, incoming), target)


def _in_types(plan: Plan, tidy: TidyRows, target: Target) -> Rows:
    """The same, of tidied rows. What only the target knows of the texts looked up is asked."""
    equal = {
        find: equal_among(target, plan.around.look_ups[find].where, texts)
        for find, texts in tidy.texts_to_ask(plan).items()
    }
    return convert_rows(plan.telling(equal), tidy)


def _telling(existing: Existing, plan: Plan, rows: Rows, target: Target) -> Existing:
    """The records with what only the target knows of the texts in the keys."""
    texts = rows.texts_to_ask(plan, existing)
    return replace(existing, equal=equal_texts(target, plan.pairing.key_columns, texts))


def sum_up(
    plan: Plan,
    widened: Widened,
    gathered: Gathered,
    target: Target,
    parts: Sequence[Part],
    noticed: Noticed,
    named: Callable[[ChangeSet], ChangeSet] = as_they_are,
) -> Decided:
    """What was decided about all rows: the tally, proved, the fingerprint, warnings, limits and notes.

    `named` puts keys in place of ids that are not known yet.
    """
    job, sample = widened.job, gathered.sample
    changes = [part.changes for part in parts]
    tally = account.tally(changes)
    for part in parts:
        account.prove_tally(account.tally([part.changes]), part.changes, part.read)
    rows_before = noticed.rows if noticed.complete else target.count()
    gone = tally.absent if job.rules.absent_sets else 0
    # Where nothing is written, nothing is added.
    writes = tally.inserted + tally.updated + tally.removed > 0
    added, said = (widened.added, (*plan.shape.notes, *widened.notes)) if writes else ((), ())
    # The target is asked for the warnings meanwhile.
    with meanwhile(partial(_mark, changes, named), break_off=lambda: None) as fingerprint:
        warnings = _warnings(plan, widened, sample, target, parts, noticed, tally, rows_before)
        marked = fingerprint()
    return Decided(
        target=target.address,
        sample=sample,
        shape=plan.shape,
        pairing=plan.pairing,
        rows_before=rows_before,
        parts=tuple(parts),
        tally=tally,
        fingerprint=marked,
        warnings=tuple(warnings),
        notes=(*_of_rows(sample), *said, *noticed.notes(parts), *notes_on(job, sum(c.touched_absent for c in changes))),
        view=noticed.view,
        shown=for_people(target),
        limits=tuple(exceeded(_limits(job), tally, rows_before, _records(changes), gone)),
        added=added,
        made=bool(added) and widened.made is not None,
        once=tuple(sorted(used_columns(plan.pairing, plan.around))) if job.rules.once else None,
        known_as=None if plan.known is None else plan.known.why,
        latest=noticed.latest,
        unreadable=frozenset(noticed.unreadable),
        alone=not isinstance(target, Related),
    )


def _mark(parts: Sequence[ChangeSet], named: Callable[[ChangeSet], ChangeSet]) -> str:
    return account.fingerprint([named(part) for part in parts])


def _of_rows(sample: Sample) -> tuple[str, ...]:
    """What is worth saying of the rows as they were read."""
    return (*sample.rows.notes, *merged_notes(sample.rows))


def _limits(job: Job) -> Limits:
    """The limits of a job: who appends rows means all of them to be new."""
    limits = job.limits
    return replace(limits, inserted=Most(inf)) if job.rules.append and limits.inserted is None else limits


def _records(parts: Sequence[ChangeSet]) -> int:
    """How many records are updated."""
    return sum(len(part.updates) for part in parts)


def _warnings(
    plan: Plan,
    widened: Widened,
    sample: Sample,
    target: Target,
    parts: Sequence[Part],
    noticed: Noticed,
    tally: Tally,
    rows_before: int,
) -> list[str]:
    """What a careful person would stop at."""
    job, pairing = widened.job, plan.pairing
    changes = [part.changes for part in parts]
    both = [(part.incoming, part.changes.without_absent()) for part in parts]
    known = noticed.known
    if any(len(part.inserts) for part in changes) and not noticed.complete:
        known = [_lookalikes(target, changes, pairing)]
    appends = job.rules.append
    doubtful = [] if appends else doubts(job.limits, tally, rows_before, _records(changes), pairing.key)
    is_meant = job.limits.updated is not None or job.limits.expect_updated == tally.updated or bool(doubtful)
    return [
        *caution.cautions(tally, noticed.unreadable, job.take_rows, may_be_none=job.reads_on),
        *doubtful,
        *caution.own_target(sample.rows, target.address),
        *caution.uncalculated(sample.rows, used_columns(pairing, plan.around)),
        *caution.doubtful_letters(both, pairing),
        *caution.near_misses(both, known, pairing),
        *caution.totals(both, pairing),
        *(caution.unseen(tally, unseen(target)) if tally.inserted else ()),
        *brakes(both, pairing, tally, is_meant=is_meant, added={column.name for column in widened.added}),
    ]


def _lookalikes(target: Target, changes: Sequence[ChangeSet], pairing: Pairing) -> Callable[[], pa.Table]:
    """The keys of the records that a new key may have been meant for, where not all records were read."""
    texts = caution.text_columns(pairing)
    if not texts:
        return lambda: pa.table({column.name: pa.nulls(0, column.type.arrow) for column in pairing.key_columns})
    candidates = caution.lookalikes(changes, target.distinct(texts), pairing)
    return lambda: target.fetch(pairing.key_columns, pairing.key_columns, candidates).values

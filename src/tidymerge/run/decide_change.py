"""Deciding about the records of a target: which meet the condition, and what becomes of them."""

from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.account import account
from tidymerge.core.decide.change import ChangePlan, DecidedChange, as_rows, change_part, meeting, only
from tidymerge.core.decide.columns import Converted, Surroundings, convert, texts_sought, understand
from tidymerge.core.explain.view import in_words
from tidymerge.core.expressions import Type, compile_expression, type_of
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.core.naming.mapping import check_loadable, listing, target_name
from tidymerge.core.warn.limits import Excess, exceeded
from tidymerge.core.words import counted, plural
from tidymerge.errors import BadOption, NoKey
from tidymerge.job.model import Change
from tidymerge.model import Existing, Incoming, Mask, Pair, Pairing, Sample, TableShape
from tidymerge.model.changes import Outcome
from tidymerge.model.receipt import Action, Request
from tidymerge.model.rules import ColumnRule, Limits, Most
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.ask import equal_among, equal_texts
from tidymerge.run.decided import Decided, Part
from tidymerge.run.plan import look_up
from tidymerge.run.report import Clock
from tidymerge.run.settle import settle


def decide_change(asked: Change, target: Target, clock: Clock, progress: Progress) -> Decided:
    """Read the records, decide about those that meet the condition, stage what changes, settle the constraints."""
    shape = target.describe()
    plan = _plan(asked, shape, target, clock)
    progress.stage("reading the records", target.about_how_many)
    read = _read(plan, shape, target, progress)
    rows = as_rows(plan, read.existing, target.address)
    decision = change_part(plan, read.existing, _by_rule(plan, rows, target), read.several)
    refusals = target.stage(decision.changes, read.existing, plan.pairing)
    progress.stage("testing the constraints")
    part = Part(lambda: rows, decision.changes, read.existing.values.num_rows)
    (part,) = settle(target, [part], refusals, plan.pairing)
    tally = account.tally([part.changes])
    account.prove_tally(tally, part.changes, part.read)
    return Decided(
        target=target.address,
        sample=Sample(rows),
        shape=shape,
        pairing=plan.pairing,
        rows_before=read.rows,
        parts=(part,),
        tally=tally,
        fingerprint=account.fingerprint([part.changes]),
        warnings=(),
        notes=(*shape.notes, *_notes(plan, part, decision, read)),
        view=(),
        limits=(*_unconditional(asked, read.rows), *exceeded(_limits(asked), tally, read.rows)),
        unreadable=decision.unreadable,
        request=request_of(asked),
    )


def request_of(asked: Change) -> Request:
    """What is asked, for the receipt and the log."""
    return Request(Action.CHANGE, {name: _said(rule) for name, rule in asked.columns.items()}, asked.where)


def _said(rule: ColumnRule) -> str:
    """A column's rule in words: its expression, or what is done with its columns."""
    if rule.compute is not None:
        return rule.compute
    what = f"'{rule.constant}'" if rule.constant is not None else rule.stamp or " + ".join(rule.sources)
    words = in_words(rule) if rule.steps or rule.find else ""
    return f"{what} ({words})" if words else what


def _plan(asked: Change, shape: TableShape, target: Target, clock: Clock) -> ChangePlan:
    """The columns, their rules and expressions, the key. Raises UsageError."""
    rules = {target_name(shape, name): _settled(rule, shape) for name, rule in asked.columns.items()}
    if not rules:
        raise BadOption("Say what to set.")
    for name, rule in rules.items():
        check_loadable(shape.column(name))
        for step in rule.steps:
            step.check(f"columns.{name}")
    key = _key(asked, shape, rules)
    known: dict[str, Type] = {column.name: type_of(column.type) for column in shape.columns if not column.foreign}
    scopes = {"existing": known}
    computes = {
        name: compile_expression(rule.compute, f"columns.{name}.compute", scopes)
        for name, rule in rules.items()
        if rule.compute is not None
    }
    where = compile_expression(asked.where, "where", scopes, condition=True) if asked.where else None
    pairs = [
        Pair(column, _said(rules[column.name]), rules[column.name])
        if column.name in rules
        else Pair(column, column.name, ColumnRule(sources=(column.name,)))
        for column in shape.columns
        if column.name in {*rules, *key}
    ]
    around = Surroundings(
        clock.started,
        computes,
        {rule.find: look_up(target, rule.find) for rule in rules.values() if rule.find is not None},
        {"time": f"{clock.started:%Y-%m-%d %H:%M:%S}", "run": clock.run or "(preview)"},
    )
    return ChangePlan(shape, Pairing(tuple(pairs), key, (), ()), tuple(rules), where, around)


def _settled(rule: ColumnRule, shape: TableShape) -> ColumnRule:
    """The rule with the table's own spelling of its columns."""
    return replace(rule, sources=tuple(target_name(shape, name) for name in rule.sources))


def _by_rule(plan: ChangePlan, rows: Incoming, target: Target) -> Converted:
    """The columns that are set by a rule other than an expression, in their types."""
    none = np.zeros(len(rows.row_numbers), bool)
    found = understand(rows, plan.by_rule, plan.around, none)
    equal = {
        find: equal_among(target, plan.around.look_ups[find].where, texts)
        for find, texts in texts_sought(found, plan.by_rule).items()
    }
    return convert(rows, found, plan.by_rule, plan.around.telling(equal), none)


def _key(asked: Change, shape: TableShape, rules: Mapping[str, ColumnRule]) -> tuple[str, ...]:
    """The columns that name a record: those given, or the first key of the target that is not to be set."""
    if asked.key:
        key = tuple(dict.fromkeys(target_name(shape, name) for name in asked.key))
        both = [name for name in key if name in rules]
        if both:
            raise BadOption(
                f"{both[0]} names the records and is to be set: afterwards an undo could not find them. Name them by "
                "other columns."
            )
        return key
    full = [names for names in shape.unique if not any(shape.column(name).nullable for name in names)]
    own = [names for names in (shape.primary_key, *full) if names]
    for names in own:
        if not set(names) & set(rules):
            return names
    if own and set(own[0]) & set(rules):
        found = f"{' + '.join(own[0])} is to be set, and {shape.name} has no other key by which an undo finds a record"
    else:
        found = f"{shape.name} declares no key, by which an undo finds a record"
    others = listing([column.name for column in shape.columns if column.name not in rules])
    raise NoKey(f"{found}. Say which columns name it; there are {others}.", give=((("key", "COLUMN"),),))


class _Found(Struct, frozen=True):
    """The records that meet the condition, which of them share their key with others, and counts of the others."""

    existing: Existing
    several: Mask | None
    rows: int
    unclear: int


def _read(plan: ChangePlan, shape: TableShape, target: Target, progress: Progress) -> _Found:
    """Read all records, and keep those that meet the condition."""
    key = plan.pairing.key_columns
    found, keys, rows, unclear = [], [], 0, 0
    sees_to_keys = set(plan.pairing.key) in [set(names) for names in (shape.primary_key, *shape.unique) if names]
    for batch in target.read_in_batches(plan.columns_read, key):
        met = meeting(plan, batch)
        rows, unclear = rows + batch.values.num_rows, unclear + int(met.unclear.sum())
        found.append(only(batch, met.records))
        keys += [] if sees_to_keys else [batch.values.select(plan.pairing.key)]
        progress.rows(batch.values.num_rows)
    existing = _together(found)
    several = None if sees_to_keys else _shared(plan, existing, pa.concat_tables(keys), target)
    return _Found(existing, several, rows, unclear)


def _together(parts: Sequence[Existing]) -> Existing:
    """The records of all batches."""
    if len(parts) == 1:
        return parts[0]
    names = dict.fromkeys(name for part in parts for name in part.unreadable)
    unreadable = {
        name: np.concatenate([part.unreadable.get(name, np.zeros(part.values.num_rows, bool)) for part in parts])
        for name in names
    }
    values, places = (pa.concat_tables(tables) for tables in zip(*((p.values, p.places) for p in parts), strict=True))
    return Existing(values.combine_chunks(), places.combine_chunks(), complete=False, unreadable=unreadable)


def _shared(plan: ChangePlan, existing: Existing, keys: pa.Table, target: Target) -> Mask:
    """The records whose key others of the table have, too."""
    columns = plan.pairing.key_columns
    own = existing.values.select(plan.pairing.key)
    equal = by_number(equal_texts(target, columns, texts_to_tell([own, keys], columns)))
    shared: Mask = match(code_keys(own, keys, columns, equal)).times > 1
    return shared


def _limits(asked: Change) -> Limits:
    """The limits of the change; who asks for every record means all of them."""
    if not asked.where and asked.limits.updated is None:
        return replace(asked.limits, updated=Most(100, "target"))
    return asked.limits


def _unconditional(asked: Change, rows: int) -> list[Excess]:
    """What a change without a condition goes over."""
    if asked.where or asked.every_record:
        return []
    words = f"There is no condition, so all {rows:,} records of the table are meant."
    return [Excess(words, "every_record", count=True)]


def _notes(plan: ChangePlan, part: Part, decision: DecidedChange, read: _Found) -> list[str]:
    """What is worth saying."""
    changes = part.changes.outcomes == Outcome.UPDATED
    counts = {name: int((off & changes).sum()) for name, off in decision.rounded.items()}
    notes = [
        f"{count:,} new {plural(count, 'value', 'values')} of {name} rounded to the column's decimals."
        for name, count in counts.items()
        if count
    ]
    if read.unclear:
        notes.append(
            f"{counted(read.unclear, 'record')} left alone: the condition can't be worked out there, as it divides by "
            "zero or meets a value that is not of its column's type."
        )
    if not part.read:
        notes.append("No record meets the condition." if plan.where else "There are no records.")
    return notes

"""Deciding about the records of a target: which meet the condition, and what becomes of them."""

from collections.abc import Mapping, Sequence
from datetime import datetime

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.account import account
from tidymerge.core.decide.change import ChangePlan, as_rows, change_part, meeting, only
from tidymerge.core.expressions import Type, compile_expression, type_of
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.core.naming.mapping import check_loadable, listing, target_name
from tidymerge.core.warn.limits import Excess, exceeded
from tidymerge.core.words import plural
from tidymerge.errors import BadOption, NoKey
from tidymerge.job.model import Change
from tidymerge.model import Existing, Mask, Pair, Pairing, Sample, TableShape
from tidymerge.model.receipt import Action, Request
from tidymerge.model.rules import ColumnRule, Limits, Most
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.ask import equal_texts
from tidymerge.run.decided import Decided, Part
from tidymerge.run.settle import settle


def decide_change(asked: Change, target: Target, now: datetime, progress: Progress) -> Decided:
    """Read the records, decide about those that meet the condition, stage what changes, settle the constraints."""
    shape = target.describe()
    plan = _plan(asked, shape, now)
    progress.stage("reading the records", target.about_how_many)
    existing, several, rows_before = _read(plan, shape, target, progress)
    rows = as_rows(plan, existing, target.address)
    decision = change_part(plan, existing, several)
    refusals = target.stage(decision.changes, existing, plan.pairing)
    progress.stage("testing the constraints")
    part = Part(lambda: rows, decision.changes, decision.read)
    parts = settle(target, [part], refusals, plan.pairing)
    changes = [one.changes for one in parts]
    tally = account.tally(changes)
    for one in parts:
        account.prove_tally(account.tally([one.changes]), one.changes, one.read)
    return Decided(
        target=target.address,
        sample=Sample(rows),
        shape=shape,
        pairing=plan.pairing,
        rows_before=rows_before,
        parts=tuple(parts),
        tally=tally,
        fingerprint=account.fingerprint(changes),
        warnings=(),
        notes=(*shape.notes, *_notes(plan, existing, decision.rounded)),
        view=(),
        limits=(*_unconditional(asked, rows_before), *exceeded(_limits(asked), tally, rows_before)),
        unreadable=frozenset(decision.unreadable),
        request=request_of(asked),
    )


def request_of(asked: Change) -> Request:
    """What is asked, for the receipt and the log."""
    return Request(Action.CHANGE, {name: rule.compute or "" for name, rule in asked.columns.items()}, asked.where)


def _plan(asked: Change, shape: TableShape, now: datetime) -> ChangePlan:
    """The columns, the expressions, the key. Raises UsageError."""
    rules = {target_name(shape, name): rule for name, rule in asked.columns.items()}
    if not rules:
        raise BadOption("Say what to set.")
    for name in rules:
        check_loadable(shape.column(name))
    key = _key(asked, shape, rules)
    known: dict[str, Type] = {column.name: type_of(column.type) for column in shape.columns if not column.foreign}
    scopes = {"existing": known}
    sets = {
        name: compile_expression(rule.compute or "null", f"columns.{name}.compute", scopes)
        for name, rule in rules.items()
    }
    where = compile_expression(asked.where, "where", scopes, condition=True) if asked.where else None
    pairs = [
        Pair(column, rules[column.name].compute or "", rules[column.name])
        if column.name in rules
        else Pair(column, column.name, ColumnRule(sources=(column.name,)))
        for column in shape.columns
        if column.name in {*rules, *key}
    ]
    return ChangePlan(shape, Pairing(tuple(pairs), key, (), ()), sets, where, now)


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
    own = [names for names in (shape.primary_key, *shape.unique) if names]
    for names in own:
        if not set(names) & set(rules) and all(not shape.column(name).nullable for name in names):
            return names
    if own and set(own[0]) & set(rules):
        found = f"{' + '.join(own[0])} is to be set, and {shape.name} has no other key by which an undo finds a record"
    else:
        found = f"{shape.name} declares no key, by which an undo finds a record"
    others = listing([column.name for column in shape.columns if column.name not in rules])
    raise NoKey(f"{found}. Say which columns name it; there are {others}.", give=((("key", "COLUMN"),),))


def _read(plan: ChangePlan, shape: TableShape, target: Target, progress: Progress) -> tuple[Existing, Mask | None, int]:
    """The records that meet the condition, which of them share their key with others, and how many there are in all."""
    key = plan.pairing.key_columns
    found, keys, count = [], [], 0
    sees_to_keys = set(plan.pairing.key) in [set(names) for names in (shape.primary_key, *shape.unique) if names]
    for batch in target.read_in_batches(plan.columns_read, key):
        count += batch.values.num_rows
        found.append(only(batch, meeting(plan, batch)))
        keys += [] if sees_to_keys else [batch.values.select(plan.pairing.key)]
        progress.rows(batch.values.num_rows)
    existing = _together(found)
    if sees_to_keys:
        return existing, None, count
    return existing, _shared(plan, existing, pa.concat_tables(keys), target), count


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


def _notes(plan: ChangePlan, existing: Existing, rounded: Mapping[str, int]) -> list[str]:
    """What is worth saying."""
    notes = [
        f"{count:,} new {plural(count, 'value', 'values')} of {name} rounded to the column's decimals."
        for name, count in rounded.items()
    ]
    if not existing.values.num_rows:
        notes.append("No record meets the condition." if plan.where else "There are no records.")
    return notes

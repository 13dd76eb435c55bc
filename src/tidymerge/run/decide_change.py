"""Deciding about the records of a target: which meet the condition, and what becomes of them."""

import numpy as np
from msgspec.structs import replace

from tidymerge.core.decide.change import ChangePlan, DecidedChange, as_rows, change_part
from tidymerge.core.decide.columns import Converted, Surroundings, convert, texts_sought, understand
from tidymerge.core.explain.view import in_words
from tidymerge.core.expressions import compile_expression
from tidymerge.core.naming.mapping import check_loadable, target_name
from tidymerge.core.words import plural
from tidymerge.errors import BadOption
from tidymerge.job.model import Change
from tidymerge.model import Incoming, Pair, Pairing, TableShape
from tidymerge.model.changes import Outcome
from tidymerge.model.receipt import Action, Request
from tidymerge.model.rules import ColumnRule
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.ask import equal_among
from tidymerge.run.decided import Decided, Part
from tidymerge.run.plan import look_up
from tidymerge.run.records import condition, decided_about, own_columns, read_records, record_key
from tidymerge.run.report import Clock
from tidymerge.run.settle import Staged, settle


def decide_change(asked: Change, target: Target, clock: Clock, progress: Progress) -> Decided:
    """Read the records, decide about those that meet the condition, stage what changes, settle the constraints."""
    shape = target.describe()
    plan = _plan(asked, shape, target, clock)
    progress.stage("reading the records", target.about_how_many)
    read = read_records(plan, shape, target, progress)
    rows = as_rows(plan, read.existing, target.address)
    decision = change_part(plan, read.existing, _by_rule(plan, rows, target), read.several)
    refusals = target.stage(decision.changes, read.existing, plan.pairing)
    progress.stage("testing the constraints")
    part = Part(lambda: rows, decision.changes, read.existing.values.num_rows)
    ((part,),) = settle([Staged(target, [part], refusals, plan.pairing)])
    decided = decided_about(asked, target, plan, read, part, request_of(asked), "updated")
    return decided.noting(*_rounded(part, decision))


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
    key = record_key(asked.key, shape, set(rules))
    scopes = own_columns(shape)
    computes = {
        name: compile_expression(rule.compute, f"columns.{name}.compute", scopes)
        for name, rule in rules.items()
        if rule.compute is not None
    }
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
    return ChangePlan(shape, Pairing(tuple(pairs), key, (), ()), tuple(rules), condition(asked.where, shape), around)


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


def _rounded(part: Part, decision: DecidedChange) -> list[str]:
    """How many of the values that are written were rounded, by column."""
    changes = part.changes.outcomes == Outcome.UPDATED
    counts = {name: int((off & changes).sum()) for name, off in decision.rounded.items()}
    return [
        f"{count:,} new {plural(count, 'value', 'values')} of {name} rounded to the column's decimals."
        for name, count in counts.items()
        if count
    ]

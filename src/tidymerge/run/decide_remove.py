"""Deciding about the records of a target that are to go, and what stands in the way."""

from msgspec.structs import replace

from tidymerge.core.decide.change import ChangePlan, as_rows, unnamed
from tidymerge.core.decide.columns import Surroundings
from tidymerge.core.decide.removal import naming, own_parents, remove_part
from tidymerge.job.model import Removal
from tidymerge.model import Pair, Pairing, TableShape
from tidymerge.model.changes import Tally
from tidymerge.model.receipt import Action, Request
from tidymerge.model.rules import ColumnRule
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.decided import Decided, Part
from tidymerge.run.leaving import for_people, in_full
from tidymerge.run.records import condition, decided_about, read_records, record_key
from tidymerge.run.report import Clock
from tidymerge.run.settle import settle


def decide_removal(asked: Removal, target: Target, clock: Clock, progress: Progress) -> Decided:
    """Read the records, stage those that meet the condition, and find what refers to them."""
    shape = target.describe()
    plan = _plan(asked, shape, clock)
    progress.stage("reading the records", target.about_how_many)
    read = read_records(plan, shape, target, progress)
    rows = as_rows(plan, read.existing, target.address)
    flaws = unnamed(plan, read.existing, read.several)
    changes = remove_part(read.existing, plan.pairing, shape, flaws)
    refusals = target.stage(changes, read.existing, plan.pairing)
    changes = naming(in_full(changes, shape, target), changes.removals.before)
    progress.stage("looking for what refers to them")

    readable = for_people(target)
    (part,) = settle(target, [Part(lambda: rows, changes, len(rows.row_numbers))], refusals, plan.pairing, readable)
    decided = decided_about(asked, target, plan, read, part, request_of(asked), "removed")
    return replace(decided, shown=readable).noting(*_hindered(decided.tally), last=True)


def request_of(asked: Removal) -> Request:
    """What is asked, for the receipt and the log."""
    return Request(Action.REMOVE, {}, asked.where)


def _hindered(tally: Tally) -> list[str]:
    """What the counts mean."""
    if not tally.rejected:
        return []
    return [f"None is removed as long as {tally.rejected:,} of {tally.read:,} can't go."]


def _plan(asked: Removal, shape: TableShape, clock: Clock) -> ChangePlan:
    """The key and the condition. Raises UsageError."""
    key = record_key(asked.key, shape)
    pairs = tuple(Pair(shape.column(name), name, ColumnRule(sources=(name,))) for name in key)
    beside = tuple(own_parents(shape))
    return ChangePlan(
        shape, Pairing(pairs, key, (), ()), (), condition(asked.where, shape), Surroundings(clock.started), beside
    )

"""Rejecting what only the target can find fault with: values that it can't hold, constraints that would break."""

from collections.abc import Callable, Sequence

import pyarrow as pa
from msgspec import Struct

from tidymerge.core.decide.coming import Awaited, Parents, orphans, told_by_parent
from tidymerge.core.decide.constraints import dropped, flaws_of, refused
from tidymerge.model import ForeignKey, Pairing
from tidymerge.model.changes import ChangeSet, Refusal
from tidymerge.ports.target import Target
from tidymerge.run.ask import violations
from tidymerge.run.decided import Part, as_they_are


class Staged(Struct, frozen=True):
    """A table of the run, and the changes that are staged in it; `shown` makes their values fit to be read.

    `awaits` are columns whose values may stand for ids of new records of these tables. `parents` are foreign keys that
    refer to other tables of the run: the place of each, and its rows, typed.
    """

    target: Target
    parts: Sequence[Part]
    refusals: Sequence[Refusal]
    pairing: Pairing
    shown: Callable[[ChangeSet], ChangeSet] = as_they_are
    awaits: tuple[Awaited, ...] = ()
    parents: tuple[tuple[ForeignKey, int, pa.Table], ...] = ()


def settle(tables: Sequence[Staged]) -> list[list[Part]]:
    """Reject staged changes that the target refused, and those that break a constraint, until none does.

    One rejected record may have been another's parent, or the child of one that was to go. The parts of each table.
    """
    settled = []
    for one in tables:
        settled.append(reject_refusals(one.parts, one.refusals))
        one.target.unstage([refusal.position for refusal in one.refusals])
    at_fault = True
    while at_fault:
        found = [_settled_once(one, at, settled) for at, one in enumerate(tables)]
        at_fault = any(found)
    return settled


def _settled_once(table: Staged, at: int, settled: list[list[Part]]) -> bool:
    """Reject in the parts of one table what breaks a constraint now, or lost its parent; whether anything did."""
    parts = settled[at]
    broken = violations(table.target, table.pairing) if any(part.changes.touched for part in parts) else []
    at_fault = False
    for index, part in enumerate(parts if broken or table.awaits else ()):
        readable = table.shown(part.changes) if broken else part.changes
        flaws = [flaw for violation in broken for flaw in flaws_of(violation, readable, table.pairing)]
        for key, place, values in table.parents:
            (parent,) = settled[place]
            of_parent = Parents(values, parent.changes.outcomes, parent.incoming().row_numbers)
            flaws = [one for flaw in flaws for one in told_by_parent(flaw, key, part.changes, of_parent, table.pairing)]
        for awaited in table.awaits:
            (parent,) = settled[at if awaited.table < 0 else awaited.table]
            numbers = parent.incoming().row_numbers
            flaws += orphans(awaited, parent.changes, numbers, part.changes, table.pairing)
        if flaws:
            at_fault = True
            table.target.unstage(dropped(part.changes, flaws).tolist())
            parts[index] = part.without(flaws)
    return at_fault


def reject_refusals(parts: Sequence[Part], refusals: Sequence[Refusal]) -> list[Part]:
    """The parts with the refused rows rejected, in the target's words."""
    settled = []
    for part in parts:
        flaws = [flaw for refusal in refusals for flaw in refused(refusal.position, refusal.message, part.changes)]
        settled.append(part.without(flaws) if flaws else part)
    return settled

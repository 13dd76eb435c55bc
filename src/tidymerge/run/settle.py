"""Rejecting what only the target can find fault with: values that it can't hold, constraints that would break."""

from collections.abc import Callable, Sequence

from tidymerge.core.decide.constraints import dropped, flaws_of, refused
from tidymerge.model import Pairing
from tidymerge.model.changes import ChangeSet, Refusal
from tidymerge.ports.target import Target
from tidymerge.run.ask import violations
from tidymerge.run.decided import Part, as_they_are


def settle(
    target: Target,
    parts: Sequence[Part],
    refusals: Sequence[Refusal],
    pairing: Pairing,
    shown: Callable[[ChangeSet], ChangeSet] = as_they_are,
) -> list[Part]:
    """Reject staged changes that the target refused, and those that break a constraint, until none does.

    One rejected record may have been another's parent. `shown` makes the values fit to be read.
    """
    settled = reject_refusals(parts, refusals)
    target.unstage([refusal.position for refusal in refusals])
    at_fault = True
    while at_fault:
        broken = violations(target, pairing) if any(part.changes.touched for part in settled) else []
        at_fault = False
        for index, part in enumerate(settled if broken else ()):
            readable = shown(part.changes)
            flaws = [flaw for violation in broken for flaw in flaws_of(violation, readable, pairing)]
            if flaws:
                at_fault = True
                target.unstage(dropped(part.changes, flaws).tolist())
                settled[index] = part.without(flaws)
    return settled


def reject_refusals(parts: Sequence[Part], refusals: Sequence[Refusal]) -> list[Part]:
    """The parts with the refused rows rejected, in the target's words."""
    settled = []
    for part in parts:
        flaws = [flaw for refusal in refusals for flaw in refused(refusal.position, refusal.message, part.changes)]
        settled.append(part.without(flaws) if flaws else part)
    return settled

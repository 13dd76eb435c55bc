"""From the decision to the commit, the same for every run: write, prove, save, seal, commit."""

from collections.abc import Callable

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.model.receipt import Receipt
from tidymerge.model.run import Run
from tidymerge.ports.log import Recording
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.commit import Shield, commit, let_go, prove, prove_gone, seal, write
from tidymerge.run.decided import Decided
from tidymerge.run.once import keep_rows
from tidymerge.run.report import Clock, make_receipt
from tidymerge.run.save import Saved


class Manner(Struct, frozen=True):
    """How a run is carried out.

    `check` is asked again where the target refused some of what was decided, and raises Stopped if the run may not go
    on; `save` writes the files beside the run. With `trusting`, differences that the target's own triggers make are
    noted; with `only_changed`, columns that an update does not write are not looked at. `shield` guards the moment of
    the commit against interruption, so that what is said afterwards is true.
    """

    check: Callable[[Decided], None]
    save: Callable[[Decided], Saved]
    trusting: bool
    only_changed: bool
    shield: Shield


def carry_out(
    target: Target, decided: Decided, run: Run, clock: Clock, recording: Recording, progress: Progress, manner: Manner
) -> Receipt:
    """Write what was decided, and end as `run.state` says. Raises Stopped, ProofFailed, LogUnwritable, TargetError."""
    if decided.only_drops:
        carried = prove_gone(target, let_go(target, decided, recording, progress), progress)
    else:
        carried = write(target, decided, recording, progress)
        if carried.written.refused:
            manner.check(carried.decided)
        carried = prove(target, carried, progress, trusting=manner.trusting, only_changed=manner.only_changed)
    saved = manner.save(carried.decided)
    with saved.with_the_run():
        # Made before the commit: after it nothing may fail.
        decided = carried.decided.noting(*saved.notes, last=True)
        receipt = make_receipt(decided, run.state, clock, saved.rejects, verified=carried.verified)
        receipt = replace(receipt, undoes=run.undoes)
        keep_rows(carried.decided, recording)
        entry = seal(target, carried, run, receipt, recording)
        return commit(target, entry, clock, recording, manner.shield)

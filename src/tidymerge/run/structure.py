"""How the structure of a target changed since the last run of a job: what a preview and a load say of it."""

from collections.abc import Mapping, Sequence
from contextlib import suppress

from tidymerge.address import reopened, same_table, without_fragment
from tidymerge.core.infer.structure import Difference, differences, structure_of
from tidymerge.errors import LogDamaged
from tidymerge.job.model import Job
from tidymerge.job.tables import TablesJob
from tidymerge.model.receipt import State
from tidymerge.model.run import Run
from tidymerge.ports.log import RunLog
from tidymerge.run.commit import full_address
from tidymerge.run.decided import Decided

_LOOKED_AT = 60  # runs of the log, the latest ones
_SAID = 6  # differences that one sentence lists


def with_changes_since(log: RunLog, asked: Job | TablesJob, target: str, decided: Decided) -> Decided:
    """What was decided, saying how the tables changed since the last run of the job.

    A column of the job that is gone, or is of another type, is a warning; all else is a note.
    """
    notes: list[str] = []
    warnings: list[str] = []
    wanted = [one for one in decided.all if not one.made]
    if not wanted:
        return decided
    of_several = decided.related or len(decided.all) > 1
    addresses = {one.called: _address(target, one, of_several=of_several) for one in wanted}
    last = _last_runs(log, asked.file, addresses)
    for one in wanted:
        run = last.get(one.called)
        if run is None or run.structure is None:
            continue
        now = structure_of(one.shape, without={column.name for column in one.added})
        found = differences(run.structure, now)
        loaded = {*_loaded(run), *(column.name for column in one.pairing.columns)}
        for words, some in (
            (warnings, [each for each in found if _harms(each, loaded)]),
            (notes, [each for each in found if not _harms(each, loaded)]),
        ):
            if some:
                words.append(_sentence(run, one, some))
    return decided.noting(*notes, last=True).warned(*warnings) if notes or warnings else decided


def _address(target: str, decided: Decided, *, of_several: bool) -> str:
    """The address by which the log knows the table."""
    address = full_address(reopened(target), decided.target)
    return f"{without_fragment(address)}#{decided.called}" if of_several else address


def _last_runs(log: RunLog, file: str | None, addresses: Mapping[str, str]) -> dict[str, Run]:
    """For each table the last load of the job into it that was not taken back."""
    found: dict[str, Run] = {}
    undone: set[str] = set()
    for name in log.names()[:_LOOKED_AT]:
        with suppress(LogDamaged):
            run = log.read(name)
            if run.undoes and run.wrote and name not in undone:
                undone.add(run.undoes)
            if run.state is not State.LOADED or not run.settled or run.job != file or name in undone:
                continue
            for called, address in addresses.items():
                own = next((own for own in run.each if same_table(own.target, address)), None)
                if own is not None:
                    found.setdefault(called, own)
        if len(found) == len(addresses):
            break
    return found


def _loaded(run: Run) -> set[str]:
    """The columns that a run loaded."""
    return set(run.receipt.tables[0].mapping) if run.receipt is not None else set()


def _harms(one: Difference, loaded: set[str]) -> bool:
    """Whether a column that is loaded is gone, or of another type."""
    return one.name in loaded and (one.part == "type" or (one.part == "column" and one.after is None))


def _sentence(run: Run, decided: Decided, found: Sequence[Difference]) -> str:
    more = f"; and {len(found) - _SAID:,} more" if len(found) > _SAID else ""
    listed = "; ".join(one.sentence for one in found[:_SAID])
    return (
        f"{decided.shape.name} has changed since the last run of this job, on {run.started:%Y-%m-%d %H:%M}: "
        f"{listed}{more}."
    )

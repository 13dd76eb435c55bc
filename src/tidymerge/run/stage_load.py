"""What is decided about one table of a load, in two steps: its changes are staged, and settled with those of others."""

from collections.abc import Mapping, Sequence

import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.address import without_password
from tidymerge.core.decide.plan import Plan
from tidymerge.job.model import Job, Removal
from tidymerge.model.receipt import Action, Request
from tidymerge.model.rules import Action as Asked
from tidymerge.ports.log import RunLog
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Related, Target
from tidymerge.run.come_back import as_taken_out, base_of, come_back, of_base, words_on
from tidymerge.run.create import created
from tidymerge.run.decide_by_rows import Leaving, leaving
from tidymerge.run.decide_load import Noticed, decide_parts, sum_up
from tidymerge.run.decided import Decided, Part
from tidymerge.run.full_list import without_absent
from tidymerge.run.gather import Gathering
from tidymerge.run.leaving import for_people
from tidymerge.run.once import known_rows
from tidymerge.run.plan import describe, plan_load
from tidymerge.run.relatives import Named, Relative, named, names_of, stand_in, with_meant, with_words
from tidymerge.run.report import Clock
from tidymerge.run.settle import Staged
from tidymerge.run.split import Gathered, can_split
from tidymerge.run.widen import Widened, widen


class StagedLoad(Struct, frozen=True):
    """A table of a load whose changes are staged; `parts` are not settled yet."""

    job: Job
    target: Target
    plan: Plan
    widened: Widened
    gathered: Gathered
    noticed: Noticed
    parts: list[Part]
    doubts: list[str]
    gone: Leaving | None
    relatives: Sequence[Relative] = ()
    newest: Mapping[str, str] = {}

    @property
    def staged(self) -> list[Staged]:
        """What is to be settled: its own changes, and those of what goes along."""
        refusals, awaits = self.noticed.refusals, self.plan.awaits
        places = {one.name: one for one in self.relatives}
        parents = tuple(
            (key, places[key.table].place, places[key.table].values)
            for key in self.plan.shape.foreign_keys
            if key.table in places and {pair.target.name for pair in self.plan.pairing.pairs}.issuperset(key.columns)
        )
        own = Staged(self.target, self.parts, refusals, self.plan.pairing, awaits=awaits, parents=parents)
        return [own, *([] if self.gone is None else self.gone.staged)]

    def relative(self, place: int) -> Relative:
        """What others see of it: it has one part then."""
        (part,) = self.parts
        given = isinstance(self.target, Related)
        return Relative(place, self.plan.shape.name, part, self.noticed.values, given)

    def names(self, parts: Sequence[Part], names: Mapping[int, pa.Array]) -> pa.Array:
        """The keys of its new records, by row, for people; `names` are those of the other tables'."""
        return names_of(self._named(parts, names)(parts[0].changes))

    def _named(self, parts: Sequence[Part], names: Mapping[int, pa.Array]) -> Named:
        own = {-1: names_of(parts[0].changes)} if any(one.table < 0 for one in self.plan.awaits) else {}
        return named(self.plan.awaits, {**names, **own})

    def decided(self, settled: Sequence[list[Part]], names: Mapping[int, pa.Array] | None = None) -> Decided:
        """What was decided, once all is settled; `names` are the keys of the other tables' new records."""
        parts, *along = settled
        told = self._named(parts, names or {})
        decided = sum_up(self.plan, self.widened, self.gathered, self.target, parts, self.noticed, told)
        readable = for_people(self.target)
        if self.plan.since is not None:
            decided = decided.noting(*words_on(self.plan.since, parts))
        decided = replace(
            decided.noting(*_of_new_rows(self.job, sum(part.read for part in parts))),
            newest=self.newest,
            request=request_of(self.job),
            warnings=(*decided.warnings, *self.doubts),
            shown=lambda changes: told(readable(changes)),
            view=with_words(decided.view, self.plan.awaits),
            awaits=self.plan.awaits,
        )
        return decided if self.gone is None else self.gone.completed(decided, along)


def stage_load(
    job: Job,
    target: Target,
    gathering: Gathering,
    clock: Clock,
    log: RunLog,
    progress: Progress,
    relatives: Sequence[Relative] = (),
    *,
    seen: bool = False,
) -> StagedLoad:
    """Decide about the rows of a job, and stage the changes. One that is `seen` by others is decided in one part."""
    shape = describe(job, target)
    gone = leaving(job, target, shape, clock.started)
    base = base_of(job, log)
    job = job if base is None else of_base(job, base, shape)
    progress.stage("reading the incoming rows")
    gathered = gathering.rows(shape, target)
    gathered = gathered if base is None else as_taken_out(gathered, base)
    newest: Mapping[str, str] = {}
    if job.newer is not None:
        from tidymerge.run.reading_on import only_new_rows  # late: few jobs need it

        gathered, newest = only_new_rows(gathered, job.newer)
    # What this run was not to load, the next one must still hear of.
    newest = {} if job.take_rows or job.only else newest or gathered.onward
    gathered = gathered.together() if seen else gathered
    widened = created(job, gathered, target) if job.create else widen(job, gathered, shape, target)
    known = known_rows(log, job, target)
    run = clock.run or "(preview)"

    def planned(gathered: Gathered) -> Plan:
        made = plan_load(widened.job, target, widened.shape, gathered.sample, run, clock.started, known, relatives)
        return made if base is None else come_back(made, base, job.prefer)

    plan = planned(gathered)
    if gone is not None or base is not None or plan.awaits or not can_split(plan.pairing, plan.shape):
        split, gathered = gathered.batches is not None, gathered.together()
        plan = planned(gathered) if split and plan.awaits else plan  # each row has a number of its own
    own = any(one.table < 0 for one in plan.awaits)
    noticed = Noticed(seen=seen or own)
    parts = decide_parts(plan, gathered, target, progress, noticed, gone)
    stand_in(target, plan.awaits)
    if own:
        meant = with_meant(plan.awaits, plan.around.look_ups, parts[0], noticed.values, target)
        plan = replace(plan, awaits=meant)
    parts, doubts = without_absent(job, gathered, parts, noticed.nameless, target)
    return StagedLoad(job, target, plan, widened, gathered, noticed, parts, doubts, gone, relatives, newest)


def _of_new_rows(job: Job, rows: int) -> Sequence[str]:
    """What is worth saying where not all is read."""
    if job.newer is None and not job.passed_over:
        return ()
    from tidymerge.run.reading_on import words_on as said  # late: few jobs need it

    return said(job, rows)


def request_of(job: Job) -> Request | None:
    """What is asked of records that the rows name, if they bring nothing."""
    if job.rules.every is not Asked.REMOVE:
        return None
    asked, keys = job.removal or Removal(job.target), ", ".join(map(without_password, job.incoming))
    return Request(Action.REMOVE, keys=keys, with_referring=asked.with_referring, archive=dict(asked.archive))

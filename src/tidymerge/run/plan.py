"""Planning a load: which columns feed which, the conditions, the tables that are looked up in."""

from datetime import datetime

from msgspec.structs import replace

from tidymerge.core.decide.columns import Surroundings, used_columns
from tidymerge.core.decide.conditions import compile_conditions, resolved
from tidymerge.core.decide.lookup import LookUp
from tidymerge.core.decide.plan import Plan
from tidymerge.core.naming.mapping import pair_columns, target_name
from tidymerge.errors import BadOption
from tidymerge.job.model import Job
from tidymerge.model import Sample, TableShape
from tidymerge.model.rules import Find
from tidymerge.ports.target import Target
from tidymerge.run.ask import sibling
from tidymerge.run.widen import check_types


def describe(job: Job, target: Target) -> TableShape:
    """The shape of the job's target. Raises BadOption for what the job can't ask of it."""
    shape = target.describe()
    if job.rules.update_all and not shape.primary_key:
        raise BadOption(
            f"{shape.name} has no primary key to tell records of one key apart, so an update of all of them could "
            'not be undone. Leave several_records = "update-all" out, or give the table a primary key.'
        )
    if not job.add:
        check_types(job, shape)
    return shape


def plan_load(job: Job, target: Target, shape: TableShape, sample: Sample, run: str, now: datetime) -> Plan:
    """Pair the columns, compile the conditions, read the look-up tables. Raises UsageError and TargetError.

    `run` is the run's name, `now` its time.
    """
    incoming = sample.rows
    pairing = pair_columns(
        sample.names, shape, renames=job.renames, only=job.only, key=job.key, rules=job.columns, called=incoming.called
    )
    rules = resolved(job.rules, incoming, pairing, shape)
    conditions = compile_conditions(incoming, pairing, shape, rules, now)
    finds = {pair.rule.find for pair in pairing.pairs} - {None}
    around = Surroundings(
        now,
        conditions.computes,
        {find: look_up(target, find) for find in finds if find is not None},
        {"time": f"{now:%Y-%m-%d %H:%M:%S}", "run": run},
        rules.clear_mark,
        shape.name,
        conditions.asked(incoming) | ({rules.instruction.column} if rules.instruction else set()),
    )
    used = used_columns(pairing, around)
    idle = tuple(name for name in pairing.not_loaded if name not in used)
    return Plan(shape, replace(pairing, not_loaded=idle), rules, conditions, around)


def look_up(target: Target, find: Find) -> LookUp:
    """The table of a look-up, read. Raises NoSuchTable and NoSuchColumn."""
    shape, values = sibling(target, find.table)
    where, take = target_name(shape, find.where), target_name(shape, find.take)
    return LookUp(
        replace(find, table=shape.name, where=where, take=take),
        shape.column(where),
        shape.column(take),
        values.select(list(dict.fromkeys([where, take]))),
    )

"""Planning a load: which columns feed which, the conditions, the tables that are looked up in."""

from collections.abc import Sequence
from datetime import datetime

from msgspec.structs import replace

from tidymerge.core.decide.columns import Surroundings, used_columns
from tidymerge.core.decide.coming import Awaited, Stand
from tidymerge.core.decide.conditions import compile_conditions, resolved
from tidymerge.core.decide.lookup import LookUp
from tidymerge.core.decide.plan import Plan
from tidymerge.core.match.known import Known
from tidymerge.core.naming.mapping import pair_columns, target_name
from tidymerge.errors import BadOption
from tidymerge.job.model import Job
from tidymerge.model import Pairing, Sample, TableShape
from tidymerge.model.rules import Action, Find, Rules
from tidymerge.ports.target import Related, Target
from tidymerge.run.ask import sibling
from tidymerge.run.relatives import Relative, awaited_by, own_stands
from tidymerge.run.widen import check_types


def describe(job: Job, target: Target) -> TableShape:
    """The shape of the job's target. Raises BadOption for what the job can't ask of it."""
    shape = target.describe()
    if job.create:
        _check_new(job)
        return shape
    if job.rules.update_all and not shape.primary_key:
        raise BadOption(
            f"{shape.name} has no primary key to tell records of one key apart, so an update of all of them could "
            'not be undone. Leave several_records = "update-all" out, or give the table a primary key.'
        )
    if job.rules.keeps_all and not target.keeps_places:
        raise BadOption(
            f"{shape.name} has no primary key by which its records of one key could be told apart once they are "
            'updated. Leave same_key_twice = "keep-all" out, or give the table a primary key.'
        )
    if not job.add:
        check_types(job, shape)
    return shape


def _check_new(job: Job) -> None:
    """Raise BadOption for what can't be asked of a target that is not there yet."""
    rules = job.rules
    for word, said in (
        ("add", job.add), ("absent", rules.absent), ("keep-all", rules.keeps_all), ("update-all", rules.update_all)
    ):  # fmt: skip
        if said:
            raise BadOption(f"The target is made new, so {word} has no meaning: leave one of both out.")


def plan_load(
    job: Job,
    target: Target,
    shape: TableShape,
    sample: Sample,
    run: str,
    now: datetime,
    known: Known | None = None,
    relatives: Sequence[Relative] = (),
) -> Plan:
    """Pair the columns, compile the conditions, read the look-up tables. Raises UsageError and TargetError.

    `run` is the run's name, `now` its time; `known` are rows that were loaded before. Look-ups see what is new in
    `relatives`, the tables of the run that come before.
    """
    incoming = sample.rows
    pairing = pair_columns(
        sample.names, shape, renames=job.renames, only=job.only, key=job.key, rules=job.columns, called=incoming.called,
        append=job.rules.append,
    )  # fmt: skip
    if job.rules.keeps_all and (job.rules.update_all or _is_unique(pairing, shape)):
        raise BadOption(
            f'same_key_twice = "keep-all" is for keys that several records may have: {" + ".join(pairing.key)} is '
            "unique, or several_records says otherwise."
        )
    brought = [pair.target.name for pair in pairing.pairs if pair.target.name in shape.primary_key]
    if job.rules.keeps_all and brought:
        raise BadOption(
            f"The rows bring {brought[0]}, which tells the records apart: use it as the key, or leave either it or "
            'same_key_twice = "keep-all" out.'
        )
    rules = resolved(_appending(job) if job.rules.append else job.rules, incoming, pairing, shape)
    conditions = compile_conditions(incoming, pairing, shape, rules, now)
    look_ups, stands, awaits = _seen(target, shape, pairing, sample, relatives)
    around = Surroundings(
        now,
        conditions.computes,
        look_ups,
        {"time": f"{now:%Y-%m-%d %H:%M:%S}", "run": run},
        rules.clear_mark,
        shape.name,
        conditions.asked(incoming) | ({rules.instruction.column} if rules.instruction else set()),
        stands,
    )
    used = used_columns(pairing, around)
    idle = tuple(name for name in pairing.not_loaded if name not in used)
    if known is not None:
        known = replace(known, columns=tuple(sorted(used)))
    return Plan(shape, replace(pairing, not_loaded=idle), rules, conditions, around, known, awaits)


def _seen(
    target: Target, shape: TableShape, pairing: Pairing, sample: Sample, relatives: Sequence[Relative]
) -> tuple[dict[Find, LookUp], dict[Find, Stand], tuple[Awaited, ...]]:
    """The tables that are looked up in, and what of them only comes by this run, with numbers for ids to come."""
    found, awaits = {}, []
    for find in dict.fromkeys(pair.rule.find for pair in pairing.pairs if pair.rule.find is not None):
        table, stand = look_up(target, find), None
        relative = next((one for one in relatives if one.name == table.find.table), None)
        if relative is not None:
            columns = [pair.target for pair in pairing.pairs if pair.rule.find == find]
            table, stand = relative.seen_by(table, columns)
        if relative is not None and stand is not None:
            awaits += awaited_by(pairing, find, relative.place, table, stand)
        found[find] = table
    rows = len(sample.rows.row_numbers)
    stands = own_stands(found, pairing, shape.name, rows) if isinstance(target, Related) else {}
    for find, stand in stands.items():
        awaits += awaited_by(pairing, find, -1, found[find], stand)
    return found, {found[find].find: stand for find, stand in stands.items()}, tuple(awaits)


def _is_unique(pairing: Pairing, shape: TableShape) -> bool:
    """Whether the table sees to it that no two records have the same key."""
    return any(names and set(names) <= set(pairing.key) for names in (shape.primary_key, *shape.unique))


def _appending(job: Job) -> Rules:
    """The rules of a job whose rows are all new. Raises BadOption for those that are about records which are there."""
    rules = job.rules
    about_records = {
        "a key": job.key,
        "instruction": rules.instruction,
        "absent": rules.absent,
        "update_when": rules.update_when,
        'several_records = "update-all"': rules.update_all,
    }
    for word, said in about_records.items():
        if said:
            raise BadOption(f"Every row is appended as a new record, so {word} has no meaning: leave one of both out.")
    return replace(rules, every=Action.INSERT)


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

"""What is given in addition to a job wins over what the job says: one way for the command line and for Python."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import asdict, replace

from tidymerge.address import parse
from tidymerge.errors import BadOption
from tidymerge.job.model import Job
from tidymerge.job.tables import TablesJob
from tidymerge.model import ReadOptions
from tidymerge.model.base import Side
from tidymerge.model.rules import Limits


class Given(Struct, frozen=True):
    """What is given in addition to a job, or in place of one; what is None or empty leaves the job's word.

    `limits` are single ones, by name, or all of them. The other names are those of `Job`.
    """

    incoming: tuple[str, ...] = ()
    called: Mapping[str, str] = field(default_factory=dict)
    target: str | None = None
    key: Sequence[str] = ()
    renames: Mapping[str, str] = field(default_factory=dict)
    only: Sequence[str] = ()
    add: bool | Sequence[str] = False
    header_row: int | None = None
    take_rows: str | None = None
    skip_when: str | None = None
    read: ReadOptions = field(default_factory=ReadOptions)
    limits: Limits | Mapping[str, object] = field(default_factory=dict)
    strict: bool = False
    trust_triggers: bool = False
    again: bool = False
    append: bool = False
    create: bool = False
    like: str | None = None
    base: str | None = None
    prefer: str | None = None
    from_start: bool = False


def job_with(base: Job | TablesJob | Path | None, given: Given) -> Job | TablesJob:
    """The job, or that of a file, or an empty one, with what is given over it. Raises BadJob, NoSuchFile, BadOption."""
    job = base if isinstance(base, Job | TablesJob) else Job((), "") if base is None else _read(base)
    if isinstance(job, TablesJob):
        return _tables_with(job, given)
    like = given.like or job.like
    rules = replace(job.rules, again=given.again or job.rules.again, append=given.append or job.rules.append)
    return replace(
        job,
        incoming=given.incoming or job.incoming,
        called=given.called or job.called,
        target=job.target if given.target is None else given.target,
        key=tuple(given.key) or job.key,
        renames=given.renames or job.renames,
        only=tuple(given.only) or job.only,
        add=(given.add if isinstance(given.add, bool) else tuple(given.add)) or job.add,
        create=given.create or job.create or like is not None,
        like=like,
        header_row=job.header_row if given.header_row is None else given.header_row,
        take_rows=given.take_rows or job.take_rows,
        rules=replace(rules, skip_when=given.skip_when) if given.skip_when else rules,
        read=replace(job.read, **_known(asdict(given.read))),
        limits=_limits(job.limits, given.limits),
        strict=given.strict or job.strict,
        trust_triggers=given.trust_triggers or job.trust_triggers,
        from_start=given.from_start,
        base=job.base if given.base is None else given.base,
        prefer=job.prefer if given.prefer is None else Side(given.prefer),
    )


_FOR_ALL = {
    "incoming",
    "called",
    "target",
    "limits",
    "strict",
    "trust_triggers",
}  # what can be said over a job of several tables


def _tables_with(job: TablesJob, given: Given) -> TablesJob:
    """A job of several tables with other rows, into another database. Raises BadOption."""
    usual = Given()
    other = [name for name in given.__struct_fields__ if getattr(given, name) != getattr(usual, name)]
    if set(other) - _FOR_ALL:
        words = min(set(other) - _FOR_ALL).replace("_", " ")
        raise BadOption(f"The job has several tables: {words} stands in each [[table]] of it.")

    if given.target is not None and parse(given.target).fragment is not None:
        raise BadOption("The job has several tables: name their database, without the # and a table.")

    def placed(one: Job) -> Job:
        target = one.target if given.target is None else f"{given.target}#{parse(one.target).fragment}"
        return replace(
            one,
            target=target,
            called=given.called or one.called,
            limits=_limits(one.limits, given.limits),
            strict=given.strict or one.strict,
            trust_triggers=given.trust_triggers or one.trust_triggers,
        )

    at = given.incoming or job.at
    return replace(job, tables=tuple(placed(one) for one in job.tables), at=at).complete()


def _read(path: Path) -> Job | TablesJob:
    from tidymerge.job.reading import read_job  # late: its models take longer to import than most jobs to run

    return read_job(path)


def _limits(own: Limits, given: Limits | Mapping[str, Any]) -> Limits:
    return given if isinstance(given, Limits) else replace(own, **_known(given))


def _known(values: Mapping[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in values.items() if value is not None}

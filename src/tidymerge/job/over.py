"""What is given in addition to a job wins over what the job says: one way for the command line and for Python."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import asdict, replace

from tidymerge.job.model import Job
from tidymerge.model import ReadOptions
from tidymerge.model.rules import Limits


class Given(Struct, frozen=True):
    """What is given in addition to a job, or in place of one; what is None or empty leaves the job's word.

    `limits` are single ones, by name, or all of them. The other names are those of `Job`.
    """

    incoming: str | None = None
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


def job_with(base: Job | Path | None, given: Given) -> Job:
    """The job, or that of a file, or an empty one, with what is given over it. Raises BadJob and NoSuchFile."""
    job = base if isinstance(base, Job) else Job((), "") if base is None else _read(base)
    limits = given.limits
    like = given.like or job.like
    rules = replace(job.rules, again=given.again or job.rules.again, append=given.append or job.rules.append)
    return replace(
        job,
        incoming=job.incoming if given.incoming is None else (given.incoming,),
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
        limits=limits if isinstance(limits, Limits) else replace(job.limits, **_known(limits)),
        strict=given.strict or job.strict,
        trust_triggers=given.trust_triggers or job.trust_triggers,
    )


def _read(path: Path) -> Job:
    from tidymerge.job.reading import read_job  # late: its models take longer to import than most jobs to run

    return read_job(path)


def _known(values: Mapping[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in values.items() if value is not None}

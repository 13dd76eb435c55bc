"""Several related tables in one load: their order, and all of them staged before any is judged."""

from collections import Counter
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from types import TracebackType
from typing import Self

import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.address import parse
from tidymerge.core.match.family import family
from tidymerge.core.naming.mapping import fold
from tidymerge.errors import BadOption, one_of_several
from tidymerge.job.model import Job
from tidymerge.model import TableShape
from tidymerge.ports.log import RunLog
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import AmongOthers, Target
from tidymerge.run.checksums import Checksums
from tidymerge.run.decided import Beside, Decided
from tidymerge.run.gather import Gathering
from tidymerge.run.relatives import Relative
from tidymerge.run.report import Clock
from tidymerge.run.settle import settle
from tidymerge.run.stage_load import StagedLoad, stage_load

_IN_THE_JOB = " That is said in its [[table]] of a job, which `draft` writes."


class Gatherings:
    """The incoming rows of each table's job, and the checksums of all files together."""

    def __init__(self, jobs: Sequence[Job]) -> None:
        self.each = [Gathering(job) for job in jobs]
        self.jobs = tuple(one.job for one in self.each)
        self._stack = ExitStack()
        self._checksums: Checksums | None = None

    def __enter__(self) -> Self:
        for one in self.each:
            self._stack.enter_context(one)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._checksums is not None:
            self._checksums.stop()
        self._stack.__exit__(kind, error, trace)

    @property
    def addresses(self) -> tuple[str, ...]:
        """All addresses that rows come from, each once."""
        return tuple(dict.fromkeys(address for job in self.jobs for address in job.incoming))

    def checksums(self) -> Checksums:
        """The incoming addresses, with the SHA-256 of the files; databases change too often to have one."""
        if self._checksums is None:
            self._checksums = Checksums(self.addresses, self.jobs[0].name_of)
        return self._checksums

    def unchanged(self) -> None:
        """Make sure that the files are still those of which the checksums are. Raises SourceChanged."""
        len(self.checksums())  # waits until all are read
        for one in self.each:
            one.unchanged()


class _Table(Struct, frozen=True):
    """One of the tables: its job, its rows, and where it is."""

    gathering: Gathering
    target: Target
    shape: TableShape

    @property
    def looks_into(self) -> set[str]:
        """The tables that it looks up in, by name in one spelling."""
        return {fold(rule.find.table) for rule in self.gathering.job.columns.values() if rule.find is not None}


def decide_tables(
    gatherings: Gatherings, target: Target, clock: Clock, log: RunLog, progress: Progress
) -> tuple[Target, Decided]:
    """All that is decided about a load of several tables, before anything is written: the first of them, and beside it.

    Parents come before their children, and tables that are looked up in before those that do. Raises BadOption.
    """
    tables = _in_order(_opened(gatherings, target))
    looked_into = {name for table in tables for name in table.looks_into}
    referred = {key.table for table in tables for key in table.shape.foreign_keys if key.table != table.shape.name}
    staged: list[StagedLoad] = []
    relatives: list[Relative] = []
    for place, table in enumerate(tables):
        seen = fold(table.shape.name) in looked_into or table.shape.name in referred
        job, gathering = table.gathering.job, table.gathering
        with one_of_several(table.shape.name, _IN_THE_JOB):
            staged.append(stage_load(job, table.target, gathering, clock, log, progress, tuple(relatives), seen=seen))
        if seen:
            relatives.append(staged[-1].relative(place))
    progress.stage("testing the constraints")
    settled = settle([table for one in staged for table in one.staged])
    names: dict[int, pa.Array] = {}
    for one in relatives:
        names[one.place] = staged[one.place].names(settled[one.place], names)
    decided = [one.decided([parts], names) for one, parts in zip(staged, settled, strict=True)]
    return staged[0].target, _joined([one.target for one in staged], decided)


def _opened(gatherings: Gatherings, target: Target) -> list[_Table]:
    """The tables, opened: the first one is the target. Raises BadOption."""
    found = []
    for at, gathering in enumerate(gatherings.each):
        name = parse(gathering.job.target).fragment or ""
        assert isinstance(target, AmongOthers)  # noqa: S101 - the job was checked for that
        there = target.beside(name, types=gathering.job.types) if at else target
        found.append(_Table(gathering, there, there.describe()))
    twice = [name for name, times in Counter(fold(table.shape.name) for table in found).items() if times > 1]
    if twice:
        raise BadOption(f"Several tables of the job are called {twice[0]}: load them by runs of their own.")
    return found


def _in_order(tables: Sequence[_Table]) -> list[_Table]:
    """Parents before their children."""
    called = {fold(table.shape.name): table for table in tables}
    after = {
        table.shape.name: [called[name].shape.name for name in table.looks_into if name in called] for table in tables
    }
    keys = {table.shape.name: table.gathering.job.key or table.shape.primary_key for table in tables}
    order = family([table.shape for table in tables], keys, after).order
    by_name = {table.shape.name: table for table in tables}
    return [by_name[name] for name in order]


def _joined(targets: Sequence[Target], decided: Sequence[Decided]) -> Decided:
    """What was decided about all tables, as one: what is said of a table says which one."""
    first, *others = (
        replace(one, limits=tuple(replace(limit, words=f"{one.shape.name}: {limit.words}") for limit in one.limits))
        for one in decided
    )
    beside = tuple(Beside(target, one) for target, one in zip(targets[1:], others, strict=True))
    notes = _by_table({one.shape.name: one.notes for one in decided})
    warnings = _by_table({one.shape.name: one.warnings for one in decided})
    return replace(first, beside=beside, notes=notes, warnings=warnings, related=True)


def _by_table(said: Mapping[str, Sequence[str]]) -> tuple[str, ...]:
    """What is said of each table, with its name; what is said of several is said once."""
    tables: dict[str, list[str]] = {}
    for table, texts in said.items():
        for text in texts:
            tables.setdefault(text, []).append(table)
    return tuple(f"{', '.join(names)}: {text}" for text, names in tables.items())

"""What a run is asked to do."""

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.core.tidy.newer import Newer
from tidymerge.errors import BadOption
from tidymerge.job.services import services_in
from tidymerge.model import ReadOptions
from tidymerge.model.base import Side
from tidymerge.model.rules import Action, ColumnRule, Limits, Rules

NO_BASE = ""
Asked = TypeVar("Asked", "Change", "Removal")


class Change(Struct, frozen=True):
    """What is asked of the records of a target that are there.

    `columns` are those to set and how, each of the record's own values before; `where` is the condition, and without
    one `every_record` must be said. `key` are the columns that name a record (empty: the target's own key). The rest is
    as in `Job`. Columns to `drop` go with all of their values, and nothing is set then.
    """

    target: str
    columns: Mapping[str, ColumnRule]
    where: str | None = None
    every_record: bool = False
    key: tuple[str, ...] = ()
    strict: bool = False
    trust_triggers: bool = False
    limits: Limits = field(default_factory=Limits)
    file: str | None = None
    types: Mapping[str, str] = field(default_factory=dict)
    drop: tuple[str, ...] = ()

    @property
    def named(self) -> bool:
        """Whether it is said which records are meant."""
        return bool(self.where)

    def given(
        self,
        target: str | None,
        columns: Mapping[str, ColumnRule],
        where: str | None,
        key: tuple[str, ...],
        limits: Mapping[str, Any],
        *,
        drop: tuple[str, ...] = (),
        every_record: bool,
        strict: bool,
        trust_triggers: bool,
    ) -> "Change":
        """The change with what is given in addition, which wins; what is None or empty leaves its word. BadOption."""
        found = replace(
            self,
            target=target or self.target,
            columns={**self.columns, **columns},
            drop=drop or self.drop,
            key=key or self.key,
            strict=strict or self.strict,
            trust_triggers=trust_triggers or self.trust_triggers,
            limits=replace(self.limits, **limits),
        )
        if found.drop:
            return _dropping(found, where or found.where, every_record=every_record)
        if not found.columns:
            raise BadOption(
                "Say what to set, as in 'honey_kg = honey_kg * 1.05'.", give=((("set", "COLUMN=EXPRESSION"),),)
            )
        return _meant(found, where, every_record=every_record)


ARCHIVE_FILES = (".csv", ".parquet")


def is_archive_file(archive: str) -> bool:
    """Whether an archive is a file, and no table of the database."""
    return Path(archive).suffix.lower() in ARCHIVE_FILES or "/" in archive or os.sep in archive


class Removal(Struct, frozen=True):
    """Which records of a target are to go: those that meet `where`, or `every_record`. The rest is as in `Change`.

    In place of a condition, `keys` is the address of rows that name the records.
    What refers to them stops it, or goes along `with_referring`. `archive` are the tables to which they are copied
    first, by the tables that they come from (empty: the target); with `create` those are made. Their columns `stamps`
    get the time of the run.
    """

    target: str
    where: str | None = None
    every_record: bool = False
    key: tuple[str, ...] = ()
    trust_triggers: bool = False
    limits: Limits = field(default_factory=Limits)
    file: str | None = None
    types: Mapping[str, str] = field(default_factory=dict)
    with_referring: bool = False
    archive: Mapping[str, str] = field(default_factory=dict)
    create: bool = False
    stamps: tuple[str, ...] = ()
    keys: str | None = None

    @property
    def named(self) -> bool:
        """Whether it is said which records are meant."""
        return bool(self.where or self.keys)

    def given(
        self,
        target: str | None,
        where: str | None,
        key: tuple[str, ...],
        limits: Mapping[str, Any],
        *,
        every_record: bool,
        trust_triggers: bool,
        keys: str | None = None,
        with_referring: bool = False,
        archive: Mapping[str, str] | None = None,
        create: bool = False,
        stamps: tuple[str, ...] = (),
    ) -> "Removal":
        """The removal with what is given in addition, which wins; what is None or empty leaves its word.

        With `keys`, the address of rows that name the records, there is no condition. Raises BadOption.
        """
        if keys is not None and (where is not None or every_record or self.where or self.every_record):
            raise BadOption("The rows of a file name the records, or a condition does: say one of both.")
        archive = {**self.archive, **(archive or {})}
        create, stamps = create or self.create, stamps or self.stamps
        if (create or stamps) and not archive:
            raise BadOption(f"Say which archive is {'made' if create else 'stamped'}.", give=((("archive", "TABLE"),),))
        found = replace(
            self,
            with_referring=with_referring or self.with_referring,
            archive=archive,
            create=create,
            stamps=stamps,
            keys=keys,
            target=target or self.target,
            key=key or self.key,
            trust_triggers=trust_triggers or self.trust_triggers,
            limits=replace(self.limits, **limits),
        )
        return _meant(found, where, every_record=every_record)

    def by_rows(self) -> "Job":
        """The load whose rows name the records that go."""
        assert self.keys is not None  # noqa: S101 - asked only then
        return Job(
            (self.keys,),
            self.target,
            self.key,
            rules=Rules(every=Action.REMOVE),
            trust_triggers=self.trust_triggers,
            limits=self.limits,
            types=self.types,
            removal=self,
            read=ReadOptions(services=services_in(self.file)),
        )


def _meant(asked: Asked, where: str | None, *, every_record: bool) -> Asked:
    """The same with the condition that is given in addition, or with none. Raises BadOption."""
    if where is not None and every_record:
        raise BadOption("Say a condition, or that every record is meant: not both.")
    if not asked.target:
        raise BadOption("Say which table is meant, as in coop.db#hives, or give a job.")
    if every_record:
        return replace(asked, where=None, every_record=True)
    return asked if where is None else replace(asked, where=where, every_record=False)


def _dropping(asked: Change, where: str | None, *, every_record: bool) -> Change:
    """The same, if it does nothing but drop columns: they go in all records. Raises BadOption."""
    both = "what to set" if asked.columns else "a condition" if where else "every record" if every_record else None
    if both:
        raise BadOption(f"A column goes with all of its values, so {both} has no meaning: leave one of both out.")
    if not asked.target:
        raise BadOption("Say which table is meant, as in coop.db#hives, or give a job.")
    return asked


class Job(Struct, frozen=True):
    """Where rows come from, where they go, and how they are matched.

    `incoming` are one or more addresses or patterns; `columns` are the target columns loaded and how (empty:
    all, by name); `renames` maps target column to incoming column and wins over `columns`; `only` limits the
    target columns loaded; `header_row` counts from 1 and is found if it is None; `take_rows` chooses rows by their
    numbers (3,7-12); `fill_down` are incoming columns whose blank cells take the value above; columns that fit
    a pattern of `each` become rows; with `strict` one
    rejected row stops the load; without `save_rejects` no file of the rejected rows is written unless asked for; with
    `trust_triggers` differences that the target's own triggers make are accepted, and the receipt says so; `file` is
    the job file that it was read from; `types` are those of the columns of a target that is a file, and of new columns;
    `add` are the incoming columns to add to a target that lacks them (or True: all of them); with `create` the target
    is not there yet and is made, `like` another table of its place, if one is named. `removal` is what is asked of the
    records, where the rows name those that go. `base` is the extract from which the rows come back (None: the one that
    their file names, NO_BASE: none), and `prefer` whose value stays where both sides changed a field. Only rows are
    read that are `newer` than those of the run before, with `only_changed` those that a service says have changed, and
    with `files_once` only files that were not loaded; all of them `from_start`. So many files were `passed_over`. Rows
    that are in memory are `called` so, by the address of what they were put into.
    """

    incoming: tuple[str, ...]
    target: str
    key: tuple[str, ...] = ()
    columns: Mapping[str, ColumnRule] = field(default_factory=dict)
    rules: Rules = field(default_factory=Rules)
    renames: Mapping[str, str] = field(default_factory=dict)
    only: tuple[str, ...] = ()
    header_row: int | None = None
    take_rows: str | None = None
    fill_down: tuple[str, ...] = ()
    each: tuple[str, ...] = ()
    read: ReadOptions = field(default_factory=ReadOptions)
    strict: bool = False
    save_rejects: bool = True
    trust_triggers: bool = False
    limits: Limits = field(default_factory=Limits)
    file: str | None = None
    types: Mapping[str, str] = field(default_factory=dict)
    add: bool | tuple[str, ...] = False
    create: bool = False
    like: str | None = None
    removal: Removal | None = None
    base: str | None = None
    prefer: Side | None = None
    newer: Newer | None = None
    only_changed: bool = False
    files_once: bool = False
    from_start: bool = False
    passed_over: int = 0
    called: Mapping[str, str] = field(default_factory=dict)

    @property
    def reads_on(self) -> bool:
        """Whether only rows are read that are new since a run before, so that there may be none."""
        return any((self.read.tracked or {}).values()) or (self.newer is not None and self.newer.last is not None)

    def name_of(self, address: str) -> str:
        """What to call an address of incoming rows."""
        file, mark, part = address.partition("#")
        return f"{self.called[file]}{mark}{part}" if file in self.called else address

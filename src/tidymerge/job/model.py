"""What a run is asked to do."""

from collections.abc import Mapping

from msgspec import Struct, field

from tidymerge.model import ReadOptions
from tidymerge.model.rules import ColumnRule, Limits, Rules


class Change(Struct, frozen=True):
    """What is asked of the records of a target that are there.

    `columns` are those to set and how, each of the record's own values before; `where` is the condition, and without
    one `every_record` must be said. `key` are the columns that name a record (empty: the target's own key). The rest is
    as in `Job`.
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


class Job(Struct, frozen=True):
    """Where rows come from, where they go, and how they are matched.

    `incoming` are one or more addresses or patterns; `columns` are the target columns loaded and how (empty:
    all, by name); `renames` maps target column to incoming column and wins over `columns`; `only` limits the
    target columns loaded; `header_row` counts from 1 and is found if it is None; `take_rows` chooses rows by their
    numbers (3,7-12); `fill_down` are incoming columns whose blank cells take the value above; with `strict` one
    rejected row stops the load; without `save_rejects` no file of the rejected rows is written unless asked for; with
    `trust_triggers` differences that the target's own triggers make are accepted, and the receipt says so; `file` is
    the job file that it was read from; `types` are those of the columns of a target that is a file, and of new columns;
    `add` are the incoming columns to add to a target that lacks them (or True: all of them).
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
    read: ReadOptions = field(default_factory=ReadOptions)
    strict: bool = False
    save_rejects: bool = True
    trust_triggers: bool = False
    limits: Limits = field(default_factory=Limits)
    file: str | None = None
    types: Mapping[str, str] = field(default_factory=dict)
    add: bool | tuple[str, ...] = False

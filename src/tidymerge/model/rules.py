"""What a job says about columns and rows, as the core reads it: plain records without their file's form."""

from collections.abc import Mapping
from enum import StrEnum
from typing import Protocol

from msgspec import Struct
from msgspec.structs import replace


class Blanks(StrEnum):
    """What a blank cell means for an existing record."""

    KEEP = "keep"
    CLEAR = "clear"
    FILL_ONLY = "fill-only"


class Action(StrEnum):
    """What a row's instruction asks for."""

    INSERT = "insert"
    UPDATE = "update"
    SKIP = "skip"
    REMOVE = "remove"


class Find(Struct, frozen=True):
    """A look-up: the value is sought in `where` of `table`, and `take` of the record found is loaded.

    With `fold_case` texts are found in any letter case.
    """

    table: str
    where: str
    take: str
    missing_is_null: bool = False
    fold_case: bool = False


class Step(Protocol):
    """One thing that is done to the cells of a column before they are cast. `core.tidy.steps` has them all."""

    def words(self) -> str:
        """What it does, as a person would say it."""

    def check(self, where: str) -> None:
        """Raise BadExpression if it can't be done; `where` names its column in the job."""


class ColumnRule(Struct, frozen=True):
    """How one target column gets its value.

    `sources` are joined by `join`; or it is a `constant`, what `compute` gives, or a `stamp`. The `steps` are applied
    to that in their order, and what `find` says comes last. `update_when` is "greater", "empty" or an expression.
    """

    sources: tuple[str, ...] = ()
    join: str = " "
    constant: str | None = None
    compute: str | None = None
    stamp: str | None = None
    steps: tuple[Step, ...] = ()
    find: Find | None = None
    default: str | None = None
    blanks: Blanks | None = None
    clear_mark: str | None = None
    update_when: str | None = None
    only_on: Action | None = None

    @property
    def goes_along(self) -> bool:
        """Whether the column is written only when another one changes: else a second load would find work to do."""
        return self.stamp is not None or self.only_on is Action.UPDATE

    @property
    def plain(self) -> bool:
        """Whether the column just takes one incoming column as it is."""
        return self == ColumnRule(sources=self.sources[:1])

    @property
    def unshaped(self) -> bool:
        """Whether the cells of one incoming column are taken as they are, whatever then decides what is written."""
        rest = replace(self, default=None, blanks=None, clear_mark=None, update_when=None, only_on=None)
        return rest == ColumnRule(sources=self.sources[:1])


class Instruction(Struct, frozen=True):
    """The column whose values say what to do with a row; `blank` is "reject", "skip" or "load".

    `actions` maps text to an action and, for an update, the only columns it may change (none: all).
    """

    column: str
    actions: Mapping[str, tuple[Action, tuple[str, ...]]]
    blank: str = "reject"

    @property
    def removes(self) -> bool:
        """Whether a row can say that its record is to go."""
        return any(action is Action.REMOVE for action, _ in self.actions.values())


class Most(Struct, frozen=True):
    """The most rows of a kind: a count, or a percentage of the `target`'s records or the `incoming` rows."""

    number: float
    share_of: str | None = None


class Limits(Struct, frozen=True):
    """What a load may do at most, or must do exactly; where nothing is said, the usual limits hold."""

    updated: Most | None = None
    inserted: Most | None = None
    rejected: Most | None = None
    fewest_rows: int | None = None
    expect_updated: int | None = None
    expect_inserted: int | None = None
    removed: Most | None = None
    expect_removed: int | None = None


class Rules(Struct, frozen=True):
    """What holds for all rows. Conditions are expressions.

    `greatest` names the column that decides between rows of one key when `same_key_twice` is "greatest". `every` is
    what every row asks for, in place of an instruction of its own. With `once`, rows that were loaded before are not
    loaded again, unless `again`. Where the rows are the full list of the records `absent_within` (None: of all), those
    that are on no row go, if `absent` is REMOVE, or have the values `absent_sets` set, by column.
    With `append` every row is new, and no record is looked for. Where a row may hold `several` records, of several
    tables, one that says nothing of this table has none of its records.
    """

    blanks: Blanks = Blanks.KEEP
    clear_mark: str | None = None
    skip_when: str | None = None
    insert_when: str | None = None
    update_when: str | None = None
    inserts: bool = True
    updates: bool = True
    same_key_twice: str = "reject"
    greatest: str | None = None
    update_all: bool = False
    instruction: Instruction | None = None
    every: Action | None = None
    once: bool = False
    again: bool = False
    absent: Action | None = None
    absent_sets: Mapping[str, str] = {}
    absent_within: str | None = None
    append: bool = False
    several: bool = False

    @property
    def keeps_all(self) -> bool:
        """Whether several rows and several records may have one key: each row has a record of its own."""
        return self.same_key_twice == "keep-all"

    @property
    def removes(self) -> bool:
        """Whether records can go."""
        told = self.instruction is not None and self.instruction.removes
        return Action.REMOVE in (self.every, self.absent) or told

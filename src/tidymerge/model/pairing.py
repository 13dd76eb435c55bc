"""Which incoming column feeds which target column."""

from msgspec import Struct

from tidymerge.model.columns import TargetColumn
from tidymerge.model.rules import ColumnRule


class Pair(Struct, frozen=True):
    """A target column, the name of what feeds it (for messages), and the rule by which it does."""

    target: TargetColumn
    incoming: str
    rule: ColumnRule


class Pairing(Struct, frozen=True):
    """Which incoming column feeds which target column, and which of them find the record."""

    pairs: tuple[Pair, ...]
    key: tuple[str, ...]
    not_loaded: tuple[str, ...]
    left_alone: tuple[str, ...]

    @property
    def columns(self) -> tuple[TargetColumn, ...]:
        """The target columns that the job loads, key columns included, in the target's order."""
        return tuple(pair.target for pair in self.pairs)

    @property
    def sources(self) -> set[str]:
        """The incoming columns that feed any."""
        return {source for pair in self.pairs for source in pair.rule.sources}

    @property
    def compared(self) -> tuple[Pair, ...]:
        """What can make a record count as changed: neither key columns nor those that only go along."""
        return tuple(pair for pair in self.pairs if pair.target.name not in self.key and not pair.rule.goes_along)

    @property
    def going_along(self) -> tuple[Pair, ...]:
        """The columns that are written when something else in the record changes, and are no change by themselves."""
        return tuple(pair for pair in self.pairs if pair.target.name not in self.key and pair.rule.goes_along)

    @property
    def key_columns(self) -> tuple[TargetColumn, ...]:
        """The key columns, in the order of the key."""
        by_name = {pair.target.name: pair.target for pair in self.pairs}
        return tuple(by_name[name] for name in self.key)

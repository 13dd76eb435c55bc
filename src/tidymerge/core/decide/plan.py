"""What holds for every part of a load."""

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.columns import Surroundings
from tidymerge.core.decide.coming import Awaited
from tidymerge.core.decide.conditions import Conditions
from tidymerge.core.decide.removal import own_parents
from tidymerge.core.decide.since import Since
from tidymerge.core.match.known import Known
from tidymerge.model import EqualTexts, Pairing, TableShape, TargetColumn
from tidymerge.model.rules import Find, Rules


class Plan(Struct, frozen=True):
    """The columns and their rules, the conditions, the tables looked up in: plain data, which can be pickled.

    `known` are rows that were loaded before and are not to be loaded again. `awaits` are columns whose values may stand
    for ids that are not known yet. `since` is what rows that come back were when they were taken out.
    """

    shape: TableShape
    pairing: Pairing
    rules: Rules
    conditions: Conditions
    around: Surroundings
    known: Known | None = None
    awaits: tuple[Awaited, ...] = ()
    since: Since | None = None

    @property
    def columns_read(self) -> tuple[TargetColumn, ...]:
        """The target columns whose stored values are needed."""
        looked_at = self.conditions.existing_columns | {column.name for column in self.pairing.columns}
        if self.rules.removes:
            looked_at |= own_parents(self.shape)
        return tuple(column for column in self.shape.columns if column.name in looked_at)

    @property
    def of_keys(self) -> "Plan":
        """The plan that reads the keys of rows and nothing else."""
        pairs = tuple(pair for pair in self.pairing.pairs if pair.target.name in self.pairing.key)
        conditions = replace(self.conditions, skip_when=None)
        return replace(self, pairing=replace(self.pairing, pairs=pairs), conditions=conditions, known=None)

    def telling(self, equal: Mapping[Find, EqualTexts]) -> "Plan":
        """The plan with what the database said of the texts that are looked up."""
        return replace(self, around=self.around.telling(equal))

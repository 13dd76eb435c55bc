"""What a decision rests on."""

from msgspec import Struct

from tidymerge.core.decide.columns import Converted
from tidymerge.core.decide.conditions import Conditions
from tidymerge.core.match.match import KeyCodes
from tidymerge.model import Existing, Incoming, Pairing, TableShape
from tidymerge.model.changes import Matches
from tidymerge.model.rules import Rules


class Question(Struct, frozen=True):
    """All that a decision rests on: both sides, how they match, and what the job says."""

    incoming: Incoming
    converted: Converted
    existing: Existing
    codes: KeyCodes
    matches: Matches
    pairing: Pairing
    shape: TableShape
    rules: Rules
    conditions: Conditions

    @property
    def rows(self) -> int:
        """How many incoming rows there are."""
        return len(self.incoming.row_numbers)

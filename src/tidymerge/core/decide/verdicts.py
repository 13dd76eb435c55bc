"""Every incoming row's verdict, as the rules give it one after another."""

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.decide.columns import spared
from tidymerge.core.decide.rows import flawed
from tidymerge.core.tidy.cells import mask_at
from tidymerge.model import Flaw, Indices, Mask
from tidymerge.model.changes import Outcome


class Verdicts:
    """What is settled about each of `length` rows: left out, and why, or rejected, for one flaw or several.

    The first rule that settles a row stays: a row that is left out has no flaws, and one that is rejected is not left
    out. Rules that come later are about rows that are still `open`; a rejected row may get further flaws.
    """

    def __init__(self, length: int) -> None:
        self.length = length
        self.flaws: list[Flaw] = []
        self._skips: dict[str, Mask] = {}
        self._skipped: Mask = np.zeros(length, bool)
        self._rejected: Mask = np.zeros(length, bool)

    @property
    def open(self) -> Mask:
        """The rows that no rule has settled yet."""
        return ~self._skipped & ~self._rejected

    @property
    def rejected(self) -> Mask:
        """The rows that have a flaw."""
        return self._rejected

    def skip(self, why: str, rows: Mask) -> None:
        """Leave out those of the rows that are still open."""
        mask = rows & self.open
        self._skips[why] = mask | self._skips.get(why, False)
        self._skipped = self._skipped | mask

    def skip_rows(self, why: str, rows: Indices) -> None:
        """The same for rows by their index."""
        self.skip(why, mask_at(rows, self.length))

    def reject(self, flaws: Sequence[Flaw]) -> None:
        """Reject the rows that have the flaws, unless they are left out."""
        found = spared(flaws, self._skipped)
        self.flaws += found
        self._rejected = self._rejected | flawed(found, self.length)

    def follow(self, rows: Indices, leaders: Indices) -> None:
        """Leave out rows whose leaders are left out, for the same reason."""
        for why, mask in list(self._skips.items()):
            self.skip_rows(why, rows[mask[leaders]])

    def share(self, rows: Indices, leaders: Indices) -> None:
        """Reject rows whose leaders are rejected, for the same flaw, even if they were left out because of them."""
        self.flaws = [with_company(flaw, rows, leaders) for flaw in self.flaws]
        self._rejected = flawed(self.flaws, self.length)
        self._skips = {why: mask & ~self._rejected for why, mask in self._skips.items()}

    def outcomes(self, updated: Indices, inserted: Indices, removed: Indices) -> npt.NDArray[np.uint8]:
        """What becomes of each row. Of those that are still open, the ones not named are unchanged."""
        outcomes = np.full(self.length, Outcome.UNCHANGED, np.uint8)
        outcomes[updated] = Outcome.UPDATED
        outcomes[inserted] = Outcome.INSERTED
        outcomes[removed] = Outcome.REMOVED
        outcomes[self._skipped] = Outcome.SKIPPED
        outcomes[self._rejected] = Outcome.REJECTED
        return outcomes

    @property
    def skips(self) -> dict[str, Indices]:
        """The rows that are left out, by why."""
        return {why: np.flatnonzero(mask) for why, mask in self._skips.items() if mask.any()}


def with_company(flaw: Flaw, followers: Indices, leaders: Indices) -> Flaw:
    """A flaw of leaders is one of those that follow them too, who have not flaws of their own."""
    at = np.flatnonzero(np.isin(leaders, flaw.rows) & ~np.isin(followers, flaw.rows))
    if not len(at):
        return flaw
    order = np.argsort(flaw.rows, kind="stable")
    same = order[np.searchsorted(flaw.rows, leaders[at], sorter=order)]
    values = None if flaw.values is None else pa.concat_arrays([flaw.values, flaw.values.take(pa.array(same))])
    return replace(flaw, rows=np.r_[flaw.rows, followers[at]], values=values)

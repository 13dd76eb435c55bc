"""Rows of one key whose instructions touch different columns: they change one record together."""

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.core.decide.columns import Converted
from tidymerge.core.decide.rows import Told
from tidymerge.core.match.match import KeyCodes, repeats
from tidymerge.core.tidy.cells import as_array, mask_at
from tidymerge.model import Indices, Mask
from tidymerge.model.changes import Matches


class Team(Struct, frozen=True):
    """Which rows work together. `rows` are all that follow another, `leaders` whom each follows.

    `members` has, by leader, all rows of the team in their order; `columns` what each of them may change.
    """

    told: Told
    length: int
    members: Mapping[int, tuple[int, ...]] = field(default_factory=dict)
    columns: Mapping[int, tuple[str, ...]] = field(default_factory=dict)

    @property
    def rows(self) -> Indices:
        """The rows that follow another."""
        return np.array([row for rows in self.members.values() for row in rows[1:]], np.int64)

    @property
    def leaders(self) -> Indices:
        """Whom each of `rows` follows."""
        return np.array([leader for leader, rows in self.members.items() for _ in rows[1:]], np.int64)

    @property
    def mask(self) -> Mask:
        """All rows of a team."""
        return mask_at(np.r_[self.rows, np.array(list(self.members), np.int64)], self.length)

    @property
    def follows(self) -> Mask:
        """The rows that follow another."""
        return mask_at(self.rows, self.length)

    def may_change(self, column: str) -> Mask:
        """The rows whose instruction lets them change a column; a leader may change what any of its team may."""
        allowed = np.ones(self.length, bool)
        for mask, columns in self.told.only:
            if column not in columns:
                allowed &= ~mask
        for leader, rows in self.members.items():
            allowed[leader] = any(column in self.columns[row] for row in rows)
        return allowed


def team_up(codes: KeyCodes, told: Told, matches: Matches) -> Team:
    """The teams among rows that share a key, find one record, and may each change other columns than the rest.

    Rows whose code is -1 take no part.
    """
    length = len(codes.incoming)
    if not told.only:
        return Team(told, length)
    columns: dict[int, tuple[str, ...]] = {}
    for mask, names in told.only:
        columns |= dict.fromkeys(np.flatnonzero(mask & (matches.times == 1)).tolist(), names)
    groups: dict[int, list[int]] = {}
    for row in repeats(codes.incoming, codes.size).tolist():
        groups.setdefault(int(codes.incoming[row]), []).append(row)
    members = {}
    for rows in groups.values():
        named = [name for row in rows for name in columns.get(row, ())]
        if all(row in columns for row in rows) and len(set(named)) == len(named):
            members[rows[0]] = tuple(rows)
    kept = {row for rows in members.values() for row in rows}
    return Team(told, length, members, {row: names for row, names in columns.items() if row in kept})


def shared(converted: Converted, team: Team) -> Converted:
    """The rows of a team all say what each of them says in its own columns."""
    values, cleared = converted.values, dict(converted.cleared)
    for at, name in enumerate(values.column_names):
        source = np.arange(team.length)
        for rows in team.members.values():
            speaker = next((row for row in rows if name in team.columns[row]), None)
            if speaker is not None:
                source[list(rows)] = speaker
        values = values.set_column(at, name, as_array(values[name]).take(pa.array(source)))
        if name in cleared:
            cleared[name] = cleared[name][source]
    untidied = {name: texts for name, texts in converted.untidied.items() if not team.members}
    return replace(converted, values=values, cleared=cleared, untidied=untidied)

"""What is wrong with a row, or speaks against it, before its values are compared: keys, repeats, instructions."""

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.decide.columns import Converted
from tidymerge.core.match.match import KeyCodes, code_rows, repeats
from tidymerge.core.tidy import digits
from tidymerge.core.tidy.cells import as_array, shown, valid
from tidymerge.core.tidy.convert import as_text, tidy_arrays
from tidymerge.core.tidy.tidying import tidy
from tidymerge.core.tidy.times import durations
from tidymerge.model import ColumnType, Flaw, Incoming, IncomingColumn, Indices, Mask, Pair, Pairing, Reason, TableShape
from tidymerge.model.changes import Matches
from tidymerge.model.rules import Action, Rules


def flawed(flaws: Sequence[Flaw], rows: int) -> Mask:
    """Which of `rows` rows have a flaw."""
    mask = np.zeros(rows, bool)
    for flaw in flaws:
        mask[flaw.rows] = True
    return mask


def blank_keys(converted: Converted, pairing: Pairing) -> list[Flaw]:
    """Rows with a blank in a key column; a key cell that holds something wrong has its own flaw."""
    found = []
    for pair in pairing.pairs:
        if pair.target.name in pairing.key:
            blank = ~valid(as_array(converted.values[pair.target.name]))
            for flaw in converted.flaws:
                if flaw.column in (None, pair.incoming) or set(flaw.cells) & set(pair.rule.sources):
                    blank[flaw.rows] = False
            if blank.any():
                wanted = "a value in every key column"
                found.append(
                    Flaw(Reason.BLANK_KEY, np.flatnonzero(blank), wanted, pair.incoming, None, pair.rule.sources)
                )
    return found


class Repeats(Struct, frozen=True):
    """Rows that share a key: those at fault, those that say the same as an earlier one, those another row outdoes.

    `first` has for each of the `spare` rows the earlier one.
    """

    flaws: list[Flaw]
    spare: Indices
    first: Indices
    outdone: Indices


def same_key_twice(
    converted: Converted, codes: KeyCodes, pairing: Pairing, rules: Rules, going: Mask, numbers: Indices
) -> Repeats:
    """Settle rows that share a key and are good by themselves. Equal ones count once; the rules choose, or none counts.

    `numbers` are the rows' numbers, for people. Rows whose code is -1 take no part. The rows of one key stand together,
    and each array below has one entry a row:

        rows      1  4 | 0  2  5     two keys, of two rows and of three
        contents  8  8 | 2  9  2     what each row says, as a number
        starts    0      2           where a key begins, among the rows
        alike     true   false       whether all rows of a key say the same
        spare     4                  rows 1 and 4 say the same: 1 counts
        at_fault         0  2  5     they don't: none counts, unless the rules choose
    """
    rows, values = repeats(codes.incoming, codes.size), converted.values
    if not len(rows):
        return Repeats([], rows, rows, rows)
    said = values.drop_columns(list(pairing.key))
    for name, mask in converted.cleared.items():  # a cleared cell says more than a blank one
        said = said.append_column(f"cleared {name}", pa.array(mask))
    if going.any():  # a record can't both go and stay
        said = said.append_column("removed", pa.array(going))
    contents = _contents(said.take(pa.array(rows))) if said.num_columns else np.zeros(len(rows), np.int64)
    keys = codes.incoming[rows]
    starts = np.flatnonzero(np.r_[True, keys[1:] != keys[:-1]])
    sizes = np.diff(np.r_[starts, len(rows)])
    alike = np.minimum.reduceat(contents, starts) == np.maximum.reduceat(contents, starts)
    first = np.zeros(len(rows), bool)
    first[starts] = True
    all_alike = np.repeat(alike, sizes)
    spare, leaders = rows[all_alike & ~first], np.repeat(rows[starts], sizes)[all_alike & ~first]
    if rules.same_key_twice == "reject":
        at_fault, outdone = rows[~all_alike], rows[:0]
    else:
        rank = _rank(values, rows, rules, pairing)
        wins = rank == np.repeat(np.maximum.reduceat(rank, starts), sizes)
        tied = np.repeat(np.add.reduceat(wins.astype(np.int64), starts), sizes) > 1
        at_fault = rows[~all_alike & wins & tied]
        outdone = rows[~all_alike & ~wins]
    other = numbers[_says_otherwise(rows, contents, starts, sizes)]
    named = np.zeros(values.num_rows, np.int64)
    named[rows] = other
    at_fault = np.sort(at_fault)
    return Repeats(_repeat_flaws(values, at_fault, named[at_fault], pairing), spare, leaders, outdone)


def _says_otherwise(rows: Indices, contents: Indices, starts: Indices, sizes: Indices) -> Indices:
    """For each row the first one of its key that says something else; itself, if none does."""
    first = np.repeat(starts, sizes)
    differs = contents != contents[first]
    places = np.arange(len(rows))
    later = np.minimum.reduceat(np.where(differs, places, len(rows)), starts)
    other = np.where(differs, first, np.repeat(later, sizes))
    found: Indices = rows[np.where(other < len(rows), other, places)]
    return found


def _rank(values: pa.Table, rows: Indices, rules: Rules, pairing: Pairing) -> npt.NDArray[np.int64]:
    """How well each row stands among those of its key: the greatest number wins."""
    if rules.same_key_twice == "greatest":
        kind = next(pair.target.type for pair in pairing.pairs if pair.target.name == rules.greatest)
        column = sortable(as_array(values[rules.greatest]).take(pa.array(rows)), kind)
        ranks = pc.rank(column, sort_keys="ascending", tiebreaker="dense").to_numpy(zero_copy_only=False)
        return np.where(valid(column), ranks.astype(np.int64), 0)
    return rows if rules.same_key_twice == "last" else int(rows.max()) - rows


def sortable(values: pa.Array, kind: ColumnType) -> pa.Array:
    """Values in a form whose order is theirs: numbers and times that are held as texts are not ordered as those."""
    if kind.beyond_day:
        return durations(values)
    return digits.ranks(values) if kind.spelled_out else values


def _repeat_flaws(values: pa.Table, rows: Indices, others: Indices, pairing: Pairing) -> list[Flaw]:
    if not len(rows):
        return []
    wanted = "one row for each key, or rows that say the same"
    keys = key_text(values.take(pa.array(rows)), pairing.key)
    shown = pc.binary_join_element_wise(keys, pc.cast(pa.array(others), pa.string()), " (row ")
    shown = pc.binary_join_element_wise(shown, "says otherwise)", " ")
    return [Flaw(Reason.SAME_KEY_TWICE, rows, wanted, key_name(pairing), shown, key_cells(pairing))]


def _contents(table: pa.Table) -> Indices:
    """One code a row for its whole contents, where a blank equals a blank."""
    columns = []
    for name in table.column_names:
        column = as_array(table[name])
        coded = column.dictionary_encode(null_encoding="encode").indices if column.null_count else column
        columns.append(pa.chunked_array([coded]))
    return code_rows(columns)[0]


def several_records(values: pa.Table, matches: Matches, pairing: Pairing, alone: Mask) -> list[Flaw]:
    """Rows whose key several records have, where one `alone` must be meant: which one can't be known."""
    flaws = []
    for times in np.unique(matches.times[(matches.times > 1) & alone]):
        rows = np.flatnonzero((matches.times == times) & alone)
        shown = key_text(values.take(pa.array(rows)), pairing.key)
        wanted = f"one record with this key; there are {times}"
        flaws.append(Flaw(Reason.SEVERAL_RECORDS, rows, wanted, key_name(pairing), shown, key_cells(pairing)))
    return flaws


def missing_values(values: pa.Table, fresh: Mask, pairing: Pairing, shape: TableShape) -> list[Flaw]:
    """New records without a value that the target demands (not null, and no default)."""
    sources = {pair.target.name: pair for pair in pairing.pairs}
    flaws = []
    for column in shape.columns:
        if column.nullable or column.has_default or column.generated or not fresh.any():
            continue
        if (pair := sources.get(column.name)) is not None:
            rows = np.flatnonzero(fresh & ~valid(as_array(values[column.name])))
            wanted = f"a value: {column.name} may not be empty in a new record"
            flaw = Flaw(Reason.BLANK_NOT_ALLOWED, rows, wanted, pair.incoming, None, pair.rule.sources)
        else:
            rows = np.flatnonzero(fresh)
            wanted = f"a value for {column.name}: a new record needs one, and no incoming column feeds it"
            flaw = Flaw(Reason.BLANK_NOT_ALLOWED, rows, wanted)
        if len(rows):
            flaws.append(flaw)
    return flaws


class Told(Struct, frozen=True):
    """What the instruction column says, by row: which action (-1: none given), and which rows say nonsense."""

    actions: npt.NDArray[np.int8]
    only: tuple[tuple[Mask, tuple[str, ...]], ...]
    flaws: list[Flaw]

    @property
    def going(self) -> Mask:
        """The rows that say that their record is to go."""
        going: Mask = self.actions == ACTION_CODES[Action.REMOVE]
        return going


ACTION_CODES = {Action.INSERT: 0, Action.UPDATE: 1, Action.SKIP: 2, Action.REMOVE: 3}


def instructions(incoming: Incoming, rules: Rules) -> Told:
    """Read the instruction column. Where a blank is to load, the key decides as it does without instructions."""
    rows, instruction = len(incoming.row_numbers), rules.instruction
    actions = np.full(rows, -1 if rules.every is None else ACTION_CODES[rules.every], np.int8)
    if instruction is None:
        return Told(actions, (), [])
    parts = tuple(tidy_arrays(incoming.column(instruction.column).arrays))
    cells = tidy(as_text(IncomingColumn("", parts))) if parts else pa.nulls(rows, pa.string())
    words = pc.utf8_lower(cells)
    known = np.zeros(rows, bool)
    only = []
    for word, (action, columns) in instruction.actions.items():
        mask = pc.equal(words, word.lower()).fill_null(False).to_numpy(zero_copy_only=False)
        actions[mask] = ACTION_CODES[action]
        known |= mask
        if columns:
            only.append((mask, columns))
    strange = np.flatnonzero(valid(cells) & ~known)
    flaws = []
    if len(strange):
        wanted = f"one of {', '.join(instruction.actions)}"
        flaws = [Flaw(Reason.UNKNOWN_INSTRUCTION, strange, wanted, instruction.column, cells.take(pa.array(strange)))]
    blank = np.flatnonzero(~valid(cells))
    if len(blank) and instruction.blank == "reject":
        wanted = f"one of {', '.join(instruction.actions)}"
        flaws.append(Flaw(Reason.BLANK_INSTRUCTION, blank, wanted, instruction.column))
    elif instruction.blank == "skip":
        actions[blank] = ACTION_CODES[Action.SKIP]
    return Told(actions, tuple(only), flaws)


def disobedient(told: Told, fresh: Mask, known: Mask, values: pa.Table, pairing: Pairing) -> list[Flaw]:
    """Inserts whose key exists already, and updates and removals whose key does not."""
    found = []
    for mask, reason, wanted in (
        (
            known & (told.actions == ACTION_CODES[Action.INSERT]),
            Reason.ALREADY_THERE,
            "a new key: the row is to be inserted",
        ),
        (
            fresh & (told.actions == ACTION_CODES[Action.UPDATE]),
            Reason.NOT_THERE,
            "an existing key: the row says update",
        ),
        (fresh & told.going, Reason.NOT_THERE, "an existing key: the row says remove"),
    ):
        rows = np.flatnonzero(mask)
        if len(rows):
            shown = key_text(values.take(pa.array(rows)), pairing.key)
            found.append(Flaw(reason, rows, wanted, key_name(pairing), shown, key_cells(pairing)))
    return found


def key_text(values: pa.Table, key: Sequence[str]) -> pa.Array:
    """The keys of the rows for people: 'L01 / 7'."""
    parts = [shown(as_array(values[name])).fill_null("") for name in key]
    return parts[0] if len(parts) == 1 else pc.binary_join_element_wise(*parts, " / ")


def key_name(pairing: Pairing) -> str:
    """The incoming names of the key columns for people: 'Apiary / Hive no'."""
    return " / ".join(pair.incoming for pair in key_pairs(pairing))


def key_cells(pairing: Pairing) -> tuple[str, ...]:
    """The incoming columns that the key is made of."""
    return tuple(source for pair in key_pairs(pairing) for source in pair.rule.sources)


def key_pairs(pairing: Pairing) -> list[Pair]:
    """The pairs of the key columns, in the key's order."""
    by_name = {pair.target.name: pair for pair in pairing.pairs}
    return [by_name[name] for name in pairing.key]

"""What a careful colleague would point out before the load: near-miss keys, no rows, values of no type."""

from collections.abc import Callable, Container, Mapping, Sequence
from decimal import Decimal, InvalidOperation

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from tidymerge.core.decide.rows import key_cells, key_text
from tidymerge.core.infer.totals import named_totals, sums
from tidymerge.core.match.match import all_matches, code_keys, match
from tidymerge.core.tidy.cells import as_array, mask_of, valid
from tidymerge.core.tidy.convert import as_text
from tidymerge.core.tidy.tidying import composed
from tidymerge.core.words import plural
from tidymerge.model import Fold, Incoming, Kind, Pairing, TargetColumn
from tidymerge.model.changes import ChangeSet, Tally

_EXAMPLES = 3
_ROWS_ADDED_UP = 20_000  # more rows are hardly a sheet with totals in it
_ADDED_DIGITS = 15  # numbers with more before the point, or so small, are not added up
NearMiss = Callable[[str, int, int, str, str], str]  # of a difference, the count, a row, and both keys: in words


def cautions(
    counted: Tally, unreadable: Mapping[str, int], taken: str | None, *, may_be_none: bool = False
) -> list[str]:
    """Warnings about a decided load; any of them stops an unattended one.

    `unreadable` counts, by column, stored values that are not of their column's type; `taken` are the numbers of the
    rows that were asked for. Where only what is new is read, there `may_be_none`.
    """
    found = []
    if counted.read == 0 and not may_be_none:
        why = f"no row has a number in {taken}" if taken else "nothing stands below the column names"
        found.append(f"There are no rows to load: {why}.")
    for column, count in unreadable.items():
        found.append(
            f"{count:,} {plural(count, 'record holds', 'records hold')} something in {column} that its declared "
            "type can't hold; where a row brings a value, it will replace that."
        )
    return found


def unseen(counted: Tally, formulas: Sequence[str]) -> list[str]:
    """New rows that stand below the ranges of formulas which name the rows by place."""
    if not counted.inserted or not formulas:
        return []
    some = "; ".join(formulas[:_EXAMPLES])
    new = plural(counted.inserted, "The new row stands", f"The {counted.inserted:,} new rows stand")
    return [f"{new} below the range of formulas that name the rows by place, and are not seen by them: {some}."]


def own_target(incoming: Incoming, target: str) -> list[str]:
    """A query that reads the table which its rows go into: a load changes what the next one finds."""
    place, _, table = target.partition("#")
    wanted = table.casefold().split(".")[::-1]
    for name in incoming.reads if incoming.address.partition("#")[0] == place else ():
        if all(one == other for one, other in zip(name.casefold().split(".")[::-1], wanted, strict=False)):
            return [f"The query reads {name}, the table that its rows go into, so a second load may find other rows."]
    return []


def uncalculated(incoming: Incoming, used: Container[str]) -> list[str]:
    """Columns of formulas that no spreadsheet program has calculated: they look blank."""
    return [
        f"{count:,} {plural(count, 'formula', 'formulas')} in {name} {plural(count, 'has', 'have')} no stored result "
        "and count as blank: open the workbook in a spreadsheet program and save it."
        for name, count in incoming.uncalculated.items()
        if name in used
    ]


def doubtful_letters(parts: Sequence[tuple[Callable[[], Incoming], ChangeSet]], pairing: Pairing) -> list[str]:
    """Letters beyond ASCII that would replace stored texts, where nothing tells how the file is written."""
    found: list[str] = []
    count = 0
    for incoming, changes in parts:
        updates = changes.updates
        if not len(updates) or incoming().assumed is None:
            continue
        for pair in pairing.pairs:
            mask = updates.changed.get(pair.target.name)
            if pair.target.type.kind is not Kind.TEXT or mask is None or not mask.any():
                continue
            new, old = (as_array(side[pair.target.name]) for side in (updates.after, updates.before))
            at = np.flatnonzero(mask & valid(old) & mask_of(pc.invert(pc.string_is_ascii(new))))
            count += len(at)
            for one in at[: _EXAMPLES - len(found)].tolist():
                row = incoming().place(int(updates.rows[one]))
                found.append(f"row {row} {pair.target.name} {old[one].as_py()!r} becomes {new[one].as_py()!r}")
    if not count:
        return []
    assumed = next(incoming().assumed for incoming, _ in parts if incoming().assumed)
    words = (
        f"The file is not UTF-8 and does not say its encoding. Read as {assumed}, it would change {count:,} stored "
        f"{plural(count, 'text to one', 'texts to ones')} with letters beyond ASCII: {'; '.join(found)}. "
        f"If the letters are right, name {assumed} as the encoding; if not, name another."
    )
    return [words]


def totals(parts: Sequence[tuple[Callable[[], Incoming], ChangeSet]], pairing: Pairing) -> list[str]:
    """New records that look like totals of the others: by a word in their key, or because their numbers add up."""
    found: list[str] = []
    count = 0
    for rows, changes in parts:
        if not len(changes.inserts):
            continue
        incoming, fresh = rows(), np.sort(changes.inserts.rows)
        named = named_totals(incoming, key_cells(pairing))
        suspects = [row for numbers in named.values() for row in np.intersect1d(numbers, fresh).tolist()]
        if len(parts) == 1 and not suspects:
            suspects = np.intersect1d(np.flatnonzero(sums(_numbers(incoming, pairing))), fresh).tolist()
        count += len(set(suspects))
        for row in sorted(set(suspects))[: _EXAMPLES - len(found)]:
            key = [as_text(incoming.column(name))[row].as_py() or "(blank)" for name in key_cells(pairing)]
            found.append(f"row {incoming.place(row)} ({' / '.join(key)})")
    if not count:
        return []
    words = plural(count, "new record looks like a total", "new records look like totals")
    return [f"{count:,} {words} of other rows: {', '.join(found)}. If so, leave them out with skip_when."]


def _numbers(incoming: Incoming, pairing: Pairing) -> list[pa.Array]:
    """The cells that feed columns of exact numbers and are not in the key, as such; not of very many rows."""
    kinds = (Kind.INTEGER, Kind.DECIMAL)
    if len(incoming.row_numbers) > _ROWS_ADDED_UP:
        return []
    columns = []
    for pair in pairing.pairs:
        if pair.target.type.kind in kinds and pair.target.name not in pairing.key and len(pair.rule.sources) == 1:
            cells = as_text(incoming.column(pair.rule.sources[0])).to_pylist()
            columns.append(pa.array([_decimal(cell) for cell in cells], pa.decimal256(60, 20)))
    return columns


def _decimal(text: str | None) -> Decimal | None:
    try:
        found = Decimal(text or "")
    except InvalidOperation:
        return None
    return found if found.is_finite() and abs(found.adjusted()) < _ADDED_DIGITS else None


def text_columns(pairing: Pairing) -> tuple[TargetColumn, ...]:
    """The key columns whose values can be spelled in several ways."""
    return tuple(column for column in pairing.key_columns if column.type.kind is Kind.TEXT)


def _new_keys(parts: Sequence[ChangeSet], pairing: Pairing) -> pa.Table:
    return pa.concat_tables([changes.inserts.after.select(pairing.key) for changes in parts])


def lookalikes(parts: Sequence[ChangeSet], known: pa.Table, pairing: Pairing) -> pa.Table:
    """The new keys with their texts spelled in each of the other ways that `known`, the target's own texts, has."""
    new = _new_keys(parts, pairing)
    columns = [replace(column, fold=Fold.NOTHING) for column in text_columns(pairing)]
    texts = [column.name for column in columns]
    codes = code_keys(_loosely(new, texts, _every_form), _loosely(known, texts, _every_form), columns)
    rows, records = all_matches(codes, np.flatnonzero(match(codes).times > 0))
    found, spelled = new.take(pa.array(rows)), known.take(pa.array(records))
    other = np.zeros(len(rows), bool)
    for name in texts:
        other |= pc.not_equal(found[name], spelled[name]).to_numpy()
        found = found.set_column(found.column_names.index(name), name, spelled[name])
    return found.filter(pa.array(other))


def _near_miss(difference: str, count: int, row: int, new: str, old: str) -> str:
    return (
        f"{count:,} new {plural(count, 'key equals an existing one', 'keys equal existing ones')} but for "
        f"{difference}: row {row} has {new!r}, the target has {old!r}. Loaded as they are, they become duplicates."
    )


def near_misses(
    parts: Sequence[tuple[Callable[[], Incoming], ChangeSet]],
    known: Sequence[Callable[[], pa.Table]],
    pairing: Pairing,
    said: NearMiss = _near_miss,
) -> list[str]:
    """New keys that equal existing ones but for case, spaces, leading zeros or number form.

    `parts` are the incoming rows with their changes; `known` gives, some at a time, the keys of all records. `said`
    words it for rows that are not to be loaded.
    """
    texts = [column.name for column in text_columns(pairing)]
    ends = np.cumsum([len(changes.inserts) for _, changes in parts])
    if not texts or not len(ends) or not ends[-1]:
        return []
    new = _new_keys([changes for _, changes in parts], pairing)
    loose = _loosely(new, texts, _every_form)
    columns = [replace(column, fold=Fold.NOTHING) for column in pairing.key_columns]
    rows, theirs = np.zeros(0, np.int64), []
    for keys in known:
        old = keys()
        near = match(code_keys(loose, _loosely(old, texts, _every_form), columns))
        fresh = np.setdiff1d(np.flatnonzero(near.record >= 0), rows)
        rows = np.r_[rows, fresh]
        theirs.append(old.take(pa.array(near.record[fresh])))
    if not len(rows):
        return []
    order = np.argsort(rows)
    rows, old = rows[order], pa.concat_tables(theirs).take(pa.array(order))
    ours = new.take(pa.array(rows))

    def number(at: int) -> int:
        index = int(np.searchsorted(ends, at, side="right"))
        incoming, changes = parts[index]
        inserted = at - (int(ends[index]) - len(changes.inserts))
        return int(incoming().row_numbers[changes.inserts.rows[inserted]])

    left = np.ones(len(rows), bool)
    messages = []
    for difference, form in (*_FORMS, ("several of letter case, spaces, leading zeros and number form", _every_form)):
        alike = left & _equal_under(ours, old, texts, form)
        left &= ~alike
        if alike.any():
            first = int(np.flatnonzero(alike)[0])
            pair = [key_text(side.slice(first, 1), pairing.key)[0].as_py() for side in (ours, old)]
            messages.append(said(difference, int(alike.sum()), number(int(rows[first])), *pair))
    return messages


def _loosely(keys: pa.Table, texts: Sequence[str], form: Callable[[pa.Array], pa.Array]) -> pa.Table:
    return pa.table({name: _formed(keys[name], form) if name in texts else keys[name] for name in keys.column_names})


def _equal_under(
    ours: pa.Table, theirs: pa.Table, texts: Sequence[str], form: Callable[[pa.Array], pa.Array]
) -> np.ndarray:
    alike = np.ones(ours.num_rows, bool)
    for name in texts:
        one, other = _formed(ours[name], form), _formed(theirs[name], form)
        alike &= pc.equal(one, other).to_numpy(zero_copy_only=False)
    return alike


def _formed(texts: pa.ChunkedArray, form: Callable[[pa.Array], pa.Array]) -> pa.Array:
    """`form` of every text, worked out once for each distinct one."""
    coded = as_array(texts).dictionary_encode()
    return form(coded.dictionary).take(coded.indices)


def _case(texts: pa.Array) -> pa.Array:
    return pc.utf8_lower(texts)


def _spaces(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(composed(texts, "NFKC"), "[\\s\u200b\u200c\u200d\ufeff]+", "")


def _zeros(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"^0+([0-9A-Za-z])", r"\1")


def _number_form(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"^([0-9]+)[.,]0+$", r"\1")


def _every_form(texts: pa.Array) -> pa.Array:
    return _zeros(_number_form(_spaces(_case(texts))))


_FORMS = (
    ("leading zeros", _zeros),
    ("letter case", _case),
    ("spaces", _spaces),
    ("number form", _number_form),
)

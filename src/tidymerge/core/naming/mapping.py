"""Which incoming column feeds which target column: by name after folding, or as the job says."""

import unicodedata
from collections.abc import Container, Iterable, Mapping, Sequence
from difflib import get_close_matches

from msgspec.structs import replace

from tidymerge.errors import AmbiguousColumn, NoKey, NoSuchColumn, UnloadableColumn
from tidymerge.model import Pair, Pairing, TableShape, TargetColumn
from tidymerge.model.rules import ColumnRule


def fold(name: str) -> str:
    """A column name without letter case, spaces and punctuation: 'Hive No.' and 'hive_no' are one.

    Letters, digits and the marks that belong to letters stay, in every script. A name made of
    punctuation alone stays as it is.
    """
    text = unicodedata.normalize("NFKC", name).casefold()
    text = unicodedata.normalize("NFKC", text).casefold()  # folding may leave what composes and folds again
    kept = "".join(sign for sign in text if unicodedata.category(sign)[0] in "LNM")
    return unicodedata.normalize("NFC", kept) or name.strip()


def pair_columns(
    incoming: Sequence[str],
    shape: TableShape,
    *,
    renames: Mapping[str, str] | None = None,
    only: Sequence[str] = (),
    key: Sequence[str] = (),
    rules: Mapping[str, ColumnRule] | None = None,
    called: Mapping[str, str] | None = None,
    append: bool = False,
) -> Pairing:
    """Pair the columns and settle the key.

    `rules` (from a job) are the target columns loaded and how; without them columns find each other by
    name. `renames` maps target column to incoming column and wins; `only` limits the target columns
    loaded (key columns always are); `key` names target columns. Names may be given folded. `called` is what the header
    calls columns whose names only tell them apart from others that it calls so too: these are no match by name. Rows
    that are to `append` need no key: they have one if they bring one that the table keeps unique. Raises NoSuchColumn,
    AmbiguousColumn, UnloadableColumn and NoKey. Source: docs/meaning.md, Columns.
    """
    settled = {target_name(shape, name): _settled(incoming, rule) for name, rule in (rules or {}).items()}
    for target, source in (renames or {}).items():
        settled[target_name(shape, target)] = _settled(incoming, ColumnRule(sources=(source,)))
    for name in settled:
        check_loadable(shape.column(name))
    wanted = {target_name(shape, name) for name in only}
    keys = tuple(dict.fromkeys(target_name(shape, name) for name in key))
    used = {source for rule in settled.values() for source in rule.sources}
    names = {column.name for column in shape.columns}
    by_fold = {} if rules else _by_fold((name for name in incoming if name not in used), called or {})
    pairs = []
    for column in shape.columns:
        if wanted and column.name not in wanted and column.name not in (keys or shape.primary_key):
            continue
        rule = settled.get(column.name) or _rule_by_name(column, by_fold, names)
        if rule is not None:
            pairs.append(Pair(column, _fed_by(rule), rule))
    _check_one_each(pairs)
    loaded = {pair.target.name for pair in pairs}
    keys = keys or (_own_key(shape, loaded) if append else _default_key(shape, loaded))
    _check_key(keys, loaded, incoming, shape)
    used = {source for pair in pairs for source in pair.rule.sources}
    return Pairing(
        tuple(pairs),
        keys,
        tuple(dict.fromkeys(name for name in incoming if name not in used)),
        tuple(column.name for column in shape.columns if column.name not in loaded),
    )


def check_loadable(column: TargetColumn) -> None:
    """Raise UnloadableColumn for a column to which nobody can give values."""
    if not column.loadable:
        raise UnloadableColumn(
            f"{column.name} {why_not(column)} and can't be loaded; leave it out.", column=column.name
        )


def _settled(incoming: Sequence[str], rule: ColumnRule) -> ColumnRule:
    """The rule with the incoming rows' own spelling of its sources."""
    return replace(rule, sources=tuple(incoming_name(incoming, name) for name in rule.sources))


def _fed_by(rule: ColumnRule) -> str:
    """What feeds a column, in a word for messages."""
    if rule.constant is not None:
        return f"the value {rule.constant!r}"
    if rule.compute is not None:
        return f"computed: {rule.compute}"
    return f"stamp: {rule.stamp}" if rule.stamp else " + ".join(rule.sources)


def target_name(shape: TableShape, given: str) -> str:
    """The target's own spelling of a column name given exactly or folded."""
    names = [column.name for column in shape.columns]
    return _named(names, given, f"{shape.name} has no column {given!r}")


def incoming_name(incoming: Sequence[str], given: str) -> str:
    """The incoming rows' own spelling of a column name given exactly or folded."""
    name = _named(incoming, given, f"The incoming rows have no column {given!r}")
    if list(incoming).count(name) > 1:
        raise AmbiguousColumn(
            f"The incoming rows have several columns called {name!r}; give them different names.", column=name
        )
    return name


def _named(names: Sequence[str], given: str, problem: str) -> str:
    if given in names:
        return given
    fitting = [name for name in names if fold(name) == fold(given)]
    if len(fitting) == 1:
        return fitting[0]
    if fitting:
        raise AmbiguousColumn(
            f"{given!r} could mean any of {listing(fitting)}; write one of them exactly.",
            column=given,
            candidates=tuple(fitting),
        )
    close = get_close_matches(fold(given), [fold(name) for name in names], n=1)
    hint = next((name for name in names if close and fold(name) == close[0]), None)
    said = f"did you mean {hint!r}?" if hint else f"it has {listing(names)}."
    raise NoSuchColumn(f"{problem}; {said}", column=given, known=tuple(names))


def _by_fold(names: Iterable[str], called: Mapping[str, str]) -> dict[str, list[str]]:
    grouped: dict[str, list[str]] = {}
    for name in names:
        grouped.setdefault(fold(called.get(name, name)), []).append(name)
    return grouped


def _rule_by_name(column: TargetColumn, by_fold: Mapping[str, list[str]], names: Container[str]) -> ColumnRule | None:
    """The incoming column that fits; not one that another of the target's `names` is, to the letter."""
    fitting = [name for name in by_fold.get(fold(column.name), []) if name == column.name or name not in names]
    if not column.loadable or not fitting:
        return None
    if len(fitting) > 1:
        raise AmbiguousColumn(
            f"Several incoming columns fit {column.name}: {listing(fitting)}. "
            "Say which one feeds it, or give them different names.",
            column=column.name,
            candidates=tuple(fitting),
            give=tuple((("columns", f"{column.name}={name}"),) for name in fitting),
        )
    return ColumnRule(sources=(fitting[0],))


def _check_one_each(pairs: Sequence[Pair]) -> None:
    """Two target columns whose names fold alike must not be fed by one incoming column unasked."""
    seen: dict[str, str] = {}
    for pair in pairs:
        if pair.rule.plain and pair.incoming in seen and fold(pair.target.name) == fold(seen[pair.incoming]):
            raise AmbiguousColumn(
                f"The incoming column {pair.incoming!r} fits both {seen[pair.incoming]} and {pair.target.name}; "
                "say which it feeds, and which columns are loaded.",
                column=pair.incoming,
                candidates=(seen[pair.incoming], pair.target.name),
                give=((("columns", f"{pair.target.name}={pair.incoming}"), ("only", pair.target.name)),),
            )
        seen[pair.incoming] = pair.target.name


def _own_key(shape: TableShape, loaded: set[str]) -> tuple[str, ...]:
    """The columns by which new records can be told apart, if they bring any."""
    sure = [names for names in shape.unique if not any(shape.column(name).nullable for name in names)]
    return next((names for names in (shape.primary_key, *sure) if names and set(names) <= loaded), ())


def _default_key(shape: TableShape, loaded: set[str]) -> tuple[str, ...]:
    if shape.primary_key and set(shape.primary_key) <= loaded:
        return shape.primary_key
    candidates = [names for names in (shape.primary_key, *shape.unique) if names]
    can = [names for names in candidates if set(names) <= loaded]
    if can:
        hint = "These could serve: " + "; or ".join(" + ".join(names) for names in can)
    elif candidates:
        hint = (
            "The target's unique columns are "
            + "; ".join(" + ".join(names) for names in candidates)
            + ", but the incoming rows do not have them all; name the columns that find a record"
        )
    else:
        hint = f"{shape.name} declares no primary key or unique columns; name the columns that find a record"
    give = tuple(tuple(("key", name) for name in names) for names in can) or ((("key", "COLUMN"),),)
    raise NoKey(f"No key to match records by. {hint}.", candidates=tuple(" + ".join(names) for names in can), give=give)


def _check_key(keys: Sequence[str], loaded: set[str], incoming: Sequence[str], shape: TableShape) -> None:
    for name in keys:
        if name not in loaded:
            if not shape.column(name).loadable:
                why = why_not(shape.column(name))
                raise UnloadableColumn(f"The key column {name} {why}; choose another key.", column=name)
            raise NoSuchColumn(
                f"No incoming column fits the key column {name}; the incoming columns are {listing(incoming)}. "
                "Say which one it is.",
                column=name,
                known=tuple(incoming),
                give=((("columns", f"{name}=…"),),),
            )


def why_not(column: TargetColumn) -> str:
    """Why nobody can give a column values, after its name."""
    return "is computed by the target itself" if column.generated else f"is of the type {column.type.declared}"


def listing(names: Sequence[str], most: int = 12) -> str:
    """Names for a message, cut after `most`."""
    shown = ", ".join(name if name.isidentifier() else repr(name) for name in list(names)[:most])
    return shown + (f" and {len(names) - most} more" if len(names) > most else "")

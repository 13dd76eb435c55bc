"""The expressions of a job, compiled before any row is looked at, and worked out over incoming and existing."""

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.core.decide.columns import raw_frame
from tidymerge.core.expressions import Cells, Expression, Frame, Scopes, Type, compile_expression, tells_time, type_of
from tidymerge.core.naming.mapping import fold, incoming_name, target_name
from tidymerge.core.tidy import digits
from tidymerge.core.tidy.cells import as_array, mask_of
from tidymerge.core.tidy.convert import as_text, tidy_arrays
from tidymerge.errors import BadExpression
from tidymerge.model import Existing, Incoming, IncomingColumn, Indices, Mask, Pair, Pairing, TableShape
from tidymerge.model.rules import Blanks, Rules

_EMPTY, _GREATER = "empty", "greater"


class Conditions(Struct, frozen=True):
    """The compiled expressions of a job. `columns` holds each column's own `update_when`."""

    now: datetime
    skip_when: Expression | None = None
    insert_when: Expression | None = None
    update_when: Expression | None = None
    columns: Mapping[str, Expression] = field(default_factory=dict)
    computes: Mapping[str, Expression] = field(default_factory=dict)
    absent_within: Expression | None = None

    def asked(self, incoming: Incoming) -> frozenset[str]:
        """The incoming columns, by their own names, that the conditions look at."""
        used = [self.skip_when, self.insert_when, self.update_when, *self.columns.values()]
        names = {name for expression in used if expression for scope, name in expression.uses if scope == "incoming"}
        return frozenset(names & {column.name for column in incoming.columns})

    @property
    def existing_columns(self) -> set[str]:
        """The target columns whose stored values the conditions look at."""
        used = [self.insert_when, self.update_when, *self.columns.values(), *self.computes.values(), self.absent_within]
        return {name for expression in used if expression for scope, name in expression.uses if scope == "existing"}


def compile_conditions(
    incoming: Incoming, pairing: Pairing, shape: TableShape, rules: Rules, now: datetime
) -> Conditions:
    """Compile and check all expressions of a job. Raises BadExpression."""
    raw: dict[str, Mapping[str, Type | Cells]] = {"incoming": _Scope({}, incoming.columns)}
    stored: Mapping[str, Type | Cells] = {c.name: type_of(c.type) for c in shape.columns if not c.foreign}
    both: dict[str, Mapping[str, Type | Cells]] = {
        "incoming": _incoming_scope(incoming, pairing),
        "existing": stored,
    }
    only_incoming = {"incoming": both["incoming"]}
    columns, computes = {}, {}
    for pair in pairing.pairs:
        name, rule = pair.target.name, pair.rule
        for step in rule.steps:
            step.check(f"columns.{name}")
        if rule.update_when:
            new, old = f'incoming."{_doubled(name)}"', f'existing."{_doubled(name)}"'
            empty = f"nullif(trim({old}), '') is null" if type_of(pair.target.type) is Type.TEXT else f"{old} is null"
            shorthand = {_EMPTY: empty, _GREATER: f"{old} is null or {new} > {old}"}
            text = shorthand.get(rule.update_when, rule.update_when)
            columns[name] = compile_expression(text, f"columns.{name}.update_when", both, condition=True)
        if rule.compute:
            computes[name] = compile_expression(rule.compute, f"columns.{name}.compute", {**raw, "existing": stored})
            if computes[name].looks_at("existing"):
                _check_movement(pair, pairing, rules)
            if tells_time(rule.compute):
                raise BadExpression(
                    f"columns.{name}.compute: a value that differs at every load would never be unchanged; "
                    'for the time of the run use stamp = "time".'
                )
    return Conditions(
        now,
        _compiled(rules.skip_when, "incoming.skip_when", raw),
        _compiled(rules.insert_when, "rules.insert_when", only_incoming),
        _compiled(rules.update_when, "rules.update_when", both),
        columns,
        computes,
        _compiled(rules.absent_within, "rules.absent_within", {"existing": stored}),
    )


def _check_movement(pair: Pair, pairing: Pairing, rules: Rules) -> None:
    """Raise BadExpression where a value can't be worked out from the record."""
    name = pair.target.name
    where = f"columns.{name}.compute"
    if not rules.once:
        raise BadExpression(
            f"{where}: a value that is worked out from the record (existing.…) would change again at every load. With "
            "once = true in [rules] the log sees to it that the same rows are loaded only once."
        )
    if name in pairing.key:
        raise BadExpression(f"{where}: {name} finds the record, so it can't be worked out from it.")
    if rules.same_key_twice != "reject":
        raise BadExpression(f"{where}: of rows that add to the record, each counts: leave same_key_twice out.")
    if (pair.rule.blanks or rules.blanks) is Blanks.CLEAR:
        raise BadExpression(
            f"{where}: a row with a blank adds nothing, so it must not clear what the record holds. Say "
            f'blanks = "keep" in columns.{name}.'
        )
    if rules.update_all or rules.removes:
        other = "several_records" if rules.update_all else 'the instruction "remove"'
        raise BadExpression(f"{where}: a value that is worked out from the record does not go with {other}.")


def _doubled(name: str) -> str:
    return name.replace('"', '""')


def _compiled(text: str | None, where: str, scopes: Scopes) -> Expression | None:
    return compile_expression(text, where, scopes, condition=True) if text else None


_NATURES = (
    (pa.types.is_boolean, Type.BOOLEAN),
    (pa.types.is_date, Type.DATE),
    (pa.types.is_time, Type.TIME),
    (pa.types.is_timestamp, Type.TIMESTAMP),
)


def nature(column: IncomingColumn) -> Type | None:
    """The type that all cells of a column have: texts are numbers if all of them are; NULL if all are blank."""
    found = {_nature_of(part) for part in tidy_arrays(column.arrays)}
    return found.pop() if len(found) == 1 else None if found else Type.NULL


def _nature_of(part: pa.Array) -> Type | None:
    if pa.types.is_string(part.type):
        return Type.NUMBER if pc.all(pc.match_substring_regex(part, digits.PLAIN)).as_py() else None
    return next((kind for test, kind in _NATURES if test(part.type)), Type.NUMBER)


class _Scope(Mapping[str, Type | Cells]):
    """Typed columns by name, then others as cells, which are looked at only where an expression uses the column."""

    def __init__(self, typed: Mapping[str, Type], others: Sequence[IncomingColumn]) -> None:
        self._known: dict[str, Type | Cells] = dict(typed)
        self._others = {column.name: column for column in others}

    def __getitem__(self, name: str) -> Type | Cells:
        if name not in self._known:
            self._known[name] = Cells(nature(self._others[name]))
        return self._known[name]

    def __contains__(self, name: object) -> bool:
        return name in self._known or name in self._others

    def __iter__(self) -> Iterator[str]:
        return iter({**dict.fromkeys(self._known), **dict.fromkeys(self._others)})

    def __len__(self) -> int:
        return len(self._known.keys() | self._others.keys())


def _incoming_scope(incoming: Incoming, pairing: Pairing) -> Mapping[str, Type | Cells]:
    """Loaded columns by their target names, as converted; other incoming columns by their own, as cells."""
    typed = {pair.target.name: type_of(pair.target.type) for pair in pairing.pairs}
    taken = {fold(name) for name in typed}
    return _Scope(typed, [column for column in incoming.columns if fold(column.name) not in taken])


def rows_meeting(incoming: Incoming, where: str, now: datetime) -> Mask:
    """The incoming rows for which a condition on their cells is true. Raises BadExpression."""
    found = compile_expression(where, "where", {"incoming": _Scope({}, incoming.columns)}, condition=True)
    return mask_of(found.evaluate(raw_frame(incoming, found, now)))


def rows_to_skip(incoming: Incoming, conditions: Conditions) -> Mask:
    """The rows for which `skip_when` is true."""
    if conditions.skip_when is None:
        return mask_of(pa.repeat(pa.scalar(False), len(incoming.row_numbers)))
    frame = raw_frame(incoming, conditions.skip_when, conditions.now)
    return mask_of(conditions.skip_when.evaluate(frame))


class Sides(Struct, frozen=True):
    """Both sides of a set of matched rows: `rows` of the incoming values, `records` of the existing ones."""

    incoming: Incoming
    values: pa.Table
    existing: Existing | None
    rows: Indices
    records: Indices

    def holds(self, expression: Expression, now: datetime) -> Mask:
        """Where a condition is true; a row in which it fails or is unknown is not."""
        columns = {}
        for scope, name in expression.uses:
            if scope == "existing":
                assert self.existing is not None  # noqa: S101 - compiled without that scope otherwise
                columns[scope, name] = as_array(self.existing.values[name]).take(pa.array(self.records))
            elif name in self.values.column_names:
                columns[scope, name] = as_array(self.values[name]).take(pa.array(self.rows))
            else:
                columns[scope, name] = as_text(self.incoming.column(name)).take(pa.array(self.rows))
        frame = Frame(columns, len(self.rows), now)
        held = mask_of(pc.and_(expression.evaluate(frame).fill_null(False), pa.array(~frame.failed())))
        for scope, name in expression.uses:
            if scope == "existing" and self.existing is not None and name in self.existing.unreadable:
                held &= ~self.existing.unreadable[name][self.records]  # not empty, and not known either
        return held


def _settings(rules: Rules, pairing: Pairing, shape: TableShape) -> dict[str, str]:
    """What marks a record as gone, by column. Raises NoSuchColumn and BadExpression."""
    if rules.once:
        raise BadExpression("rules.absent: rows that may count only once are no full list; leave one of both out.")
    loaded = {column.name for column in pairing.columns} - set(pairing.key)
    found = {target_name(shape, name): value for name, value in rules.absent_sets.items()}
    for name in found:
        if name not in loaded:
            raise BadExpression(
                f"rules.absent: {name} is not loaded, so a record that comes back on the list would stay marked. Say "
                f"in [columns] what rows on the list get, as in {name} = {{ value = true }}."
            )
    return found


def resolved(rules: Rules, incoming: Incoming, pairing: Pairing, shape: TableShape) -> Rules:
    """The rules with the columns' own spelling. Raises NoSuchColumn and BadExpression."""
    if rules.greatest is not None:
        name = target_name(shape, rules.greatest)
        if name not in {column.name for column in pairing.columns}:
            raise BadExpression(f"rules.same_key_twice: {name} decides between rows of one key, but is not loaded.")
        rules = replace(rules, greatest=name)
    if rules.absent is not None:
        rules = replace(rules, absent_sets=_settings(rules, pairing, shape))
    elif rules.absent_within is not None:
        raise BadExpression("rules.absent_within says of what the rows are the full list: say absent, too.")
    if rules.instruction is not None:
        column = incoming_name([column.name for column in incoming.columns], rules.instruction.column)
        actions = {
            word: (action, tuple(target_name(shape, name) for name in names))
            for word, (action, names) in rules.instruction.actions.items()
        }
        rules = replace(rules, instruction=replace(rules.instruction, column=column, actions=actions))
    return rules

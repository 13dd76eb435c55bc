"""Checking an expression and turning it into functions over columns.

The text is parsed by sqlglot into a tree; each kind of node below is one that ISO SQL has and we know, and
any other is an error. Nothing is ever handed to Python's `eval` or to a database.
"""

import re
from collections.abc import Callable, Sequence
from decimal import Decimal
from difflib import get_close_matches

import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp, parse
from sqlglot.errors import SqlglotError

from tidymerge.core.expressions import functions as f
from tidymerge.core.expressions.coerce import CASTS, as_type, common_type, read_texts
from tidymerge.core.expressions.types import Cells, Checked, Frame, Scopes, Type
from tidymerge.core.expressions.wrong_syntax import said
from tidymerge.core.naming.mapping import fold, listing
from tidymerge.core.tidy import digits
from tidymerge.errors import BadExpression
from tidymerge.model import MOST_DIGITS, ColumnType, Kind

_SIGNS: dict[type, str] = {exp.EQ: "=", exp.NEQ: "<>", exp.LT: "<", exp.LTE: "<=", exp.GT: ">", exp.GTE: ">="}
_ARITHMETIC: dict[type, str] = {exp.Add: "+", exp.Sub: "-", exp.Mul: "*", exp.Div: "/"}
# The parts of a node, other than its operands, that we know; any other one is refused.
_FURTHER_PARTS: dict[type, tuple[str, ...]] = {
    exp.Column: ("table",),
    exp.Literal: ("is_string",),
    exp.Between: ("low", "high"),
    exp.In: ("query",),  # refused with words of its own
    exp.Like: ("negate",),
    exp.Case: ("ifs", "default"),
    exp.Round: ("decimals",),
    exp.Trim: ("position",),
    exp.Substring: ("start", "length"),
    exp.Cast: ("to",),
    exp.DPipe: ("safe",),
    exp.Div: ("typed", "safe"),
}
_FIELDS = ("year", "month", "day", "hour", "minute", "second")
FUNCTIONS = (
    "coalesce", "nullif", "trim", "upper", "lower", "substring", "round", "abs", "cast", "extract",
    "current_date", "current_timestamp",
)  # fmt: skip

_DEEPEST = 150  # of an expression: each level takes several of Python's own
_TOO_DEEP = f"the expression is nested more than {_DEEPEST} deep; write it in several columns"
_TIMES = (exp.CurrentDate, exp.CurrentTimestamp, exp.CurrentTime)


def has_time(text: str) -> bool:
    """Whether an expression that is known to compile has the time of the run in it."""
    return any(tree is not None and tree.find(*_TIMES) is not None for tree in parse(text))


def _depth(tree: exp.Expr) -> int:
    """How deep an expression is nested, counted without being as deep ourselves."""
    deepest, left = 0, [(tree, 1)]
    while left:
        node, depth = left.pop()
        deepest = max(deepest, depth)
        left += [(child, depth + 1) for child in node.iter_expressions()]
    return deepest


def compiled(text: str, where: str, scopes: Scopes, condition: bool) -> tuple[Checked, frozenset[tuple[str, str]]]:
    """The checked part for an expression, and the columns it uses. Raises BadExpression."""
    try:
        trees = parse(text)
    except RecursionError:
        raise BadExpression(f"{where}: {_TOO_DEEP}.", expression=text) from None
    except SqlglotError as error:
        raise BadExpression(f"{where}: {text!r} can't be understood: {said(error)}.", expression=text) from None
    if len(trees) != 1 or trees[0] is None:
        raise BadExpression(f"{where}: {text!r} is not one expression.", expression=text)
    if _depth(trees[0]) > _DEEPEST:
        raise BadExpression(f"{where}: {_TOO_DEEP}.", expression=text)
    compiler = _Compiler(text, where, scopes)
    part = compiler.checked(trees[0])
    if condition:
        part = compiler.wanted(part, Type.BOOLEAN, trees[0])
    return part, frozenset(compiler.uses)


class _Compiler:
    def __init__(self, text: str, where: str, scopes: Scopes) -> None:
        self.text, self.where, self.scopes = text, where, scopes
        self.uses: set[tuple[str, str]] = set()
        self._known: dict[type, Callable[[exp.Expr], Checked]] = {
            exp.Paren: lambda node: self.checked(node.this),
            exp.Column: self._column,
            exp.Literal: self._literal,
            exp.Boolean: lambda node: Checked(Type.BOOLEAN, f.constant(node.this, pa.bool_())),
            exp.Null: lambda _: Checked(Type.NULL, lambda frame: pa.nulls(frame.length)),
            exp.And: lambda node: self._logic(node, pc.and_kleene),
            exp.Or: lambda node: self._logic(node, pc.or_kleene),
            exp.Not: self._not,
            exp.Is: self._is,
            exp.Between: self._between,
            exp.In: self._in,
            exp.Like: lambda node: self._like(node, None, node),
            exp.Escape: self._escape,
            exp.Case: self._case,
            exp.Neg: lambda node: self._number(node, f.negate),
            exp.Abs: lambda node: self._number(node, f.absolute),
            exp.Round: self._round,
            exp.DPipe: self._join,
            exp.Coalesce: self._coalesce,
            exp.Nullif: self._nullif,
            exp.Trim: self._trim,
            exp.Upper: lambda node: self._text(node, pc.utf8_upper),
            exp.Lower: lambda node: self._text(node, pc.utf8_lower),
            exp.Substring: self._substring,
            exp.Cast: self._cast,
            exp.Extract: self._extract,
            exp.CurrentDate: lambda _: Checked(
                Type.DATE, lambda frame: pa.repeat(pa.scalar(frame.now.date(), pa.date32()), frame.length)
            ),
            exp.CurrentTimestamp: lambda _: Checked(
                Type.TIMESTAMP,
                lambda frame: pa.repeat(pa.scalar(frame.now.replace(tzinfo=None), pa.timestamp("us")), frame.length),
            ),
            **dict.fromkeys(_SIGNS, self._compare),
            **dict.fromkeys(_ARITHMETIC, self._calculate),
        }

    def checked(self, node: exp.Expr) -> Checked:
        """The checked part for one node of the tree."""
        make = self._known.get(type(node))
        if make is None:
            name = node.name if isinstance(node, exp.Anonymous) else type(node).__name__.lower()
            close = get_close_matches(name.lower(), FUNCTIONS, n=1)
            hint = f"did you mean {close[0]}?" if close else f"the functions are {', '.join(FUNCTIONS)}."
            raise self.error(f"{name!r} is not known here; {hint}", node)
        allowed = {"this", "expression", "expressions", *_FURTHER_PARTS.get(type(node), ())}
        further = [name for name, value in node.args.items() if value and name not in allowed]
        if further:  # a part that we would drop silently
            raise self.error(f"{node.sql()!r} says more than is known here ({', '.join(further)}).", node)
        return make(node)

    def error(self, words: str, node: exp.Expr) -> BadExpression:
        """An error that says where in the expression."""
        found = next((inner for inner in node.walk() if inner.meta.get("start") is not None), None)
        at = f", position {found.meta['start'] + 1}" if found is not None else ""
        return BadExpression(f"{self.where}{at}: {words}")

    def wanted(self, part: Checked, kind: Type, node: exp.Expr) -> Checked:
        """The part as `kind`. Raises BadExpression where it can't be."""
        found = as_type(part, kind)
        if found is None:
            raise self.error(f"{node.sql()} is {part.type}, but {kind} is needed.", node)
        return found

    def together(self, nodes: Sequence[exp.Expr], whole: exp.Expr) -> tuple[Type, list[Checked]]:
        """The parts of `nodes`, all of one type. Raises BadExpression where they clash."""
        parts = [self.checked(node) for node in nodes]
        kind = common_type(parts)
        if kind is None and all(part.type in (Type.CELL, Type.NULL) for part in parts):
            (name, cast_to), *_ = [
                (node.sql(), "decimal" if part.nature is Type.NUMBER else "varchar")
                for node, part in zip(nodes, parts, strict=True)
                if part.type is Type.CELL
            ]
            listed = " and ".join(node.sql() for node, part in zip(nodes, parts, strict=True) if part.type is Type.CELL)
            raise self.error(
                f"whether the cells of {listed} are to be compared as numbers, dates or texts is not clear from them; "
                f"say it with a cast, such as cast({name} as {cast_to}).",
                whole,
            )
        if kind is None:
            kinds = listing_of(parts, nodes)
            raise self.error(f"these can't be put together: {kinds}; say how with cast(… as …).", whole)
        return kind, [self.wanted(part, kind, node) for part, node in zip(parts, nodes, strict=True)]

    def _results(self, nodes: Sequence[exp.Expr], whole: exp.Expr) -> tuple[Type, list[Checked]]:
        """The parts of which one is the result; where all are cells, that is a cell too."""
        parts = [self.checked(node) for node in nodes]
        if any(part.type is Type.CELL for part in parts) and all(part.type in (Type.CELL, Type.NULL) for part in parts):
            return Type.CELL, [self.wanted(part, Type.CELL, node) for part, node in zip(parts, nodes, strict=True)]
        return self.together(nodes, whole)

    def _column(self, node: exp.Expr) -> Checked:
        scope = node.text("table") or next(iter(self.scopes))
        if scope.lower() not in self.scopes:
            raise self.error(f"{scope!r} is not known; names start with {' or '.join(self.scopes)}.", node)
        columns = self.scopes[scope.lower()]
        name = node.name
        if name not in columns:
            fitting = [known for known in columns if fold(known) == fold(name)]
            if len(fitting) != 1:
                close = get_close_matches(fold(name), [fold(known) for known in columns], n=1)
                hint = next((known for known in columns if close and fold(known) == close[0]), None)
                known = f"did you mean {hint!r}?" if hint else f"there are {listing(list(columns))}."
                raise self.error(f"there is no column {name!r}; {known}", node)
            name = fitting[0]
        self.uses.add((scope.lower(), name))
        found = columns[name]
        kind, nature = (Type.CELL, found.nature) if isinstance(found, Cells) else (found, None)
        return Checked(kind, lambda frame: frame.columns[scope.lower(), name], nature=nature)

    def _literal(self, node: exp.Expr) -> Checked:
        if node.is_string:
            return Checked(Type.TEXT, f.constant(node.this, pa.string()), literal=node.this)
        if "e" in node.this.lower():
            return Checked(Type.NUMBER, f.constant(float(node.this), pa.float64()))
        scale = len(node.this.partition(".")[2])
        if len(node.this) > MOST_DIGITS:
            return Checked(Type.NUMBER, f.constant(digits.one_spelling(node.this), pa.string()))
        return Checked(Type.NUMBER, f.constant(Decimal(node.this), pa.decimal128(MOST_DIGITS, scale)))

    def _logic(self, node: exp.Expr, join: Callable[[pa.Array, pa.Array], pa.Array]) -> Checked:
        one, other = (self.wanted(self.checked(side), Type.BOOLEAN, side) for side in (node.this, node.expression))
        return Checked(Type.BOOLEAN, lambda frame: join(one.run(frame), other.run(frame)))

    def _not(self, node: exp.Expr) -> Checked:
        inner = self.wanted(self.checked(node.this), Type.BOOLEAN, node.this)
        return Checked(Type.BOOLEAN, lambda frame: pc.invert(inner.run(frame)))

    def _is(self, node: exp.Expr) -> Checked:
        inner = self.checked(node.this)
        if inner.type is Type.CELL:
            inner = self.wanted(inner, Type.TEXT, node.this)
        if isinstance(node.expression, exp.Null):
            return Checked(Type.BOOLEAN, lambda frame: pc.is_null(inner.run(frame)))
        if isinstance(node.expression, exp.Boolean):
            truth = self.wanted(inner, Type.BOOLEAN, node.this)
            value = bool(node.expression.this)
            return Checked(Type.BOOLEAN, lambda frame: pc.equal(truth.run(frame), value).fill_null(False))
        raise self.error("after 'is' comes null, true or false.", node)

    def _compare(self, node: exp.Expr) -> Checked:
        kind, (one, other) = self.together([node.this, node.expression], node)
        sign = _SIGNS[type(node)]
        return Checked(Type.BOOLEAN, lambda frame: f.compare(sign, kind, one.run(frame), other.run(frame)))

    def _between(self, node: exp.Expr) -> Checked:
        kind, (value, low, high) = self.together([node.this, node.args["low"], node.args["high"]], node)
        return Checked(
            Type.BOOLEAN,
            lambda frame: pc.and_kleene(
                f.compare(">=", kind, value.run(frame), low.run(frame)),
                f.compare("<=", kind, value.run(frame), high.run(frame)),
            ),
        )

    def _in(self, node: exp.Expr) -> Checked:
        if not node.expressions:
            raise self.error("after 'in' comes a list of values in parentheses.", node)
        kind, (value, *members) = self.together([node.this, *node.expressions], node)

        def run(frame: Frame) -> pa.Array:
            found = f.compare("=", kind, value.run(frame), members[0].run(frame))
            for member in members[1:]:
                found = pc.or_kleene(found, f.compare("=", kind, value.run(frame), member.run(frame)))
            return found

        return Checked(Type.BOOLEAN, run)

    def _like(self, node: exp.Expr, escape: str | None, whole: exp.Expr) -> Checked:
        texts = self.wanted(self.checked(node.this), Type.TEXT, node.this)
        pattern = self.checked(node.expression).literal
        if pattern is None:
            raise self.error("the pattern after 'like' must be a text in single quotes.", whole)
        if node.args.get("negate"):
            return Checked(Type.BOOLEAN, lambda frame: pc.invert(f.like(texts.run(frame), pattern, escape)))
        return Checked(Type.BOOLEAN, lambda frame: f.like(texts.run(frame), pattern, escape))

    def _escape(self, node: exp.Expr) -> Checked:
        sign = self.checked(node.expression).literal
        if not isinstance(node.this, exp.Like) or sign is None or len(sign) != 1:
            raise self.error("'escape' takes one character, after a 'like'.", node)
        return self._like(node.this, sign, node)

    def _case(self, node: exp.Expr) -> Checked:
        branches = node.args["ifs"]
        conditions = []
        for branch in branches:
            test = exp.EQ(this=node.this.copy(), expression=branch.this.copy()) if node.this else branch.this
            conditions.append(self.wanted(self.checked(test), Type.BOOLEAN, branch.this))
        last = node.args.get("default") or exp.Null()
        kind, parts = self._results([*(branch.args["true"] for branch in branches), last], node)

        def run(frame: Frame) -> pa.Array:
            *results, otherwise = f.alike(kind, [part.run(frame) for part in parts])
            return f.choose([condition.run(frame) for condition in conditions], results, otherwise)

        return Checked(kind, run)

    def _calculate(self, node: exp.Expr) -> Checked:
        one, other = (self.wanted(self.checked(side), Type.NUMBER, side) for side in (node.this, node.expression))
        sign = _ARITHMETIC[type(node)]
        return Checked(Type.NUMBER, lambda frame: f.calculate(frame, sign, one.run(frame), other.run(frame)))

    def _number(self, node: exp.Expr, work: Callable[[pa.Array], pa.Array]) -> Checked:
        inner = self.wanted(self.checked(node.this), Type.NUMBER, node.this)
        return Checked(Type.NUMBER, lambda frame: work(inner.run(frame)))

    def _text(self, node: exp.Expr, work: Callable[[pa.Array], pa.Array]) -> Checked:
        inner = self.wanted(self.checked(node.this), Type.TEXT, node.this)
        return Checked(Type.TEXT, lambda frame: work(inner.run(frame)))

    def _whole(self, node: exp.Expr | None, default: int | None, words: str) -> int | None:
        """A whole number written out in the expression."""
        if node is None:
            return default
        sign, inner = (-1, node.this) if isinstance(node, exp.Neg) else (1, node)
        if not isinstance(inner, exp.Literal) or inner.is_string or not re.fullmatch("[0-9]{1,9}", inner.this):
            raise self.error(f"{words} must be a whole number.", node)
        return sign * int(inner.this)

    def _round(self, node: exp.Expr) -> Checked:
        inner = self.wanted(self.checked(node.this), Type.NUMBER, node.this)
        places = self._whole(node.args.get("decimals"), 0, "the number of decimals")
        return Checked(Type.NUMBER, lambda frame: f.round_number(inner.run(frame), places or 0))

    def _join(self, node: exp.Expr) -> Checked:
        one, other = (self.wanted(self.checked(side), Type.TEXT, side) for side in (node.this, node.expression))
        return Checked(Type.TEXT, lambda frame: pc.binary_join_element_wise(one.run(frame), other.run(frame), ""))

    def _coalesce(self, node: exp.Expr) -> Checked:
        kind, parts = self._results([node.this, *node.expressions], node)
        return Checked(kind, lambda frame: pc.coalesce(*f.alike(kind, [part.run(frame) for part in parts])))

    def _nullif(self, node: exp.Expr) -> Checked:
        kind, (one, other) = self.together([node.this, node.expression], node)

        def run(frame: Frame) -> pa.Array:
            values = one.run(frame)
            same = f.compare("=", kind, values, other.run(frame)).fill_null(False)
            return pc.if_else(same, pa.scalar(None, values.type), values)

        return Checked(kind, run)

    def _trim(self, node: exp.Expr) -> Checked:
        inner = self.wanted(self.checked(node.this), Type.TEXT, node.this)
        signs = " "
        if node.expression:
            signs = self.checked(node.expression).literal or ""
        work = {"LEADING": pc.utf8_ltrim, "TRAILING": pc.utf8_rtrim}.get(node.args.get("position") or "", pc.utf8_trim)
        return Checked(Type.TEXT, lambda frame: work(inner.run(frame), signs))

    def _substring(self, node: exp.Expr) -> Checked:
        inner = self.wanted(self.checked(node.this), Type.TEXT, node.this)
        start = self._whole(node.args.get("start"), 1, "the start of a substring")
        length = self._whole(node.args.get("length"), None, "the length of a substring")
        return Checked(Type.TEXT, lambda frame: f.substring(inner.run(frame), start or 0, length))

    def _cast(self, node: exp.Expr) -> Checked:
        to = node.args["to"]
        if to.this not in CASTS:
            raise self.error(f"'{to.sql()}' is no type to cast to.", node)
        kind, column = CASTS[to.this]
        sizes = [int(size.name) for size in to.expressions]
        declared = to.sql().lower()
        wanted = ColumnType(
            column,
            declared,
            length=sizes[0] if sizes and column is Kind.TEXT else None,
            precision=sizes[0] if sizes and column is Kind.DECIMAL else None,
            scale=(sizes[1] if len(sizes) > 1 else 0) if sizes and column is Kind.DECIMAL else None,
        )
        inner = self.checked(node.this)

        def run(frame: Frame) -> pa.Array:
            values = inner.run(frame)
            places = 0 if column is Kind.INTEGER else wanted.scale
            if inner.type is Type.NUMBER and column is not Kind.FLOAT and places is not None:
                values = f.round_number(values, places)  # ISO SQL: a cast of a number rounds
            if pa.types.is_decimal(values.type) and column is Kind.TEXT:
                return pc.cast(values, pa.string())
            return read_texts(frame, values, wanted)

        return Checked(kind, run)

    def _extract(self, node: exp.Expr) -> Checked:
        name = node.this.name.lower()
        if name not in _FIELDS:
            raise self.error(f"{name!r} can't be extracted; the fields are {', '.join(_FIELDS)}.", node)
        inner = self.checked(node.expression)
        if inner.type not in (Type.DATE, Type.TIME, Type.TIMESTAMP):
            raise self.error(f"{node.expression.sql()} is {inner.type}, but a date or time is needed.", node)
        return Checked(Type.NUMBER, lambda frame: f.extract(name, inner.run(frame)))


def listing_of(parts: Sequence[Checked], nodes: Sequence[exp.Expr]) -> str:
    """The parts and their types for a message."""
    return ", ".join(f"{node.sql()} ({part.type})" for part, node in zip(parts, nodes, strict=True))

"""Proposing how columns are fed: matched names, date formats that only one reading allows, maps, look-ups."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import as_array
from tidymerge.core.convert import as_text, cast_cells, tidy_parts
from tidymerge.core.mapping import fold
from tidymerge.core.shaping import read_date
from tidymerge.core.tidy import tidy
from tidymerge.model import ColumnType, ForeignKey, Incoming, IncomingColumn, Kind, TableShape, TargetColumn

_DATE_FORMATS = (
    "%d/%m/%Y", "%m/%d/%Y", "%d.%m.%Y", "%d-%m-%Y", "%m-%d-%Y", "%Y/%m/%d", "%Y%m%d", "%d/%m/%y", "%m/%d/%y",
    "%d.%m.%y", "%d %b %Y", "%d %B %Y", "%b %d, %Y", "%B %d, %Y",
)  # fmt: skip
_FEW_VALUES = 20  # a category has no more different values than this
_MOSTLY = 0.5  # the share of incoming values that must be found to propose a look-up


@dataclass(frozen=True, slots=True)
class Proposal:
    """How one target column could be fed: the rule as a job file has it (None: nothing fits), comments above it.

    `open` says that the comments hold a question.
    """

    target: str
    rule: dict[str, Any] | None
    comments: tuple[str, ...] = ()
    open: bool = False


Parents = Mapping[str, tuple[TableShape, pa.Table]]


def propose(incoming: Incoming, shape: TableShape, existing: pa.Table, parents: Parents) -> list[Proposal]:
    """One proposal for each target column that can be loaded, in the target's order.

    `existing` has all columns of the target; `parents` the tables that its foreign keys refer to.
    """
    taken: set[str] = set()
    found: dict[str, Proposal] = {}
    for column in shape.columns:  # names that fit come first, so that no look-up takes their columns
        fitting = [name for name in _names(incoming) if fold(name) == fold(column.name)]
        if len(fitting) == 1 and column.loadable:
            taken.add(fitting[0])
            key = _foreign_key(shape, column.name)
            source = incoming.column(fitting[0])
            found[column.name] = (key and _through(source, column, key, parents)) or _as_named(
                source, column, existing, shape.primary_key
            )
        elif len(fitting) > 1:
            comment = f"Several incoming columns fit {column.name}: {', '.join(fitting)}. Choose one."
            found[column.name] = Proposal(column.name, None, (comment,), open=True)
    for column in shape.columns:
        key = _foreign_key(shape, column.name)
        if column.name not in found and key is not None:
            for name in _names(incoming):
                if name not in taken and (proposal := _through(incoming.column(name), column, key, parents)):
                    taken.add(name)
                    found[column.name] = proposal
                    break
    return [found.get(column.name) or _unfed(column) for column in shape.columns if column.loadable]


def unmatched_columns(incoming: Incoming, proposals: Sequence[Proposal]) -> list[str]:
    """The incoming columns that no proposal uses."""
    used = {proposal.rule["from"] for proposal in proposals if proposal.rule}
    return [name for name in _names(incoming) if name not in used]


def _names(incoming: Incoming) -> list[str]:
    return [column.name for column in incoming.columns]


def _unfed(column: TargetColumn) -> Proposal:
    needed = " (new records need a value)" if not column.nullable and not column.has_default else ""
    return Proposal(column.name, None, (f"No incoming column fits {column.name}{needed}.",))


def _foreign_key(shape: TableShape, name: str) -> ForeignKey | None:
    return next((key for key in shape.foreign_keys if key.columns == (name,)), None)


def _as_named(source: IncomingColumn, column: TargetColumn, existing: pa.Table, keys: Sequence[str]) -> Proposal:
    rule: dict[str, Any] = {"from": source.name}
    texts = _texts(source)
    if column.type.kind in (Kind.DATE, Kind.TIMESTAMP):
        return _dates(rule, texts, source, column)
    if column.type.kind is Kind.DECIMAL or column.type.kind is Kind.FLOAT:
        return _numbers(rule, texts, column)
    if column.type.kind is Kind.TEXT and column.name not in keys:
        return _categories(rule, texts, column, existing)
    return Proposal(column.name, rule)


def _texts(source: IncomingColumn) -> list[str]:
    """The distinct cells of a column that came as text."""
    texts = [tidy(part) for part in source.parts if pa.types.is_string(part.type)]
    return sorted({text for part in texts for text in part.unique().to_pylist() if text is not None})


def _dates(rule: dict[str, Any], texts: list[str], source: IncomingColumn, column: TargetColumn) -> Proposal:
    """A format when the whole column allows only one; never a guess where two would do."""
    iso = _readable(texts, column.type)
    odd = [text for text in texts if text not in iso]
    if not odd:
        return Proposal(column.name, rule)
    fitting = [form for form in _DATE_FORMATS if all(read_date(text, (form,), Kind.DATE) for text in odd)]
    shown = ", ".join(repr(text) for text in odd[:3])
    if len(fitting) == 1:
        return Proposal(
            column.name, {**rule, "date_format": fitting[0]}, (f"Dates such as {shown} allow only this format.",)
        )
    if fitting:
        lines = [f"Dates such as {shown} can be read in several ways; the rows don't settle which. Choose one:"]
        lines += [f'{column.name} = {{ from = "{source.name}", date_format = "{form}" }}' for form in fitting]
        return Proposal(column.name, rule, tuple(lines), open=True)
    return Proposal(column.name, rule, (f"No one date format reads all of {shown} and the others.",), open=True)


def _readable(texts: list[str], to: ColumnType) -> set[str]:
    values = cast_cells([pa.array(texts, pa.string())] if texts else [], to, len(texts)).values
    return {text for text, value in zip(texts, values.to_pylist(), strict=True) if value is not None}


def _numbers(rule: dict[str, Any], texts: list[str], column: TargetColumn) -> Proposal:
    """A decimal comma, where every odd text has just one and could not be digits in groups of three."""
    odd = [text for text in texts if text not in _readable(texts, column.type)]
    commas = [text for text in odd if text.count(",") == 1 and "." not in text]
    if not commas or not _readable([text.replace(",", ".") for text in commas], column.type):
        return Proposal(column.name, rule)
    shown = ", ".join(repr(text) for text in commas[:3])
    groups = [text for text in commas if len(text.rpartition(",")[2]) == 3]  # noqa: PLR2004 - a group of digits
    if len(groups) == len(commas):
        lines = (
            f"In {shown} the comma may be a decimal mark or stand between groups of digits. Choose one:",
            f'{column.name} = {{ from = "{rule["from"]}", decimal_mark = "," }}',
            f'{column.name} = {{ from = "{rule["from"]}", grouping = "," }}',
        )
        return Proposal(column.name, rule, lines, open=True)
    return Proposal(column.name, {**rule, "decimal_mark": ","}, (f"Numbers such as {shown} have a decimal comma.",))


def _categories(rule: dict[str, Any], texts: list[str], column: TargetColumn, existing: pa.Table) -> Proposal:
    """A value map where the table has few different values and the rows spell some of them otherwise."""
    known = as_array(existing[column.name]).drop_null()
    values = known.unique().to_pylist()
    if not 1 < len(values) <= _FEW_VALUES or len(known) < 2 * len(values):
        return Proposal(column.name, rule)
    strange = [text for text in texts if text not in values]
    if not strange or len(texts) > 2 * _FEW_VALUES:
        return Proposal(column.name, rule)
    same = {text: value for text in strange for value in values if text.casefold() == value.casefold()}
    starts = {text: [value for value in values if value.casefold().startswith(text.casefold())] for text in strange}
    likely = {text: found[0] for text, found in starts.items() if len(found) == 1 and text not in same}
    left = [text for text in strange if text not in same and text not in likely]
    comments = [f"The table has: {', '.join(sorted(values))}. The rows also spell: {', '.join(strange)}."]
    if likely:
        comments.append("Is this what the short forms mean? " + ", ".join(f"{a} = {b}" for a, b in likely.items()))
    if left:
        comments.append(f"Not settled, so kept as they are: {', '.join(left)}.")
    mapped = {**same, **likely}
    if not mapped:
        return Proposal(column.name, rule, tuple(comments), open=True)
    proposed = {**rule, "values": mapped, "otherwise": "keep"}
    return Proposal(column.name, proposed, tuple(comments), open=bool(likely or left))


def _through(source: IncomingColumn, column: TargetColumn, key: ForeignKey, parents: Parents) -> Proposal | None:
    """A look-up, where the incoming values are not ids but values of a unique column of the referenced table."""
    parts = tidy_parts(source.parts)
    if not parts:
        return None
    cells = as_text(IncomingColumn(source.name, tuple(parts))).drop_null().unique()
    parent, records = parents[key.table]
    direct = cast_cells([cells], column.type, len(cells)).values
    if _share(direct, records[key.referred[0]]) >= _MOSTLY:
        return None
    for names in parent.unique:
        if len(names) == 1 and names[0] != key.referred[0]:
            sought = cast_cells([cells], parent.column(names[0]).type, len(cells)).values
            if _share(sought, records[names[0]]) >= _MOSTLY:
                find = {"in": parent.name, "where": names[0], "take": key.referred[0]}
                comment = (
                    f"{source.name} holds values of {parent.name}.{names[0]}, so {column.name} is looked up there."
                )
                return Proposal(column.name, {"from": source.name, "find": find}, (comment,))
    return None


def _share(values: pa.Array, known: pa.ChunkedArray) -> float:
    """Which share of distinct values the known ones hold."""
    found = pc.is_in(values.drop_null(), value_set=as_array(known))
    return (pc.sum(found).as_py() or 0) / max(len(values), 1)

"""Proposing how columns are fed: matched names, date formats that only one reading allows, maps, look-ups."""

import json
import re
from collections.abc import Mapping, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.infer.fits import fits
from tidymerge.core.infer.totals import named_totals, word_of
from tidymerge.core.naming.mapping import fold
from tidymerge.core.tidy.cells import as_array, by_distinct
from tidymerge.core.tidy.convert import as_text, cast_cells, tidy_arrays
from tidymerge.core.tidy.steps import read_date
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import ColumnType, Fold, ForeignKey, Incoming, IncomingColumn, Kind, TableShape, TargetColumn

_DATE_FORMATS = (
    "%d/%m/%Y", "%m/%d/%Y", "%d.%m.%Y", "%d-%m-%Y", "%m-%d-%Y", "%Y/%m/%d", "%Y%m%d", "%d/%m/%y", "%m/%d/%y",
    "%d.%m.%y", "%d %b %Y", "%d %B %Y", "%b %d, %Y", "%B %d, %Y",
)  # fmt: skip
_ISO_FORMATS = ("%Y-%m-%d", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%d %H:%M")
_NEARLY_ALL = 0.9  # the share of dates that a format must read to be proposed
_CURRENCIES = (
    "€", "$", "£", "¥", "EUR", "USD", "GBP", "CHF", "SEK", "NOK", "DKK", "PLN", "CZK", "HUF", "kr", "kr.", "zł", "Kč",
    "Fr.", "Ft",
)  # fmt: skip
_SIGNS = re.compile(r"[^\d\s.,+'-][^\d\s]*")  # what stands beside the digits of a number
_FEW_VALUES = 20  # a category has no more different values than this
_MOSTLY = 0.5  # the share of incoming values that must be found to propose a look-up


class Proposal(Struct, frozen=True):
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
    fitted = fits(incoming, shape, existing)
    taken: set[str] = set()
    found: dict[str, Proposal] = {}
    for column in shape.columns:  # names that fit come first, so that no look-up takes their columns
        fitting = [one.name for one in incoming.columns if fold(one.called or one.name) == fold(column.name)]
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
        elif column.name in fitted:
            fit = fitted[column.name]
            taken.add(fit.source)
            found[column.name] = _asked(incoming.column(fit.source), column, existing, shape.primary_key, fit.why)
    for column in shape.columns:
        key = _foreign_key(shape, column.name)
        if column.name not in found and key is not None:
            for name in _names(incoming):
                if name not in taken and (proposal := _through(incoming.column(name), column, key, parents)):
                    taken.add(name)
                    found[column.name] = proposal
                    break
    return [found.get(column.name) or _unfed(column) for column in shape.columns if column.loadable]


class Skipping(Struct, frozen=True):
    """A condition that leaves out rows which look like totals, and why it is proposed."""

    condition: str
    comment: str


def totals_skipped(incoming: Incoming, proposals: Sequence[Proposal], key: Sequence[str]) -> Skipping | None:
    """What leaves out the rows whose key is a word for a total, if there are any."""
    sources = [proposal.rule["from"] for proposal in proposals if proposal.rule and proposal.target in key]
    conditions, examples = [], []
    for name, rows in named_totals(incoming, sources).items():
        texts = tidy(as_text(incoming.column(name)))
        quoted = '"' + name.replace('"', '""') + '"'
        for word in sorted({word_of(texts[row].as_py()) for row in rows.tolist()}):
            doubled = word.replace("'", "''")
            conditions.append(f"lower({quoted}) like '{doubled}%'")
        examples += [f"row {incoming.place(row)} {texts[row].as_py()!r}" for row in rows[:2].tolist()]
    if not conditions:
        return None
    return Skipping(" or ".join(conditions), f"Rows that look like totals are left out, such as {', '.join(examples)}.")


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
        return _dates(rule, texts, column)
    if column.type.kind is Kind.DECIMAL or column.type.kind is Kind.FLOAT:
        return _numbers(rule, texts, column)
    if column.type.kind is Kind.TEXT and column.name not in keys:
        return _categories(rule, texts, column, existing)
    return Proposal(column.name, rule)


def _asked(source: IncomingColumn, column: TargetColumn, existing: pa.Table, keys: Sequence[str], why: str) -> Proposal:
    """The same for a column that is called otherwise."""
    found = _as_named(source, column, existing, keys)
    return Proposal(found.target, found.rule, (why, *found.comments), open=True)


def _texts(source: IncomingColumn) -> list[str]:
    """The distinct cells of a column that came as text."""
    texts = [tidy(array) for array in source.arrays if pa.types.is_string(array.type)]
    return sorted({text for array in texts for text in array.unique().to_pylist() if text is not None})


def _dates(rule: dict[str, Any], texts: list[str], column: TargetColumn) -> Proposal:
    """A format when (nearly) the whole column allows only one; never a guess where two would do.

    Dates in the ISO form need no format; where others stand beside them, its form is one of the formats.
    """
    iso = _readable(texts, column.type)
    odd = [text for text in texts if text not in iso]
    if not odd:
        return Proposal(column.name, rule)
    shown = ", ".join(repr(text) for text in odd[:3])
    reads = {form: [text for text in odd if read_date(text, (form,), Kind.DATE)] for form in _DATE_FORMATS}
    most = max(map(len, reads.values()))
    if most < len(odd) * _NEARLY_ALL:
        best = max(reads, key=lambda form: len(reads[form]))
        lost = [text for text in odd if text not in reads[best]]
        words = f"No one date format reads all of {shown} and the others" if most else f"No date format reads {shown}"
        nearest = f"; {best} does not read {_some(lost)}" if most else ""
        return Proposal(column.name, rule, (f"{words}{nearest}.",), open=True)
    fitting = [form for form, read in reads.items() if len(read) == most]
    beside = [form for form in _ISO_FORMATS if any(read_date(text, (form,), Kind.DATE) for text in iso)]
    formats = {form: [*beside, form] if beside else form for form in fitting}
    lost = [text for text in odd if text not in reads[fitting[0]]]
    said = []
    if lost and len(fitting) == 1:
        said.append(f"{_some(lost)} can't be read by it and will be rejected.")
    if beside and len(odd) < len(texts) / 2:
        said.append(f"Only {len(odd)} of {len(texts)} different dates are not written as 2026-05-31.")
    if len(fitting) == 1:
        only = (f"Dates such as {shown} allow only this format.", *said)
        return Proposal(column.name, {**rule, "date_format": formats[fitting[0]]}, only, open=bool(said))
    lines = [*said, f"Dates such as {shown} can be read in several ways; the rows don't settle which. Choose one:"]
    lines += [f"{column.name} = {_written({**rule, 'date_format': form})}" for form in formats.values()]
    return Proposal(column.name, rule, tuple(lines), open=True)


def _some(texts: Sequence[str]) -> str:
    more = f" and {len(texts) - 3} more" if len(texts) > 3 else ""  # noqa: PLR2004 - as many as are quickly read
    return ", ".join(repr(text) for text in texts[:3]) + more


def _written(rule: Mapping[str, Any]) -> str:
    """A rule as it stands in a job file (TOML's basic strings are JSON's)."""
    words = ", ".join(f"{name} = {json.dumps(value, ensure_ascii=False)}" for name, value in rule.items())
    return f"{{ {words} }}"


def _readable(texts: list[str], to: ColumnType) -> set[str]:
    values = cast_cells([pa.array(texts, pa.string())] if texts else [], to, len(texts)).values
    return {text for text, value in zip(texts, values.to_pylist(), strict=True) if value is not None}


def _numbers(rule: dict[str, Any], texts: list[str], column: TargetColumn) -> Proposal:
    """Percent and currency signs, and a decimal comma: each where the texts that are no numbers settle it."""
    odd = [text for text in texts if text not in _readable(texts, column.type)]
    signs = {sign for text in odd for sign in _SIGNS.findall(text)}
    comments: list[str] = []
    if signs == {"%"}:
        rule = {**rule, "percent": True}
        comments.append(
            "A percent sign means a hundredth: 12 % is loaded as 0.12. If it should be 12, replace the sign."
        )
    elif signs and signs <= set(_CURRENCIES):
        rule = {**rule, "currency": " ".join(sorted(signs))}
        comments.append(f"The sign {' or '.join(sorted(signs))} is left out. Is it all one currency?")
    elif signs:
        return Proposal(column.name, rule)
    odd = [
        text for text in (_SIGNS.sub("", text).strip() for text in odd) if text not in _readable([text], column.type)
    ]
    commas = [text for text in odd if text.count(",") == 1 and "." not in text]
    if not commas or not _readable([text.replace(",", ".") for text in commas], column.type):
        return Proposal(column.name, rule, tuple(comments), open=bool(comments))
    shown = ", ".join(repr(text) for text in commas[:3])
    groups = [text for text in commas if len(text.rpartition(",")[2]) == 3]  # noqa: PLR2004 - a group of digits
    if len(groups) == len(commas):
        lines = (
            *comments,
            f"In {shown} the comma may be a decimal mark or stand between groups of digits. Choose one:",
            f"{column.name} = {_written({**rule, 'decimal_mark': ','})}",
            f"{column.name} = {_written({**rule, 'grouping': ','})}",
        )
        return Proposal(column.name, rule, lines, open=True)
    comments.append(f"Numbers such as {shown} have a decimal comma.")
    return Proposal(column.name, {**rule, "decimal_mark": ","}, tuple(comments), open=len(comments) > 1)


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
    arrays = tidy_arrays(source.arrays)
    if not arrays:
        return None
    cells = as_text(IncomingColumn(source.name, tuple(arrays))).drop_null().unique()
    parent, records = parents[key.table]
    direct = cast_cells([cells], column.type, len(cells)).values
    if _share(direct, records[key.referred[0]]) >= _MOSTLY:
        return None
    for names in parent.unique:
        if len(names) == 1 and names[0] != key.referred[0]:
            sought = cast_cells([cells], parent.column(names[0]).type, len(cells)).values
            exactly, folded = _share(sought, records[names[0]]), 0.0
            if pa.types.is_string(sought.type) and parent.column(names[0]).fold is not Fold.ASCII_CASE:
                folded = _share(_casefolded(sought), pa.chunked_array([_casefolded(as_array(records[names[0]]))]))
            if max(exactly, folded) >= _MOSTLY:
                find: dict[str, Any] = {"in": parent.name, "where": names[0], "take": key.referred[0]}
                find |= {"fold_case": True} if folded > exactly else {}
                comment = (
                    f"{source.name} holds values of {parent.name}.{names[0]}, so {column.name} is looked up there"
                    f"{', in any letter case' if folded > exactly else ''}."
                )
                return Proposal(column.name, {"from": source.name, "find": find}, (comment,))
    return None


def _casefolded(texts: pa.Array) -> pa.Array:
    return by_distinct(texts, str.casefold, pa.string())


def _share(values: pa.Array, known: pa.ChunkedArray) -> float:
    """Which share of distinct values the known ones hold."""
    found = pc.is_in(values.drop_null(), value_set=as_array(known))
    return (pc.sum(found).as_py() or 0) / max(len(values), 1)

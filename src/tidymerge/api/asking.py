"""Asking from Python: what is in a table, how two differ, what the log knows, and a job drafted from the rows."""

from collections.abc import Mapping
from os import fspath
from pathlib import Path
from typing import TYPE_CHECKING, Unpack, overload

from tidymerge.api.options import Names, Pages, Place, Reading, checked, read_options
from tidymerge.api.shared import names, outputs, told

if TYPE_CHECKING:
    import pyarrow as pa

    from tidymerge.core.infer.spellings import Values
    from tidymerge.model.receipt import Receipt
    from tidymerge.run.look import Overview, View
    from tidymerge.run.look_structure import Compared
    from tidymerge.run.past import PastRun
    from tidymerge.run.would_hold import Verdict


@overload
def look(address: Place, **read: Unpack[Reading]) -> "Overview | View": ...
@overload
def look(address: Place, *, values: str, where: str | None = ..., **read: Unpack[Reading]) -> "Values": ...
@overload
def look(address: Place, *, would_hold: Names) -> "tuple[Verdict, ...]": ...
@overload
def look(address: Place, *, since: str) -> "Compared": ...
@overload
def look(address: Place, *, against: Place, **read: Unpack[Reading]) -> "Compared": ...


def look(
    address: Place,
    *,
    values: str | None = None,
    where: str | None = None,
    would_hold: Names = (),
    since: str | None = None,
    against: Place | None = None,
    **read: Unpack[Reading],
) -> "Overview | View | Values | tuple[Verdict, ...] | Compared":
    """What is at an address: the sheets or tables (an `Overview`), or the columns of one (a `View`).

    Or one thing about it: all `values` of a column, of rows `where` a condition holds; which records break rules that
    `would_hold`; how its structure differs `since` a run or a time, or `against` another address. Raises UsageError,
    SourceError and TargetError.
    """
    from tidymerge.run import look_structure
    from tidymerge.run.look import look as look_at
    from tidymerge.run.look import look_at_values
    from tidymerge.run.would_hold import would_hold as holds

    said = checked("look", read, Reading)
    text, options, header_row = fspath(address), read_options(said), said.get("header_row")
    if values is not None:
        return look_at_values(text, values, options, header_row, where)
    if would_hold:
        return tuple(holds(text, rule) for rule in names(would_hold))
    if since is not None:
        return look_structure.since(text, since)
    if against is not None:
        return look_structure.against(text, fspath(against), options, header_row)
    return look_at(text, options, header_row)


class CompareOptions(Reading, Pages, total=False):
    """What `compare` takes."""

    key: Names  # the columns of the first that name a record; else the key of a side that has one
    columns: Mapping[str, str] | None  # column of the first = column of the second, where the names differ
    only: Names  # the columns that are compared, beside the key
    changes: Place | None  # each field that differs: .csv, .jsonl or .parquet


def compare(first: Place, second: Place, **options: Unpack[CompareOptions]) -> "Receipt":
    """How two tables, sheets or files differ, matched by key; nothing is written to either.

    In the receipt `unchanged` are the same, `updated` differ, `inserted` are only in the second and `removed` only in
    the first; its `to_dict` says it in those words. The options are in `CompareOptions`.
    Raises UsageError, SourceError and TargetError. Source: docs/compare.md.
    """
    from tidymerge.run.compare import Comparison
    from tidymerge.run.compare import compare as side_by_side
    from tidymerge.run.views import ROWS_ON_PAGE, write_views

    said = checked("compare", options, CompareOptions)
    files = outputs(**{name: said.get(name) for name in ("changes", "page", "summary")})
    asked = Comparison(
        fspath(first), fspath(second), names(said.get("key", ())), said.get("columns") or {},
        names(said.get("only", ())), read_options(said), said.get("header_row"),
    )  # fmt: skip
    most = 0 if files.page is None else ROWS_ON_PAGE
    receipt, touched = side_by_side(asked, most, outputs=files, progress=told(said.get("progress")))
    write_views(receipt, touched, files)
    return receipt


def draft(
    incoming: Place, into: Place, *, out: Place | None = None, cells: str | None = None, **read: Unpack[Reading]
) -> str:
    """The text of a job that matches the columns and settles what the rows settle; comments say what they don't.

    It is written to the file `out`, if one is named; what stands in that stays. Raises UsageError, SourceError and
    TargetError.
    """
    from tidymerge.run.draft_file import drafted

    said = checked("draft", read, Reading)
    options = read_options({**said, "cells": cells})
    path = None if out is None else Path(out)
    return drafted(fspath(incoming), fspath(into), path, options, said.get("header_row"))["job"]


def runs(*, target: Place | None = None, since: str | None = None, state: str | None = None) -> "tuple[PastRun, ...]":
    """The runs of the log, the latest first: those into a target, since a time, of a state. Raises BadOption."""
    from tidymerge.run.past import past_runs

    return past_runs(target=None if target is None else fspath(target), since=since, state=state).runs


def receipt(run: str) -> "Receipt":
    """The receipt of a run in the log: by its name, how it begins, or `last`. Raises NoSuchRun and LogDamaged."""
    from tidymerge.errors import NoSuchRun
    from tidymerge.run.past import one_run

    (found,) = one_run(run).runs
    if found.run.receipt is None:
        raise NoSuchRun(f"The run {found.run.name} has no receipt: it {found.run.nothing_done}.", run=found.run.name)
    return found.run.receipt


def changes(run: str) -> "pa.Table":
    """What a run changed, a row for each field, all as text: outcome, row, the key columns, column, before, after.

    Of a run of several tables the first column is the table's name. Raises NoSuchRun, NotUndoable and LogDamaged.
    """
    from tidymerge.run.past import changes_of, one_run

    return changes_of(one_run(run).runs[0].run)

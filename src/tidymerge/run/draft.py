"""The flow of `draft`: read both sides, propose, and write the job file without losing what stands in it."""

import os
from pathlib import Path
from typing import Any, TypedDict

import pyarrow as pa
import tomlkit
from tomlkit.items import Table

from tidymerge.address import is_server, parse, without_password
from tidymerge.core.infer.profile import profile, table_columns
from tidymerge.core.infer.propose import Proposal, Skipping, propose, totals_skipped, unmatched_columns
from tidymerge.core.naming.header import ROWS_SEARCHED, likely_header
from tidymerge.core.naming.mapping import fold
from tidymerge.core.tidy.corrected import corrected
from tidymerge.errors import BadOption
from tidymerge.job.model import Job
from tidymerge.job.reading import parse_job
from tidymerge.job.tables import TablesJob
from tidymerge.model import Incoming, ReadOptions, TableShape
from tidymerge.ports.source import Source
from tidymerge.ports.target import Target
from tidymerge.run.ask import sibling
from tidymerge.run.gather import names_sought
from tidymerge.sources import open_source
from tidymerge.targets import open_target

_SEVERAL = 2  # records, so that they tell a key


FORMAT = "tidymerge-draft/1"


class DraftForm(TypedDict):
    """What is printed for programs: the job's text, the file, whether that was written anew, and what was said."""

    format: str
    file: str
    written: bool
    job: str
    notes: list[str]


def draft_job(
    incoming: str, into: str, path: Path, before: str | None, read: ReadOptions, header_row: int | None
) -> tuple[str, list[str]]:
    """The text of the job file and what to tell the person. `before` is the file's text if it exists.

    Raises BadJob if the existing file is none, and what opening either side raises.
    """
    job = parse_job(before, str(path)).to_job() if before is not None else None
    if isinstance(job, TablesJob):
        raise BadOption(f"{path} is a job of several tables: draft one table's job in another file.")
    header_row = header_row or (job.header_row if job else None)
    with open_target(into, write=False) as target:
        shape = target.describe()
        rows, guessed = read_rows(open_source(incoming, read), shape, job, header_row)
        existing = target.read([column for column in shape.columns if not column.foreign])
        parents = {key.table: _parent(target, key.table) for key in shape.foreign_keys if key.table}
    proposals = propose(rows, shape, existing, parents)
    document = tomlkit.parse(before) if before is not None else tomlkit.document()
    header_row = header_row or guessed
    addresses = _addresses(incoming, into, path)
    added = filled(document, addresses, rows, shape, proposals, read, header_row, told_key(shape, existing))
    text = tomlkit.dumps(document)
    parse_job(text, str(path))
    return text, _told(path, added, proposals, before is not None)


def _parent(target: Target, table: str) -> tuple[TableShape, Any]:
    return sibling(target, table)


def read_rows(
    source: Source, shape: TableShape, job: Job | None, header_row: int | None
) -> tuple[Incoming, int | None]:
    """The rows, under the row of names that a load takes too; its number, where a load could not find it by itself."""
    if header_row is not None:
        return corrected(source.read(header_row - 1 - source.above)), None
    at, guessed = likely_header(source.head(ROWS_SEARCHED), names_sought(job, shape))
    return corrected(source.read(at)), at + 1 + source.above if guessed else None


def _addresses(incoming: str, into: str, path: Path) -> tuple[str, str]:
    """Both addresses as they are written in the file: from the file's folder."""
    return tuple(written_from(text, path.parent) for text in (incoming, into))  # type: ignore[return-value]


def written_from(text: str, folder: Path) -> str:
    """An address as a file in `folder` has it."""
    if is_server(text):
        return without_password(text)
    address = parse(text)
    if address.path.is_absolute() or folder == Path():
        return text
    relative = os.path.relpath(address.path, folder)
    return f"{relative}#{address.fragment}" if address.fragment else relative


def filled(
    document: tomlkit.TOMLDocument,
    addresses: tuple[str, str],
    rows: Incoming,
    shape: TableShape,
    proposals: list[Proposal],
    read: ReadOptions,
    header_row: int | None,
    told: tuple[str, ...] = (),
) -> list[str]:
    """Add to the document what it lacks; return the target columns added. `told` is the key that the records tell."""
    fresh = "columns" not in document
    given = {"header_row": header_row, "delimiter": read.delimiter, "encoding": read.encoding, "cells": read.cells,
             "format": read.format}  # fmt: skip
    totals = totals_skipped(rows, proposals, _key(shape, proposals)) if fresh else None
    _fill_incoming(_table(document, "incoming"), {"at": addresses[0], **given}, totals)
    target = _table(document, "target")
    if "at" not in target:
        target.add("at", addresses[1])
    if "key" not in target:
        _add_key(target, _key(shape, proposals), proposals, told)
    columns = _table(document, "columns")
    known = {fold(name) for name in columns}
    added = [proposal for proposal in proposals if fold(proposal.target) not in known]
    for proposal in added:
        if proposal.rule is not None or fresh:
            for line in proposal.comments:
                columns.add(tomlkit.comment(line))
        if proposal.rule is not None:
            columns.add(proposal.target, _inline(proposal.rule))
    spare = unmatched_columns(rows, proposals)
    if spare and fresh:
        columns.add(tomlkit.comment(f"Incoming columns that feed nothing: {', '.join(spare)}"))
    return [proposal.target for proposal in added if proposal.rule is not None]


def _fill_incoming(incoming: Table, given: dict[str, Any], totals: Skipping | None) -> None:
    for name, value in given.items():
        if value is not None and name not in incoming:
            incoming.add(name, value)
    if totals is not None and "skip_when" not in incoming:
        incoming.add(tomlkit.comment(totals.comment))
        incoming.add("skip_when", totals.condition)


def told_key(shape: TableShape, existing: pa.Table) -> tuple[str, ...]:
    """The first columns that no two records share, where the target declares none."""
    if shape.primary_key or shape.unique or existing.num_rows < _SEVERAL:
        return ()
    return next((key.columns for key in profile(table_columns(existing)).keys if key.exact), ())


def _add_key(target: Table, key: tuple[str, ...], proposals: list[Proposal], told: tuple[str, ...]) -> None:
    fed = {proposal.target for proposal in proposals if proposal.rule is not None}
    if key:
        target.add("key", list(key))
    elif told and set(told) <= fed:
        target.add(tomlkit.comment(f"No two of the records have the same {' and '.join(told)}. Is it the key?"))
        target.add("key", list(told))
    else:
        target.add(tomlkit.comment("Could not settle the key: name the columns that find a record, as in"))
        columns = ", ".join(f'"{proposal.target}"' for proposal in [one for one in proposals if one.rule][:2])
        target.add(tomlkit.comment(f"key = [{columns or '…'}]"))


def _table(document: tomlkit.TOMLDocument, name: str) -> Table:
    if name not in document:
        if len(document):
            document.add(tomlkit.nl())
        document.add(name, tomlkit.table())
    found = document[name]
    assert isinstance(found, Table)  # noqa: S101 - the file was checked
    return found


def _inline(rule: dict[str, Any]) -> Any:
    """A column's rule on one line: just the name where there is nothing else to say."""
    if list(rule) == ["from"]:
        return rule["from"]
    table = tomlkit.inline_table()
    for name, value in rule.items():
        table.append(name, _inline(value) if isinstance(value, dict) else value)
    return table


def _key(shape: TableShape, proposals: list[Proposal]) -> tuple[str, ...]:
    """The primary key or a unique constraint whose columns are all fed."""
    fed = {proposal.target for proposal in proposals if proposal.rule is not None}
    return next((names for names in (shape.primary_key, *shape.unique) if names and set(names) <= fed), ())


def _told(path: Path, added: list[str], proposals: list[Proposal], existed: bool) -> list[str]:
    if existed and not added:
        return [f"{path} has all of it already; nothing was changed."]
    said = [f"{'Added to' if existed else 'Wrote'} {path}: {', '.join(added) or 'no column could be matched'}."]
    open_points = [proposal.target for proposal in proposals if proposal.open and proposal.target in added]
    unfed = [proposal.target for proposal in proposals if proposal.rule is None]
    if open_points:
        said.append(f"To look at (comments in the file say what): {', '.join(open_points)}.")
    if unfed:
        said.append(f"No incoming column fits: {', '.join(unfed)}.")
    return said

"""Gathering the incoming rows of a job: one or several addresses, the header, the choice of rows."""

import glob
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Self

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.address import STANDARD_INPUT, is_server, local, parse, without_password
from tidymerge.core.naming.header import ROWS_SEARCHED, find_header, guess_header
from tidymerge.core.naming.mapping import listing
from tidymerge.core.tidy.corrected import corrected, of_table
from tidymerge.core.tidy.fill import FillDown
from tidymerge.core.tidy.spread import spread
from tidymerge.databases import is_database
from tidymerge.errors import BadOption, NoSuchFile, NoSuchSheet, SourceChanged, about
from tidymerge.job.model import Job
from tidymerge.model import Incoming, IncomingColumn, ReadOptions, Sample, TableShape
from tidymerge.on_disk import PrivateFolder
from tidymerge.ports.source import BatchedSource, Irregular, Source, Tracking
from tidymerge.ports.target import Target
from tidymerge.run.split import Gathered
from tidymerge.settings import rows_at_once
from tidymerge.sources import open_source, shared

_WILD = set("*?[")
_ROWS = re.compile(r"([0-9]{1,18})(?:-([0-9]{1,18}))?")  # numbers that 64 bits can hold


class Gathering:
    """The incoming rows of a job, read once even if the load is started several times.

    Patterns are spelled out once, so that a file that arrives meanwhile is neither read nor noted. It keeps a private
    folder on disk, for rows that are too many for memory, until it is left. `job` is the one given, with the patterns
    spelled out. Raises SourceError.
    """

    def __init__(self, job: Job) -> None:
        self.job = replace(job, incoming=tuple(addresses(job.incoming)))
        self._seen = {text: _state(text) for text in self.job.incoming}
        self._folder = PrivateFolder()
        self._gathered: Gathered | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._gathered = None
        self._folder.remove()

    def rows(self, shape: TableShape, target: Target) -> Gathered:
        """All rows; those that live where the target does are read again, in its transaction."""
        if self._gathered is not None:
            return self._gathered
        found, is_own = gather(self.job, shape, target, self._folder.path)
        if not is_own:
            self._gathered = found
        return found

    def unchanged(self) -> None:
        """Make sure that the files are still those that were there at first. Raises SourceChanged."""
        for text, state in self._seen.items():
            if _state(text) != state:
                raise SourceChanged(f"{text} changed while it was read; nothing was written. Run this again.")


def _state(text: str) -> tuple[int, int, int] | None:
    """What tells whether a file is still the same: its place on the disk, size and time; None for what is no file."""
    if text == STANDARD_INPUT or is_server(text):
        return None
    try:
        found = parse(text).path.stat()
    except OSError:
        return None
    return (found.st_ino, found.st_size, found.st_mtime_ns) if not is_database(text) else None


def gather(job: Job, shape: TableShape, target: Target, folder: Path) -> tuple[Gathered, bool]:
    """The rows of a job, and whether any come over the target's connection. Raises SourceError and BadOption."""
    if job.header_row is not None and job.header_row < 1:
        raise BadOption("Rows count from 1, so the row of the column names is 1 or more.")
    names = names_sought(job, shape)
    least = None if job.newer is None else job.newer.least
    if job.newer is not None and least is not None:
        job = replace(job, read=replace(job.read, newer=(job.newer.column, least)))
    sources, rows, is_own = [], [], False
    for address in job.incoming:
        with about(address=without_password(address)):
            over = shared(address, job.read, target)
            is_own |= over is not None
            sources.append(open_source(address, job.read, over))
            rows.append(_header_row(job, sources[-1], names))
    if len(sources) == 1 and job.take_rows is None and not job.each:
        large = _in_batches(sources[0], rows[0], folder, job, shape.name)
        if large is not None:
            return large, is_own
    parts = []
    for address, source, row in zip(job.incoming, sources, rows, strict=True):
        with about(address=without_password(address)):
            parts.append(FillDown(job.fill_down).fill(_ours(source.read(row), shape.name, job)))
    found = chosen(parts[0] if len(parts) == 1 else together(parts), job.take_rows)
    told = zip(job.incoming, sources, strict=True)
    onward = {without_password(text): one.onward for text, one in told if isinstance(one, Tracking) and one.onward}
    return replace(Gathered.all(spread(found, job.each)), onward=onward), is_own


def _ours(incoming: Incoming, table: str, job: Job) -> Incoming:
    """The rows without what we wrote into their file, under their own name; of several tables' rejects, this one's."""
    name = job.name_of(incoming.address)
    return corrected(of_table(incoming if name == incoming.address else replace(incoming, address=name), table))


def names_sought(job: Job | None, shape: TableShape) -> set[str]:
    """What the row of column names is found by: the target's names, and those that the job gives the incoming ones."""
    names = {column.name for column in shape.columns}
    if job is not None:
        names |= {*job.renames.values(), *(source for rule in job.columns.values() for source in rule.sources)}
    return names


def _in_batches(source: Source, header_row: int, folder: Path, job: Job, table: str) -> Gathered | None:
    """Many rows that can be read some at a time; None if they are few or only can be read together."""
    if not isinstance(source, BatchedSource) or source.rows_expected <= 2 * rows_at_once():
        return None
    try:
        first = FillDown(job.fill_down).fill(_ours(source.sample(header_row), table, job))
    except Irregular:
        return None

    def batches() -> Iterator[Incoming]:
        filling = FillDown(job.fill_down)  # which goes on from batch to batch
        return (filling.fill(_ours(batch, table, job)) for batch in source.batches(header_row))

    def rows() -> Incoming:
        return FillDown(job.fill_down).fill(_ours(source.read(header_row), table, job))

    return Gathered(Sample(first), rows, source.rows_expected, batches, folder)


def together(parts: Sequence[Incoming]) -> Incoming:
    """The rows of several addresses one after another, by column name; a column that one lacks is blank there."""
    lengths = [len(part.row_numbers) for part in parts]
    starts = np.cumsum([0, *lengths[:-1]])
    called = {column.name: column.called for part in parts for column in part.columns}
    return Incoming(
        address=", ".join(part.address for part in parts),
        columns=tuple(IncomingColumn(name, _stacked(name, parts, lengths), said) for name, said in called.items()),
        row_numbers=np.concatenate([part.row_numbers for part in parts]),
        header_row=parts[0].header_row,
        flaws=tuple(
            replace(flaw, rows=flaw.rows + start)
            for part, start in zip(parts, starts, strict=True)
            for flaw in part.flaws
        ),
        notes=tuple(dict.fromkeys(note for part in parts for note in part.notes)),
        origins=tuple(part.address for part in parts),
        origin=np.repeat(np.arange(len(parts)), lengths),
        merged={name: at for part in reversed(parts) for name, at in part.merged.items()},
        uncalculated=dict(sum((Counter(part.uncalculated) for part in parts), Counter())),
        assumed=next((part.assumed for part in parts if part.assumed), None),
        corrected=any(part.corrected for part in parts),
    )


def _stacked(name: str, parts: Sequence[Incoming], lengths: Sequence[int]) -> tuple[pa.Array, ...]:
    """One column of all parts, one array for each type that occurs in any of them."""
    found = [_parts_of(part, name) for part in parts]
    kinds = list(dict.fromkeys(array.type for arrays in found for array in arrays))
    return tuple(
        pa.concat_arrays(
            [
                next((array for array in arrays if array.type == kind), pa.nulls(length, kind))
                for arrays, length in zip(found, lengths, strict=True)
            ]
        )
        for kind in kinds
    )


def _parts_of(part: Incoming, name: str) -> tuple[pa.Array, ...]:
    fitting = [column for column in part.columns if column.name == name]
    return fitting[0].arrays if fitting else ()


def _header_row(job: Job, source: Source, names: set[str]) -> int:
    """Where the header stands, 0 for the first row of the source's head."""
    if job.header_row is not None:
        return job.header_row - 1 - source.above
    if job.create and not names:
        return guess_header(source.head(ROWS_SEARCHED))
    return find_header(source.head(ROWS_SEARCHED), names)


def addresses(given: Sequence[str]) -> list[str]:
    """The addresses with patterns such as week*.xlsx#Inspections spelled out, week2 before week10."""
    found: list[str] = []
    for text in map(local, given):
        if is_server(text):
            found.append(text)
            continue
        name, mark, part = text.partition("#")
        files = [name]
        if text != STANDARD_INPUT and set(name) & _WILD and not Path(name).exists() and not Path(text).exists():
            files = sorted(glob.glob(name), key=_natural)  # noqa: PTH207 - the pattern may be absolute
            if not files:
                raise NoSuchFile(f"No file fits the pattern {name}.")
        for file in files:
            found += _sheets(file, part) if set(part) & _WILD else [f"{file}{mark}{part}"]
    return found


def _natural(name: str) -> list[tuple[int, str]]:
    """What sorts names as people do: numbers in them by their size."""
    return [(int(piece), "") if piece.isdecimal() else (-1, piece) for piece in re.split(r"([0-9]+)", name)]


def _sheets(file: str, pattern: str) -> list[str]:
    """The sheets of a workbook that fit a pattern such as Week*, in the workbook's order."""
    names = [name for name, *_ in open_source(file, ReadOptions()).sheets()]
    fitting = [name for name in names if name == pattern] or [name for name in names if fnmatchcase(name, pattern)]
    if not fitting:
        raise NoSuchSheet(
            f"No sheet of {file} fits {pattern!r}; it has {listing(names)}.", sheet=pattern, known=tuple(names)
        )
    return [f"{file}#{name}" for name in fitting]


def chosen(incoming: Incoming, rows: str | None) -> Incoming:
    """Only the rows asked for, as in 3,7-12, by the numbers that the person sees. Raises BadOption."""
    if rows is None:
        return incoming
    keep = np.zeros(len(incoming.row_numbers), bool)
    for piece in rows.split(","):
        found = _ROWS.fullmatch(piece.strip())
        if found is None:
            raise BadOption(f"Rows are chosen by numbers and ranges, as in 3,7-12, not {rows!r}.")
        low, high = int(found[1]), int(found[2] or found[1])
        if not 1 <= low <= high:
            raise BadOption(f"Rows count from 1 and a range goes up, as in 3,7-12, not {piece.strip()!r}.")
        keep |= (incoming.row_numbers >= low) & (incoming.row_numbers <= high)
    place = np.cumsum(keep) - 1
    flaws = []
    for flaw in incoming.flaws:
        stays = keep[flaw.rows]
        values = None if flaw.values is None else flaw.values.filter(pa.array(stays))
        flaws.append(replace(flaw, rows=place[flaw.rows[stays]], values=values))
    mask = pa.array(keep)
    origin = None if incoming.origin is None else incoming.origin[keep]
    columns = tuple(
        replace(column, arrays=tuple(part.filter(mask) for part in column.arrays)) for column in incoming.columns
    )
    numbers = incoming.row_numbers[keep]
    return replace(incoming, columns=columns, row_numbers=numbers, flaws=tuple(flaws), origin=origin)

"""The structure of a table against what it was, or against another table or sheet. One flow of `look`."""

from contextlib import suppress
from datetime import UTC, datetime

from msgspec import Struct

from tidymerge.address import parse, reopened, same_table, without_password
from tidymerge.core.infer.profile import ColumnProfile
from tidymerge.core.infer.structure import Difference, differences, structure_of
from tidymerge.core.words import counted
from tidymerge.databases import is_database
from tidymerge.errors import BadOption, LogDamaged, NoSuchRun
from tidymerge.history.folder import LATEST, FolderLog
from tidymerge.model import Kind, ReadOptions
from tidymerge.model.run import Run
from tidymerge.model.structure import StoredColumn, Structure
from tidymerge.run.look import Overview, look
from tidymerge.run.past import time_of
from tidymerge.targets import open_target

FORMAT = "tidymerge-structure/1"


class Compared(Struct, frozen=True):
    """Two tables, or one at two times: `before` and `after` say which, in words, with their rows where known."""

    before: str
    after: str
    rows_before: int | None
    rows_after: int
    columns: int
    differences: tuple[Difference, ...]
    at_times: bool = False


def against(one: str, other: str, options: ReadOptions, header_row: int | None = None) -> Compared:
    """How `one` differs from `other`: tables, files or sheets. Raises what looking at them raises."""
    (old, before), (new, after) = (_structure_at(text, options, header_row) for text in (other, one))
    there, here = without_password(other), without_password(one)
    return Compared(there, here, before, after, len(new.columns), differences(old, new))


def since(text: str, when: str) -> Compared:
    """How a table differs from what it was after a run, or after the last one before a time.

    Raises NoSuchRun where no run into the table tells, and BadOption.
    """
    address, shown = reopened(text), without_password(text)
    now, rows = _structure_at(text, ReadOptions(), None)
    run = _run_at(FolderLog(), address, when)
    if run.structure is None:
        raise NoSuchRun(f"The run {run.name} did not keep the structure of {shown}.", run=run.name)
    said = f"the end of the run {run.name} of {run.started:%Y-%m-%d %H:%M}"
    then = None if run.receipt is None else run.receipt.tables[0].rows_after
    return Compared(said, shown, then, rows, len(now.columns), differences(run.structure, now), at_times=True)


def _run_at(log: FolderLog, address: str, when: str) -> Run:
    """The run that is named so, or the last one into the table, or the last before that time."""
    if when != LATEST:
        with suppress(NoSuchRun):
            named = log.find(when)
            own = next((own for own in named.each if same_table(own.target, address)), None)
            if own is None:
                raise BadOption(f"The run {named.name} was not into {address}, but into {named.target}.")
            return own
    first: Run | None = None
    until = datetime.now(UTC) if when == LATEST else time_of(when)
    for name in log.names():
        with suppress(LogDamaged):
            run = log.read(name)
            for own in run.each if run.settled else ():
                if same_table(own.target, address) and own.structure is not None:
                    first = own
                    if run.started <= until:
                        return own
    kept = "" if first is None else f"; the first that did is {first.name} of {first.started:%Y-%m-%d %H:%M}"
    raise NoSuchRun(f"No run into {address} before {until:%Y-%m-%d %H:%M} kept its structure{kept}.", run=when)


def _structure_at(text: str, options: ReadOptions, header_row: int | None) -> tuple[Structure, int]:
    """What is at an address, and how many rows. Raises BadOption where it is not one table."""
    if is_database(text) and parse(text).fragment is not None:
        with open_target(text, write=False) as target:
            return structure_of(target.describe()), target.count()
    found = look(text, options, header_row)
    if isinstance(found, Overview):
        kind, name = counted(len(found.tables), found.kind), without_password(text)
        some = f": name one of them, as in {name}#{found.tables[0][0]}" if found.tables else ""
        raise BadOption(f"{name} has {kind}{some}.")
    columns = found.profile.columns
    known = tuple(_told(one) for one in columns)
    return Structure(known, told=True), columns[0].rows if columns else 0


def _told(column: ColumnProfile) -> StoredColumn:
    """A column, of the type that its values look like; of which one is not known if all are blank."""
    if column.kind == "blank":
        return StoredColumn(column.name)
    known = {"number": Kind.DECIMAL, **{kind.value: kind for kind in Kind}}
    return StoredColumn(column.name, column.kind, known.get(column.kind, Kind.TEXT).value)

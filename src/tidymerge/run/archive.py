"""Records that go are copied to another table first: what is copied, and what the archive has already."""

from collections.abc import Mapping, Sequence
from datetime import datetime

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.account import account
from tidymerge.core.decide.columns import constant
from tidymerge.core.decide.rows import flawed, key_text
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.core.naming.mapping import target_name
from tidymerge.core.tidy.cells import as_array, differs
from tidymerge.core.undo.reverse import unmarked_table
from tidymerge.errors import BadOption
from tidymerge.model import Flaw, Incoming, NewColumn, Pair, Pairing, Reason, Sample, TableShape
from tidymerge.model.changes import ChangeSet, Inserts, Matches, Outcome, Removals, Updates
from tidymerge.model.rules import ColumnRule
from tidymerge.ports.target import Related, Target
from tidymerge.run.ask import equal_texts
from tidymerge.run.create import table_in_sql
from tidymerge.run.decided import Beside, Decided, Part
from tidymerge.run.settle import Staged, settle

_TIME = "timestamp"


class Archive(Struct, frozen=True):
    """A table that takes records of another one, and its shape; columns to be `stamped` with the time of the run."""

    target: Target
    shape: TableShape
    made: tuple[NewColumn, ...]
    stamped: tuple[str, ...]

    @property
    def note(self) -> str:
        """What is made, for people."""
        return f"New table: {table_in_sql(self.shape.name, self.made, self.shape.primary_key)}."


def opened_archives(
    named: Mapping[str, str],
    target: Target,
    shape: TableShape,
    key: Sequence[str],
    stamps: Sequence[str],
    *,
    create: bool,
) -> dict[str, Archive]:
    """The archives by the tables whose records they take; an empty name stands for the target. Raises BadOption.

    They are opened, or made with `create`, before anything is read: MariaDB begins anew after a table was made.
    """
    if named and not isinstance(target, Related):
        raise BadOption("An archive is a table of the same database: here is none beside it. It may be a new file.")
    found = {}
    for table, name in named.items():
        assert isinstance(target, Related)  # noqa: S101 - see above
        source = target if table in ("", shape.name) else target.beside(table)
        own = shape if source is target else source.describe()
        archive = target.beside(name, create=create)
        if create:
            known = key if source is target else own.primary_key
            made = _columns(source, own, stamps)
            found[own.name] = Archive(archive, archive.create(made, known), made, tuple(stamps))
        else:
            there = archive.describe()
            stamped = tuple(target_name(there, stamp) for stamp in stamps)
            _check_fits(own, there, stamped)
            found[own.name] = Archive(archive, there, (), stamped)
    names = [one.shape.name for one in found.values()]
    if len(set(names)) < len(names):
        raise BadOption(f"Each archive takes the records of one table: {max(names, key=names.count)} is named twice.")
    return found


def check_apart(removed: Sequence[Decided], archives: Mapping[str, Archive]) -> None:
    """Raise BadOption where records go from a table that is an archive of the same run."""
    going = {one.shape.name for one in removed}
    for table, archive in archives.items():
        if archive.shape.name in going:
            raise BadOption(f"Records of {archive.shape.name} go, so it can't be the archive of {table}.")


def _columns(source: Target, shape: TableShape, stamps: Sequence[str]) -> tuple[NewColumn, ...]:
    """The columns of an archive that is made: those of the table, as it declares them, and stamps."""
    columns = [column for column in shape.columns if not column.generated]
    known = source.definitions([column.name for column in columns])
    kept = [replace(one, required=not column.nullable) for one, column in zip(known, columns, strict=True)]
    return (*kept, *(NewColumn(stamp, _TIME) for stamp in stamps))


def _check_fits(shape: TableShape, archive: TableShape, stamped: Sequence[str]) -> None:
    """Raise BadOption where the archive lacks a column, or wants a value that no record has."""
    there = {column.name for column in archive.columns if not column.generated}
    lacking = [column.name for column in shape.columns if not column.generated and column.name not in there]
    if lacking:
        raise BadOption(f"{archive.name} can't take the records of {shape.name}: it has no column {lacking[0]}.")
    known = {*(column.name for column in shape.columns), *stamped}
    for column in archive.columns:
        if column.name not in known and not (column.nullable or column.has_default or column.generated):
            raise BadOption(
                f"{archive.name} can't take the records of {shape.name}: its column {column.name} may not be empty, "
                "and they have none of that name. It can be stamped, if it holds a time."
            )


def decide_archive(removed: Decided, archive: Archive, now: datetime) -> Beside:
    """Stage copies of the records that go. What is there already, with the same values, is not copied again."""
    target, (part,) = archive.target, removed.parts
    held = part.changes.removals.before
    key = removed.pairing.key
    pairing = _pairing(archive, held.column_names, key)
    keys = held.select(list(key))
    key_columns = pairing.key_columns
    existing = target.fetch([pair.target for pair in pairing.pairs], key_columns, keys)
    equal = by_number(equal_texts(target, key_columns, texts_to_tell([keys, existing.values], key_columns)))
    matches = match(code_keys(keys, existing.values, key_columns, equal))
    flaws = _differing(held, existing.values, matches, removed.pairing.key, target)
    bad = flawed(flaws, held.num_rows)
    fresh = np.flatnonzero((matches.times == 0) & ~bad)
    outcomes = np.full(held.num_rows, Outcome.UNCHANGED, np.uint8)
    outcomes[fresh], outcomes[bad] = Outcome.INSERTED, Outcome.REJECTED
    after = held.take(pa.array(fresh))
    for name in archive.stamped:
        (pair,) = (pair for pair in pairing.pairs if pair.target.name == name)
        zone = "+00:00" if pair.target.type.zone else ""
        stamp = constant(f"{now:%Y-%m-%d %H:%M:%S}{zone}", pair, "the stamp")
        after = after.append_column(name, pa.repeat(stamp, len(fresh)))
    after = after.select([pair.target.name for pair in pairing.pairs])
    none = after.slice(0, 0)
    changes = ChangeSet(
        outcomes,
        tuple(flaws),
        key,
        Updates(before=none, after=none),
        Inserts(fresh, np.arange(len(fresh)), after, {name: np.ones(len(fresh), bool) for name in after.column_names}),
        Removals(before=none),
        stamps=archive.stamped,
    )
    refusals = target.stage(changes, existing, pairing)
    readable = target.readable(keys)
    names = key_text(unmarked_table(readable) if target.marks_text else readable, key)
    rows = Incoming(removed.target, (), np.zeros(held.num_rows, np.int64), 0, records=names)
    ((settled,),) = settle([Staged(target, [Part(lambda: rows, changes, held.num_rows)], refusals, pairing)])
    return Beside(target, _decided(settled, archive, pairing, rows))


def _pairing(archive: Archive, names: Sequence[str], key: tuple[str, ...]) -> Pairing:
    """The columns of the archive: those of the records as exact text, and stamps by their type."""
    pairs = [
        Pair(column if column.name in archive.stamped else column.as_stored(), column.name, ColumnRule((column.name,)))
        for column in archive.shape.columns
        if column.name in (*names, *archive.stamped)
    ]
    return Pairing(tuple(pairs), key, (), ())


def _differing(held: pa.Table, there: pa.Table, matches: Matches, key: Sequence[str], target: Target) -> list[Flaw]:
    """The records of whose key the archive has another one."""
    times = matches.times
    at = pa.array(matches.record, mask=times == 0)
    flaws = []
    for name in held.column_names:
        now = as_array(there[name].take(at))
        rows = np.flatnonzero((times == 1) & differs(as_array(held[name]), now))
        if len(rows):
            wanted = f"no other record of that {' + '.join(key)} in the archive"
            found = target.readable(pa.table({name: now.take(pa.array(rows))}))
            values = as_array((unmarked_table(found) if target.marks_text else found)[name])
            flaws.append(Flaw(Reason.ALREADY_THERE, rows, wanted, name, values))
    several = np.flatnonzero(times > 1)
    if len(several):
        flaws.append(Flaw(Reason.SEVERAL_RECORDS, several, "one record of that key in the archive"))
    return flaws


def _decided(part: Part, archive: Archive, pairing: Pairing, rows: Incoming) -> Decided:
    target, tally = archive.target, account.tally([part.changes])
    account.prove_tally(tally, part.changes, part.read)

    def readable(changes: ChangeSet) -> ChangeSet:
        if not target.marks_text:
            return changes
        texts = {name: unmarked_table(pa.table({name: column})) for name, column in _texts(changes.inserts.after)}
        after = changes.inserts.after
        for name, table in texts.items():
            after = after.set_column(after.column_names.index(name), name, table[name])
        return replace(changes, inserts=replace(changes.inserts, after=after))

    return Decided(
        target=target.address,
        sample=Sample(rows),
        shape=archive.shape,
        pairing=pairing,
        rows_before=target.count(),
        parts=(part,),
        tally=tally,
        fingerprint=account.fingerprint([part.changes]),
        warnings=(),
        notes=(),
        view=(),
        shown=readable,
        added=archive.made,
        made=bool(archive.made),
    )


def _texts(table: pa.Table) -> list[tuple[str, pa.ChunkedArray]]:
    return [(name, table[name]) for name in table.column_names if pa.types.is_string(table[name].type)]

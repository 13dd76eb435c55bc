"""The decided changes of a load as an SQL script, to be read by who looks after the database; it is never what is run.

Source: ISO SQL, which quotes names with double quotes and texts with single ones.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

import pyarrow as pa

from tidymerge.core.tidy.cells import as_array, shown
from tidymerge.errors import BadOption
from tidymerge.model import Kind, TargetColumn
from tidymerge.model.changes import ChangeSet
from tidymerge.on_disk import replacing
from tidymerge.reports.ours import SCRIPT

_HEAD = """{signed}
-- What a load of {rows}
-- into {target} would change: {counts}. Fingerprint {mark}.
--
-- This is for reading. It is not what will be run: the load writes with bound values, in one transaction, locks the
-- records, tests the constraints, proves what it wrote, and keeps the earlier values for an undo. It asks again whether
-- the records still hold what stands here. A script like this one does none of that.
"""
_NUMBERS = {Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT}
_PREFIX = {Kind.DATE: "DATE ", Kind.TIME: "TIME ", Kind.TIMESTAMP: "TIMESTAMP "}
Script = tuple[str, Sequence[TargetColumn], Sequence[ChangeSet]]  # a table's name, its columns, and its changes


def write_script(tables: Iterable[Script], about: Mapping[str, str], path: Path) -> None:
    """Write the file; `about` fills its head: rows, target, counts, mark. Raises BadOption."""
    said = {name: " ".join(text.split()) for name, text in about.items()}
    try:
        with replacing(path) as draft, draft.open("w", encoding="utf-8") as file:
            file.write(_HEAD.format(signed=SCRIPT, **said))
            for name, columns, parts in tables:
                by_name = {column.name: column for column in columns}
                for changes in parts:
                    file.writelines(f"{line}\n" for line in _statements(name, by_name, changes))
    except OSError as error:
        raise BadOption(f"The script can't be written to {path}: {error.strerror or error}.") from None


def _statements(table: str, columns: Mapping[str, TargetColumn], changes: ChangeSet) -> Iterator[str]:
    place = ".".join(map(_quoted, table.split(".")))
    updates, inserts, removals = changes.updates, changes.inserts, changes.removals
    if changes.shared_keys and len(updates):
        yield "-- Several records may have one of these keys: of those the load changes the one that fits best."
    before, after = _literals(updates.before, columns), _literals(updates.after, columns)
    for at in range(len(updates)):
        names = [name for name in updates.columns if updates.changed[name][at]]
        sets = ", ".join(f"{_quoted(name)} = {after[name][at]}" for name in names)
        was = " ".join(", ".join(before[name][at] for name in names).split())  # a comment ends with its line
        yield f"UPDATE {place} SET {sets} WHERE {_condition(before, changes.key, at)};  -- was {was}"
    new = _literals(inserts.after, columns)
    for at in range(len(inserts)):
        names = [name for name in new if name not in inserts.given or inserts.given[name][at]]
        values = ", ".join(new[name][at] for name in names)
        yield f"INSERT INTO {place} ({', '.join(map(_quoted, names))}) VALUES ({values});"
    gone = _literals(removals.named_by(changes.key), columns) if len(removals) else {}
    for at in range(len(removals)):
        yield f"DELETE FROM {place} WHERE {_condition(gone, changes.key, at)};"


def _condition(values: Mapping[str, Sequence[str]], key: Sequence[str], at: int) -> str:
    return " AND ".join(f"{_quoted(name)} = {values[name][at]}" for name in key)


def _literals(values: pa.Table, columns: Mapping[str, TargetColumn]) -> dict[str, list[str]]:
    """The values of each column as SQL writes them."""
    return {
        name: [_literal(text, columns[name].type.kind) for text in shown(as_array(values[name])).to_pylist()]
        for name in values.column_names
    }


def _literal(text: str | None, kind: Kind) -> str:
    if text is None:
        return "NULL"
    if kind is Kind.BOOLEAN:
        return text.upper()
    if kind is Kind.BINARY:
        return f"X'{text}'"
    quoted = "'" + text.replace("'", "''") + "'"
    if kind in _NUMBERS and not _is_number(text):  # an id that the database will give
        return f"/* the id of {text.replace('*/', '* /')} */"
    if kind in _NUMBERS:
        return text
    return f"{_PREFIX.get(kind, '')}{quoted}"


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return text[-1].isdigit()


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'

"""A SQLite connection that speaks Arrow. The only place that knows the driver and its errors.

Everything goes through the one SQLite library inside the Arrow driver. A second copy in the same
process (the standard library's) would drop this one's file locks when it closes the file: see
https://www.sqlite.org/howtocorrupt.html, "Multiple copies of SQLite linked into the same application".
"""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote

import adbc_driver_manager as adbc
import adbc_driver_sqlite
import pyarrow as pa

from tidymerge.errors import (
    NoSuchFile,
    TargetError,
    TargetFull,
    TargetLocked,
    TargetReadOnly,
    TargetUnreadable,
    WriteRefused,
)
from tidymerge.targets.sql.database import ConstraintBroken

LOCK_WAIT_SECONDS = 5
# One batch for a whole result: the driver then settles each column's type by all of its rows.
_ALL_ROWS = {"adbc.sqlite.query.batch_rows": str(10**9)}


class Session:
    """One connection, in one transaction from start to end. `path` must exist."""

    def __init__(self, path: Path, *, write: bool) -> None:
        self.path = path
        if not path.is_file():
            raise NoSuchFile(f"There is no database file {path}." + (" It is a folder." if path.is_dir() else ""))
        with self._translated():
            mode = "rw" if write else "ro"
            self._database = adbc_driver_sqlite.connect(f"file:{quote(str(path.absolute()))}?mode={mode}")
            try:
                self._connection = adbc.AdbcConnection(self._database)
            except BaseException:
                self._database.close()
                raise
        try:
            self.run(f"PRAGMA busy_timeout = {LOCK_WAIT_SECONDS * 1000}")
            self.run("PRAGMA foreign_keys = ON")
            self.run("PRAGMA temp_store = MEMORY")
            with self._translated():
                self._connection.set_autocommit(False)
            self.rows("SELECT count(*) FROM sqlite_schema")  # reads the file: not a database is found here
        except BaseException:
            self.close()
            raise

    def table(self, sql: str, values: Sequence[Any] = ()) -> pa.Table:
        """The rows of a query as columns."""
        with self._translated(), adbc.AdbcStatement(self._connection) as statement:
            statement.set_options(**_ALL_ROWS)
            self._prepare(statement, sql, values)
            stream, _ = statement.execute_query()
            return pa.RecordBatchReader._import_from_c(stream.address).read_all()  # noqa: SLF001 - Arrow's C bridge

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[dict[str, Any]]:
        """The rows of a small query."""
        found: list[dict[str, Any]] = self.table(sql, values).to_pylist()
        return found

    def run(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run a statement that returns no rows."""
        with self._translated(), adbc.AdbcStatement(self._connection) as statement:
            self._prepare(statement, sql, values)
            statement.execute_update()

    def change(self, sql: str, values: Sequence[Any] = ()) -> int:
        """Run a statement and return how many rows it changed (triggers' changes not counted)."""
        self.run(sql, values)
        changed: int = self.rows("SELECT changes() AS n")[0]["n"]
        return changed

    def fill(self, temporary_table: str, data: pa.Table) -> None:
        """Append rows to a temporary table."""
        with self._translated(), adbc.AdbcStatement(self._connection) as statement:
            statement.set_options(
                **{
                    "adbc.ingest.target_table": temporary_table,
                    "adbc.ingest.mode": "adbc.ingest.mode.append",
                    "adbc.ingest.temporary": "true",
                }
            )
            statement.bind_stream(data.to_reader())
            statement.execute_update()

    def commit(self) -> None:
        """Commit the transaction."""
        with self._translated():
            self._connection.commit()

    def close(self) -> None:
        """Roll back whatever was not committed, and close."""
        self._connection.close()
        self._database.close()

    @staticmethod
    def _prepare(statement: adbc.AdbcStatement, sql: str, values: Sequence[Any]) -> None:
        statement.set_sql_query(sql)
        if values:
            names = [str(index) for index in range(len(values))]
            statement.bind(pa.record_batch([pa.array([value]) for value in values], names))

    @contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except adbc.Error as error:
            raise translated(error, self.path) from error
        except OSError as error:  # Arrow's own, while a result streams in
            raise translated(error, self.path) from error


def translated(error: Exception, path: Path) -> TargetError:
    """The driver's error in our words. The source of the texts is SQLite's list of result codes."""
    said = str(error)
    message = said.split(": ", 1)[-1].removeprefix("Failed to step query: ").removeprefix("[SQLite] ").strip()
    if isinstance(error, adbc.IntegrityError) or "constraint failed" in said:
        return ConstraintBroken(message)
    for needle, kind, words in _TRANSLATIONS:
        if needle in said:
            return kind(words.format(path=path, message=message))
    return WriteRefused(f"The database {path} refused: {message}.")


_LOCKED = (
    f"Another program holds {{path}} locked, also after {LOCK_WAIT_SECONDS} seconds of waiting. "
    "Close it or wait for it, then run this again."
)
_READ_ONLY = "{path} may not be written. Check the permissions of the file and of its folder."
_NOT_OPENED = "{path} can't be opened as asked. Check the permissions of the file and of its folder."
_FULL = "There is no room left to write {path}; it is as it was. Make room, then run this again."
_INPUT_OUTPUT = "{path} can't be written ({message}); it is as it was. Is the disk full or gone?"
_DAMAGED = "{path} is damaged: {message}. Restore it from a copy before loading into it."
_TRANSLATIONS: tuple[tuple[str, type[TargetError], str], ...] = (
    ("is locked", TargetLocked, _LOCKED),
    ("readonly", TargetReadOnly, _READ_ONLY),
    ("read-only", TargetReadOnly, _READ_ONLY),
    ("unable to open", TargetReadOnly, _NOT_OPENED),
    ("failed to open", TargetReadOnly, _NOT_OPENED),
    ("full", TargetFull, _FULL),
    ("disk I/O error", TargetFull, _INPUT_OUTPUT),
    ("not a database", TargetUnreadable, "{path} is not a SQLite database (or is encrypted)."),
    ("malformed", TargetUnreadable, _DAMAGED),
    ("no such collation", TargetUnreadable, "{path} uses a collation of another program's own: {message}."),
)

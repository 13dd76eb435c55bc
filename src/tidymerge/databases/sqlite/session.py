"""A SQLite connection that speaks Arrow. The only place that knows the driver and its errors.

Everything goes through the one SQLite library inside the Arrow driver. A second copy in the same
process (the standard library's) would drop this one's file locks when it closes the file: see
https://www.sqlite.org/howtocorrupt.html, "Multiple copies of SQLite linked into the same application".
"""

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote

import adbc_driver_manager as adbc
import adbc_driver_sqlite
import pyarrow as pa

from tidymerge.databases.contract.database import ConstraintBroken
from tidymerge.errors import (
    NoSuchFile,
    TargetError,
    TargetFull,
    TargetLocked,
    TargetReadOnly,
    TargetUnreadable,
    WriteRefused,
)
from tidymerge.settings import lock_wait

_BATCH_ROWS = "adbc.sqlite.query.batch_rows"
_CELLS = 1 << 22  # of a result at first; the driver takes 8 bytes of address space for each at once
_ROWS = (1 << 8, 1 << 16)  # the fewest and the most rows of a result at first


class Session:
    """One connection, in one transaction from start to end. `path` must exist, unless it is `new`.

    A new file is made as a `draft`, for people still `path`; one that is only to be read is one in memory.
    """

    def __init__(self, path: Path, *, write: bool, new: bool = False, draft: Path | None = None) -> None:
        self.path = path
        if not new and not path.is_file():
            raise NoSuchFile(f"There is no database file {path}." + (" It is a folder." if path.is_dir() else ""))
        with self._translated():
            mode = ("rwc" if write else "memory") if new else "rw" if write else "ro"
            self._database = adbc_driver_sqlite.connect(f"file:{quote(str((draft or path).absolute()))}?mode={mode}")
            try:
                self._connection = adbc.AdbcConnection(self._database)
            except BaseException:
                self._database.close()
                raise
        try:
            self.run(f"PRAGMA busy_timeout = {lock_wait() * 1000}")
            self.run("PRAGMA foreign_keys = ON")
            self.run("PRAGMA temp_store = MEMORY")
            # The write lock is taken at once: one that only read would not be let wait for it later on.
            self.run("BEGIN IMMEDIATE" if write else "BEGIN")
            self.rows("SELECT count(*) FROM sqlite_schema")  # reads the file: not a database is found here
        except BaseException:
            self.close()
            raise

    def table(self, sql: str, values: Sequence[Any] = (), *, width: int = 16, about: int = 0) -> pa.Table:
        """The rows of a query, of about `width` columns, and most likely no more than `about` rows.

        The driver settles each column's type by the first batch of rows, so there must be only one: where it turns out
        too small, the rows are counted. A batch takes memory by its size, whatever is in it.
        """
        fewest, most = _ROWS
        found = self._one_batch(sql, values, about + 1 if about else min(max(_CELLS // width, fewest), most))
        if found is None:
            count = self._one_batch(f"SELECT count(*) AS n FROM ({sql})", values, 1)
            found = self._one_batch(sql, values, count["n"][0].as_py() if count is not None else most)
        assert found is not None  # noqa: S101 - the rows stay the same within the transaction
        return found

    def _one_batch(self, sql: str, values: Sequence[Any], rows: int) -> pa.Table | None:
        """The rows of a query if they are no more than so many, else None."""
        with self._translated(), adbc.AdbcStatement(self._connection) as statement:
            statement.set_options(**{_BATCH_ROWS: str(rows)})
            self._prepare(statement, sql, values)
            stream, _ = statement.execute_query()
            with pa.RecordBatchReader._import_from_c(stream.address) as reader:  # noqa: SLF001 - Arrow's C bridge
                first = next(reader, None)
                if first is not None and len(first) == rows and _goes_on(reader):
                    return None
                return pa.Table.from_batches([] if first is None else [first], reader.schema)

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[dict[str, Any]]:
        """The rows of a small query."""
        found: list[dict[str, Any]] = self.table(sql, values, width=_CELLS).to_pylist()
        return found

    def run(self, sql: str, values: Sequence[Any] = ()) -> int:
        """Run a statement that returns no rows; how many it changed, or -1 if the driver does not say."""
        with self._translated(), adbc.AdbcStatement(self._connection) as statement:
            self._prepare(statement, sql, values)
            changed: int = statement.execute_update()
            return changed

    def change(self, sql: str, values: Sequence[Any] = ()) -> int:
        """Run a statement and return how many rows it changed (triggers' changes not counted)."""
        changed = self.run(sql, values)
        return changed if changed >= 0 else int(self.rows("SELECT changes() AS n")[0]["n"])

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
        self.run("COMMIT")

    def break_off(self) -> None:
        """Nothing is left to do: the library reads to its end."""

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


def _goes_on(reader: pa.RecordBatchReader) -> bool:
    """Whether there is another batch; one that does not fit the types of the first is one too."""
    try:
        return next(reader, None) is not None
    except OSError:
        return True


def translated(error: Exception, path: Path) -> TargetError:
    """The driver's error in our words. The source of the texts is SQLite's list of result codes.

    The driver gives no code, so its whole message is compared: a name in it may hold any words.
    """
    message = _message(str(error))
    if isinstance(error, adbc.IntegrityError) or _CONSTRAINT.match(message):
        return ConstraintBroken(message)
    for said, kind, words in _TRANSLATIONS:
        if said.fullmatch(message):
            return kind(words.format(path=path, message=message, seconds=lock_wait()))
    return WriteRefused(f"The database {path} refused: {message}.")


def _message(said: str) -> str:
    """What SQLite said, without what the driver put around it."""
    message = said.partition("\nquery: ")[0].partition(". Detail: ")[0].strip()
    while (rest := _AROUND.sub("", message, count=1)) != message:
        message = rest
    return message


_AROUND = re.compile(r"^(?:[A-Z_]+: |\[SQLite\] |\[Errno \d+\] |[Ff]ailed to (?:execute|prepare|step) query: )")
_CONSTRAINT = re.compile(r"(?:[A-Z ]+ )?constraint failed", re.ASCII)
_LOCKED = (
    "Another program holds {path} locked, also after {seconds} seconds of waiting. Wait for it, or give "
    "TIDYMERGE_LOCK_WAIT more seconds, then run this again."
)
_READ_ONLY = "{path} may not be written. Check the permissions of the file and of its folder."
_NOT_OPENED = "{path} can't be opened as asked. Check the permissions of the file and of its folder."
_FULL = "There is no room left to write {path}; it is as it was. Make room, then run this again."
_INPUT_OUTPUT = "{path} can't be written ({message}); it is as it was. Is the disk full or gone?"
_DAMAGED = "{path} is damaged: {message}. Restore it from a copy before loading into it."
_TRANSLATIONS: tuple[tuple[re.Pattern[str], type[TargetError], str], ...] = tuple(
    (re.compile(said, re.DOTALL), kind, words)
    for said, kind, words in (
        (r"database( table| schema)? is locked(: .*)?", TargetLocked, _LOCKED),
        (r"attempt to write a readonly database", TargetReadOnly, _READ_ONLY),
        (r"unable to open database.*|failed to open .*", TargetReadOnly, _NOT_OPENED),
        (r"database or disk is full", TargetFull, _FULL),
        (r"disk I/O error", TargetFull, _INPUT_OUTPUT),
        (r"file is not a database", TargetUnreadable, "{path} is not a SQLite database (or is encrypted)."),
        (r"database disk image is malformed|malformed database schema .*", TargetUnreadable, _DAMAGED),
        (
            r"no such collation sequence: .*",
            TargetUnreadable,
            "{path} uses a collation of another program's own: {message}.",
        ),
    )
)

"""A PostgreSQL connection. The only place that knows the driver and its errors."""

import os
import select
import socket
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

import pyarrow as pa

from tidymerge.address import Address
from tidymerge.databases.contract.database import ConstraintBroken
from tidymerge.databases.contract.lines import tab_lines
from tidymerge.databases.contract.transaction import AWAY, NOT_CONNECTED
from tidymerge.errors import (
    LOCKED,
    MissingPackage,
    ServerAway,
    TargetChanged,
    TargetError,
    TargetFull,
    TargetLocked,
    TargetReadOnly,
    WriteRefused,
)
from tidymerge.settings import lock_wait

try:
    import psycopg
except ImportError:
    raise MissingPackage(
        "PostgreSQL needs the package psycopg: pip install 'psycopg[binary]', then run this again.",
        package="psycopg",
    ) from None

_CONNECT_SECONDS = 10
_KNOWS_REQUIRE_AUTH = 160000  # the version of libpq
_CHUNK = 16 << 20  # bytes of rows parsed at a time
_SETTINGS = (
    ("DateStyle", "ISO, YMD"),
    ("TimeZone", "UTC"),
    ("IntervalStyle", "postgres"),
    ("bytea_output", "hex"),
    ("extra_float_digits", "1"),
    ("idle_in_transaction_session_timeout", "0"),
    ("random_page_cost", "1.1"),  # changes are in the order of the records: their pages are met one after another
    ("jit", "off"),  # compiling costs more than these statements take
)
# Remembering found records costs, and each key is looked up once. Versions before 14 know no such thing.
_NOT_MEMOIZED = "SELECT set_config(name, 'off', false) FROM pg_settings WHERE name = 'enable_memoize'"


class Session:
    """One connection; `begin` starts its one transaction."""

    def __init__(self, address: Address) -> None:
        self.place = address.place
        assert address.server is not None  # noqa: S101 - the registry sends servers here
        try:
            self._connection = psycopg.connect(
                address.server,
                autocommit=True,
                connect_timeout=_CONNECT_SECONDS,
                fallback_application_name="tidymerge",
                client_encoding="UTF8",
                **_guarded(address.server),
                prepare_threshold=None,  # so that connection poolers work
            )
        except psycopg.Error as error:
            said = " ".join(
                str(error).removeprefix("connection failed: ").partition("Is the server running")[0].split()
            )
            said = address.hide(said)
            raise ServerAway(NOT_CONNECTED.format(place=self.place, message=said.rstrip("."))) from error
        try:
            # Without waiting is a millisecond: 0 would be for ever.
            settings = (*_SETTINGS, ("lock_timeout", f"{max(1, lock_wait() * 1000)}ms"))
            listed = ", ".join("set_config(%s, %s, false)" for _ in settings)
            listed += f", ({_NOT_MEMOIZED})"
            self.rows(f"SELECT {listed}", [text for setting in settings for text in setting])
        except BaseException:
            self.close()
            raise

    def begin(self) -> None:
        """Start the transaction: all of its reads see the database as it is at the first of them."""
        self.run("BEGIN ISOLATION LEVEL REPEATABLE READ")

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[dict[str, Any]]:
        """The rows of a small query."""
        with self._translated(), self._connection.cursor() as cursor:
            cursor.execute(sql.encode(), values or None)
            names = [column.name for column in cursor.description or ()]
            return [dict(zip(names, row, strict=True)) for row in cursor.fetchall()]

    def run(self, sql: str) -> int:
        """Run a statement; how many rows it touched."""
        with self._translated(), self._connection.cursor() as cursor:
            cursor.execute(sql.encode())
            return cursor.rowcount

    def run_one(self, sql: str) -> None:
        """Run a statement with a query of the person's in it, by the extended protocol: it takes no second one."""
        with self._translated():
            self._checked(self._connection.pgconn.exec_params(sql.encode(), None))

    def begin_reading(self) -> None:
        """Start a transaction that can't change anything, in place of the one that may be open."""
        self.run("ROLLBACK")
        self.run("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")

    def copy_out(self, query: str) -> Iterator[bytes]:
        """The rows of a query as CSV, some megabytes at a time, whole rows each."""
        # On the driver's own wrapper of libpq: its row iterator makes an object a row, which takes much longer.
        libpq = self._connection.pgconn
        with self._translated():
            self._checked(libpq.exec_params(f"COPY ({query}) TO STDOUT (FORMAT csv)".encode(), None))
            rows, next_row = bytearray(), libpq.get_copy_data
            while True:
                size, row = next_row(1)
                if size > 0:
                    rows += row
                    if len(rows) > _CHUNK:
                        yield bytes(rows)
                        rows.clear()
                elif size == 0:  # nothing has arrived: wait, but not deaf to Ctrl-C
                    select.select([libpq.socket], [], [])
                    libpq.consume_input()
                else:
                    break
            ends = []
            while (result := libpq.get_result()) is not None:  # all of them, or the connection stays busy
                ends.append(result)
            for result in ends:
                self._checked(result)
        if rows:
            yield bytes(rows)

    @staticmethod
    def _checked(result: psycopg.pq.abc.PGresult) -> None:
        if result.status == psycopg.pq.ExecStatus.FATAL_ERROR:
            raise psycopg.errors.error_from_result(result)

    def copy_in(self, table: str, columns: Sequence[str], rows: pa.Table) -> None:
        """Append rows, all of them text, to a table."""
        statement = f"COPY {table} ({', '.join(columns)}) FROM STDIN".encode()
        with self._translated(), self._connection.cursor() as cursor, cursor.copy(statement) as copy:
            for block in tab_lines(rows):
                copy.write(block)

    def break_off(self) -> None:
        """Cut the wire: whoever waits for the server gets an error."""
        with suppress(OSError, psycopg.Error), socket.socket(fileno=os.dup(self._connection.pgconn.socket)) as wire:
            wire.shutdown(socket.SHUT_RDWR)

    def close(self) -> None:
        """Close; the server rolls back whatever was not committed."""
        self._connection.close()

    @contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except psycopg.Error as error:
            raise translated(error, self.place) from error


def _guarded(url: str) -> dict[str, Any]:
    """What keeps the password from a server that asks for it in clear text, unless it is encrypted or local."""
    given = psycopg.conninfo.conninfo_to_dict(url)
    host = str(given.get("host") or "/")
    encrypted = given.get("sslmode") in ("require", "verify-ca", "verify-full")
    if (
        "require_auth" in given
        or encrypted
        or host.startswith(("/", "@"))
        or psycopg.pq.version() < _KNOWS_REQUIRE_AUTH
    ):
        return {}
    return {"require_auth": "scram-sha-256,md5,gss,sspi,none"}


def translated(error: psycopg.Error, place: str) -> TargetError:
    """The driver's error in our words, by its SQLSTATE (PostgreSQL's documentation, appendix A)."""
    state = error.sqlstate or ""
    primary = error.diag.message_primary or " ".join(str(error).split()) or type(error).__name__
    message = f"{primary} ({error.diag.message_detail})" if error.diag.message_detail else primary
    if state[:2] in ("22", "23", "44", "P0", "09", "27") or (state == "42501" and "row-level security" in primary):
        return ConstraintBroken(message, constraint=error.diag.constraint_name)
    for states, kind, words in _TRANSLATIONS:
        if state.startswith(states):
            return kind(words.format(place=place, message=message.rstrip("."), seconds=lock_wait()))
    if isinstance(error, psycopg.OperationalError) and not state:
        return ServerAway(AWAY.format(place=place, message=message.rstrip(".")))
    return WriteRefused(f"The server at {place} refused: {message.rstrip('.')}.")


_TRANSLATIONS: tuple[tuple[tuple[str, ...], type[TargetError], str], ...] = (
    (("40001", "40P01"), TargetChanged, "Another program stood in the way at {place} ({message})."),
    (
        ("55P03",),
        TargetLocked,
        LOCKED,
    ),
    (
        ("53100", "53200", "58030", "54"),
        TargetFull,
        "The server at {place} has no room: {message}. Nothing was written.",
    ),
    (("42501", "25006"), TargetReadOnly, "The server at {place} does not allow it: {message}."),
    (("08", "28", "3D", "57P", "53"), ServerAway, AWAY),
)

"""A MariaDB connection. The only place that knows the driver and its errors."""

import configparser
import re
import socket
import ssl
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, unquote, urlsplit

import numpy as np
import pyarrow as pa

from tidymerge.address import Address
from tidymerge.databases.contract.database import ConstraintBroken
from tidymerge.databases.contract.lines import tab_lines
from tidymerge.databases.contract.transaction import AWAY, NOT_CONNECTED
from tidymerge.databases.mariadb.packets import Rows
from tidymerge.errors import (
    LOCKED,
    BadAddress,
    MissingPackage,
    ServerAway,
    TargetChanged,
    TargetError,
    TargetFull,
    TargetLocked,
    TargetReadOnly,
    WriteRefused,
)
from tidymerge.model import Indices
from tidymerge.settings import lock_wait

try:
    import pymysql
    from pymysql.connections import Connection
    from pymysql.constants import CLIENT, COMMAND
    from pymysql.optionfile import Parser
    from pymysql.protocol import FieldDescriptorPacket, OKPacketWrapper
except ImportError:
    raise MissingPackage(
        "MariaDB needs the package PyMySQL: pip install PyMySQL, then run this again.", package="PyMySQL"
    ) from None

_CONNECT_SECONDS = 10
_LOCAL = {"localhost", "127.0.0.1", "::1"}
_PORT = 3306
_CHUNK = 16 << 20  # bytes of rows taken apart at a time
_PACKET = 1 << 20  # bytes of a file sent at a time
_ERROR = 0xFF  # what the payload of an error starts with
_WARNINGS = 65_535  # the most that the server remembers
_TLS = ("ssl_ca", "ssl_cert", "ssl_key")
_OPTIONS = (*_TLS, "ssl_verify", "unix_socket", "option_file", "option_group")
_SETTINGS = (
    # Names are quoted as in ISO SQL; what does not fit is an error; 0 is a number like any other.
    "sql_mode = 'STRICT_ALL_TABLES,ANSI_QUOTES,NO_ENGINE_SUBSTITUTION,NO_AUTO_VALUE_ON_ZERO'",
    "time_zone = '+00:00'",
    f"max_error_count = {_WARNINGS}",
)


class _Guarded(Connection):  # type: ignore[misc]  # the driver has no types
    """A connection that gives no server the password in clear text, unless it is encrypted or local."""

    def _create_ssl_ctx(self, asked: Any) -> ssl.SSLContext:
        """Where nothing is asked for, what the server offers is taken unverified: no authorities need be read for it.

        To read those of the system takes longer than all else about a connection.
        """
        if asked:
            return super()._create_ssl_ctx(asked)  # type: ignore[no-any-return]
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        return context

    def _process_auth(self, plugin_name: bytes, *arguments: Any) -> Any:
        if plugin_name in (b"mysql_clear_password", b"dialog") and not self._secure:
            raise pymysql.OperationalError(
                2059, "it asks for the password in clear text, which is sent only over TLS (ssl_ca) or a local socket"
            )
        return super()._process_auth(plugin_name, *arguments)


class FilesForbidden(TargetError):
    """The server does not take rows by LOAD DATA LOCAL; they are then inserted instead."""


class Session:
    """One connection; `begin` starts its one transaction."""

    def __init__(self, address: Address) -> None:
        self.place = address.place
        assert address.server is not None  # noqa: S101 - the registry sends servers here
        options = _connection_options(address.server)
        try:
            self._connection: Any = _Guarded(
                **options,
                charset="utf8mb4",
                autocommit=True,
                connect_timeout=_CONNECT_SECONDS,
                # An update counts the rows it met, changed or not. Files are announced to the server but not to the
                # driver, which would send any that the server asks for: `load` answers that by itself.
                client_flag=CLIENT.FOUND_ROWS | CLIENT.LOCAL_FILES,
            )
        except (pymysql.Error, OSError) as error:
            said = str(error.args[-1] if error.args else error).rstrip(".")
            where = options.get("unix_socket") or f"port {options.get('port', _PORT)}"
            said = address.hide(said)
            raise ServerAway(NOT_CONNECTED.format(place=self.place, message=f"{said} ({where})")) from error
        try:
            wait = [f"{name} = {lock_wait()}" for name in ("innodb_lock_wait_timeout", "lock_wait_timeout")]
            self.run(f"SET SESSION {', '.join([*_SETTINGS, *wait])}")
        except BaseException:
            self.close()
            raise

    def begin(self) -> None:
        """Start the transaction: all of its plain reads see the database as it is now."""
        self.run("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        self.run("START TRANSACTION WITH CONSISTENT SNAPSHOT")

    def begin_locking(self, table: str) -> None:
        """Start the transaction with a lock on every record, taken in the order of the key; only then it sees any."""
        self.run("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        self.run("START TRANSACTION")
        self.rows(f"SELECT count(*) AS n FROM {table} FOR UPDATE")

    def begin_reading(self) -> None:
        """Start a transaction that can't change anything, in place of the one that may be open."""
        self.run("ROLLBACK")
        self.run("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        self.run("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[dict[str, Any]]:
        """The rows of a small query."""
        with self._translated(), self._connection.cursor() as cursor:
            cursor.execute(sql, values or None)
            names = [column[0] for column in cursor.description or ()]
            return [dict(zip(names, row, strict=True)) for row in cursor.fetchall()]

    def run(self, sql: str) -> int:
        """Run a statement; how many rows it touched."""
        with self._translated():
            found: int = self._connection.query(sql)
            return found

    def stream(self, query: str) -> Iterator[tuple[np.ndarray, Indices]]:
        """The rows of a query, some megabytes at a time: bytes, and where each row starts."""
        with self._translated():
            self._connection._execute_command(COMMAND.COM_QUERY, query)
            count = self._connection._read_packet().read_length_encoded_integer()
            for _ in range(count):
                self._connection._read_packet(FieldDescriptorPacket)
            self._connection._read_packet()  # ends the columns
            rows = Rows()
            while rows.last is None:
                piece = self._connection._rfile.read1(_PACKET)
                if not piece:
                    raise pymysql.OperationalError(2013, "the connection broke while rows arrived")
                try:
                    rows.feed(piece)
                except OverflowError:
                    raise WriteRefused(f"A record at {self.place} is larger than 16 MB, which can't be read.") from None
                if rows.size > _CHUNK or (rows.last is not None and rows.size):
                    yield rows.taken()
            if rows.last[0] == _ERROR:
                pymysql.err.raise_mysql_exception(rows.last)

    def load(self, table: str, columns: Sequence[str], rows: pa.Table, binary: frozenset[str]) -> tuple[int, list[Any]]:
        """Append rows, all of them text, to a table: the number of warnings, and those that the server remembers.

        The server asks for a file; whatever it asks for, it is given these rows and nothing else.
        """
        listed = [f"@b{index}" if name in binary else name for index, name in enumerate(columns)]
        sets = [f"{name} = unhex(@b{index})" for index, name in enumerate(columns) if name in binary]
        statement = f"LOAD DATA LOCAL INFILE 'rows' INTO TABLE {table} CHARACTER SET utf8mb4 ({', '.join(listed)})" + (
            f" SET {', '.join(sets)}" if sets else ""
        )
        with self._translated():
            connection = self._connection
            connection._execute_command(COMMAND.COM_QUERY, statement)
            packet = connection._read_packet()
            if packet.is_load_local_packet():
                for block in tab_lines(rows):
                    for start in range(0, len(block), _PACKET):
                        connection.write_packet(block[start : start + _PACKET])
                connection.write_packet(b"")
                packet = connection._read_packet()
            count = OKPacketWrapper(packet).warning_count
        return count, self.rows("SHOW WARNINGS") if count else []

    def insert(
        self, table: str, columns: Sequence[str], rows: pa.Table, binary: frozenset[str], *, keep_first: bool
    ) -> None:
        """Append rows, all of them text, by statements of many rows each: for servers that take no files."""
        marks = ", ".join("unhex(%s)" if name in binary else "%s" for name in columns)
        values = list(zip(*(column.to_pylist() for column in rows.columns), strict=True))
        listed = ", ".join(name.replace("%", "%%") for name in columns)
        with self._translated(), self._connection.cursor() as cursor:
            cursor.executemany(
                f"INSERT {'IGNORE ' if keep_first else ''}INTO {table} ({listed}) VALUES ({marks})", values
            )

    def break_off(self) -> None:
        """Cut the wire: whoever waits for the server gets an error."""
        with suppress(OSError, AttributeError):  # one that is closed has no socket
            self._connection._sock.shutdown(socket.SHUT_RDWR)

    def close(self) -> None:
        """Close; the server rolls back whatever was not committed."""
        self._connection._force_close()

    @contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except pymysql.Error as error:
            raise translated(error, self.place) from error
        except OSError as error:
            raise ServerAway(AWAY.format(place=self.place, message=str(error))) from error


def _connection_options(url: str) -> dict[str, Any]:
    """The driver's options from a URL. Raises BadAddress."""
    parts = urlsplit(url)
    given = dict(parse_qsl(parts.query))
    unknown = set(given) - set(_OPTIONS)
    if unknown:
        raise BadAddress(f"{min(unknown)} is no option of a MariaDB address; known are {', '.join(_OPTIONS)}.")
    if not parts.path.strip("/"):
        raise BadAddress(f"The address names no database: write {parts.scheme}://user@host/DATABASE#TABLE.")
    options: dict[str, Any] = {"database": unquote(parts.path.strip("/"))}
    own = Path(given.get("option_file", "~/.my.cnf")).expanduser()
    group = given.get("option_group", "client")
    if "option_file" in given or (own.is_file() and not parts.username):
        leads_there = _leads_to(own, group, parts.hostname)
        if "option_file" in given and not leads_there:
            raise BadAddress(
                f"The password in {own} would be given to a host that the file does not name. Write that host in the "
                "file, and leave it out of the address."
            )
        if leads_there:
            options["read_default_file"] = str(own)
            options["read_default_group"] = group
    said = {
        "host": parts.hostname,
        "port": parts.port,
        "user": parts.username and unquote(parts.username),
        "password": parts.password and unquote(parts.password),
        "unix_socket": given.get("unix_socket"),
    }
    options |= {name: value for name, value in said.items() if value}
    if "ssl_verify" in given or any(name in given for name in _TLS):
        options["ssl"] = _tls(given)
    return options


def _leads_to(file: Path, group: str, host: str | None) -> bool:
    """Whether an option file is for the host of an address: its password must go nowhere else."""
    if host is None:
        return True
    options = Parser(strict=False)
    try:
        options.read(file)
        named = options.get(group, "host")
    except (configparser.Error, UnicodeDecodeError):
        named = "localhost"
    return named.lower() == host.lower() or {named.lower(), host.lower()} <= _LOCAL


def _tls(given: dict[str, str]) -> ssl.SSLContext:
    """Encryption as asked for: the server's certificate is verified unless that is switched off."""
    context = ssl.create_default_context(cafile=given.get("ssl_ca"))
    if given.get("ssl_verify", "true").lower() in ("false", "0", "no"):
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    if "ssl_cert" in given:
        context.load_cert_chain(given["ssl_cert"], given.get("ssl_key"))
    return context


def translated(error: pymysql.Error, place: str) -> TargetError:
    """The driver's error in our words, by its number (https://mariadb.com/kb/en/mariadb-error-codes/)."""
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    message = " ".join(str(error.args[1] if len(error.args) > 1 else error).split()).rstrip(".")
    if number in _VALUES:
        key = re.search(r"for key '(?:[^']*\.)?([^']+)'$", message)
        return ConstraintBroken(message, constraint=key[1] if key and number == _DUPLICATE else None)
    if number in _NO_FILES:
        return FilesForbidden(message)
    for numbers, kind, words in _TRANSLATIONS:
        if number in numbers:
            return kind(words.format(place=place, message=message, seconds=lock_wait()))
    return WriteRefused(f"The server at {place} refused: {message}.")


_NO_FILES = frozenset({1148, 3948, 4166})  # LOAD DATA LOCAL is switched off
_DUPLICATE = 1062
_VALUES = frozenset(
    {1048, 1062, 1169, 1216, 1217, 1264, 1265, 1292, 1364, 1366, 1367, 1369, 1406, 1411, 1425, 1451, 1452, 1526, 1557}
    | {1586, 1644, 1690, 1748, 1761, 1762, 1906, 3140, 3141, 3156, 3819, 4025, 4038}
)
_TRANSLATIONS: tuple[tuple[frozenset[int], type[TargetError], str], ...] = (
    (frozenset({1020, 1213}), TargetChanged, "Another program stood in the way at {place} ({message})."),
    (
        frozenset({1205, 1206}),
        TargetLocked,
        LOCKED,
    ),
    (
        frozenset({1021, 1030, 1114, 1041}),
        TargetFull,
        "The server at {place} has no room: {message}. Nothing was written.",
    ),
    (
        frozenset({1044, 1142, 1143, 1227, 1290, 1370, 1792, 1836}),
        TargetReadOnly,
        "The server at {place} does not allow it: {message}.",
    ),
    (
        frozenset({0, 1040, 1045, 1049, 1053, 1130, 1152, 1158, 1159, 1160, 1161, 1203, 1226, 1317, 1927, 1698})
        | frozenset(range(2000, 2062)),
        ServerAway,
        AWAY,
    ),
)

"""MariaDB: the contract, and what is its own."""

from pathlib import Path
from urllib.parse import parse_qs, urlsplit
from zlib import crc32

import pymysql
import pytest
from contract import TargetContract
from pymysql.constants import CLIENT

from servers import with_database


class TestMariadb(TargetContract):
    rechecks = True

    @pytest.fixture(autouse=True)
    def server(self, mariadb_server, folder):
        """Each test has a database of its own."""
        self.url, self.database = mariadb_server, f"d{crc32(str(folder).encode())}"
        self.run(f"DROP DATABASE IF EXISTS {self.database}; CREATE DATABASE {self.database} COLLATE utf8mb4_bin", None)
        yield
        self.run(f"DROP DATABASE {self.database}", None)

    def run(self, script: str, database: str | None) -> list[tuple]:
        url = urlsplit(self.url)
        socket = parse_qs(url.query).get("unix_socket", [None])[0]
        connection = pymysql.connect(
            host=url.hostname, port=url.port or 3306, user=url.username, password=url.password or "", database=database,
            unix_socket=socket, client_flag=CLIENT.MULTI_STATEMENTS, autocommit=True, charset="utf8mb4",
        )  # fmt: skip
        with connection, connection.cursor() as cursor:
            cursor.execute(script)
            rows = list(cursor.fetchall())
            while cursor.nextset():
                pass
        return rows

    def make(self, folder: Path, script: str) -> None:
        self.run(script, self.database)

    def address(self, folder: Path, table: str) -> str:
        return f"{with_database(self.url, self.database)}#{table}"

    def rows(self, folder: Path, query: str) -> list[tuple]:
        return self.run(query, self.database)

    def unchecked(self, schema: str, rows: str) -> str:
        return f"SET check_constraint_checks = 0, foreign_key_checks = 0; {schema}; {rows};"

    def refusing_trigger(self, table: str, condition: str) -> str:
        return f"CREATE TRIGGER no BEFORE INSERT ON {table} FOR EACH ROW IF {condition} THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'unlucky'; END IF;"

    def meddling_trigger(self, table: str, statement: str) -> str:
        pytest.skip("MariaDB lets no trigger change its own table")

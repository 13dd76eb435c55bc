"""PostgreSQL: the contract, and what is its own."""

from pathlib import Path
from urllib.parse import quote
from zlib import crc32

import psycopg
import pytest
from contract import TargetContract


class TestPostgres(TargetContract):
    rechecks = True

    @pytest.fixture(autouse=True)
    def server(self, postgresql_server, folder):
        """Each test has a schema of its own."""
        self.url, self.schema = postgresql_server, f"s{crc32(str(folder).encode())}"
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(f"DROP SCHEMA IF EXISTS {self.schema} CASCADE; CREATE SCHEMA {self.schema}")
        yield
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(f"DROP SCHEMA {self.schema} CASCADE")

    def connect(self) -> psycopg.Connection:
        return psycopg.connect(self.url, options=f"-csearch_path={self.schema},public", autocommit=True)

    def make(self, folder: Path, script: str) -> None:
        with self.connect() as connection:
            connection.execute(script)

    def address(self, folder: Path, table: str) -> str:
        mark = "&" if "?" in self.url else "?"
        return f"{self.url}{mark}options={quote(f'-csearch_path={self.schema},public')}#{table}"

    def rows(self, folder: Path, query: str) -> list[tuple]:
        with self.connect() as connection:
            return connection.execute(query).fetchall()

    def unchecked(self, schema: str, rows: str) -> str:
        return f"""{schema}; ALTER TABLE t DROP CONSTRAINT few; SET session_replication_role = replica; {rows};
            SET session_replication_role = DEFAULT; ALTER TABLE t ADD CONSTRAINT few CHECK (low < 5) NOT VALID"""

    def trigger(self, table: str, when: str, body: str) -> str:
        return f"""CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {body} RETURN NEW; END $$;
            CREATE TRIGGER f {when} INSERT ON {table} FOR EACH ROW EXECUTE FUNCTION f();"""

    def refusing_trigger(self, table: str, condition: str) -> str:
        return self.trigger(table, "BEFORE", f"IF {condition} THEN RAISE EXCEPTION 'unlucky'; END IF;")

    def meddling_trigger(self, table: str, statement: str) -> str:
        return self.trigger(table, "AFTER", f"{statement};")

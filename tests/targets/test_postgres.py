"""PostgreSQL: the contract, and what is its own."""

from pathlib import Path
from urllib.parse import quote
from zlib import crc32

import psycopg
import pytest
from server_contract import PLAIN, ServerContract

import tidymerge
from conftest import text_file
from tidymerge.databases.postgres.session import Session


class TestPostgres(ServerContract):
    types = (
        ("SMALLINT", "-7", "-7"), ("BIGINT", "9223372036854775807", "9223372036854775807"), ("NUMERIC(8,2)", "12.5", "12.50"),
        ("NUMERIC", "0.125", "0.125"), ("NUMERIC", "12345678901234567890123456789012345678901234567890.5", "12345678901234567890123456789012345678901234567890.5"), ("NUMERIC(38,10)", "1234567890123456789012345678.0123456789", "1234567890123456789012345678.0123456789"),
        ("REAL", "0.1", "0.1"), ("DOUBLE PRECISION", "0.1", "0.1"), ("VARCHAR(5)", "tëxt", "tëxt"), ("CHAR(5)", "ab", "ab   "), ("TEXT", "a\tb", "a\tb"),
        ("BOOLEAN", "yes", "True"), ("DATE", "2026-05-04", "2026-05-04"), ("TIME", "09:30", "09:30:00"), ("TIMESTAMP", "2026-05-04 09:30:00.25", "2026-05-04 09:30:00.250000"),
        ("TIMESTAMPTZ", "2026-05-04T09:30+02:00", "2026-05-04 07:30:00+00:00"), ("TIMESTAMP(0)", "2026-05-04 09:30:01", "2026-05-04 09:30:01"),
        ("UUID", "550E8400-e29b-41d4-a716-446655440000", "550e8400-e29b-41d4-a716-446655440000"), ("JSON", '{"b": 1}', "{'b': 1}"), ("JSONB", '{"b": [1, 2], "a": null}', "{'a': None, 'b': [1, 2]}"),
        ("BYTEA", "00ff", "b'\\x00\\xff'"), ("queen", "white", "white"), ("weight", "3.5", "3.5"), ("INTEGER GENERATED ALWAYS AS IDENTITY", "41", "41"),
    )  # fmt: skip
    narrow = "citext"
    awkward = frozenset({4, 5})
    writing_function = "CREATE FUNCTION writes() RETURNS int LANGUAGE sql AS $$ DELETE FROM t; SELECT 1 $$;"
    random = "(random() * 1000000)::int + 1"
    strange = ("DATE", "'infinity'", "not a date")
    more_spelled, untold, backslash = (
        (", m boolean, n uuid, o numeric, p char(3)", ", true, '550e8400-e29b-41d4-a716-446655440000', 1.50, 'a'"),
        ("f", "m", "n", "o", "p"),
        "\\",
    )
    session, round_trips = Session, ("run", "rows", "copy_out", "copy_in")
    foreign = "INTEGER[]"
    far = "'{1,NULL,3}'"
    odd = ("NUMERIC", "'NaN'", "1.5")
    doubling = (
        "CREATE FUNCTION twice() RETURNS trigger AS 'BEGIN NEW.n := NEW.n * 2; RETURN NEW; END' LANGUAGE plpgsql;"
        "CREATE TRIGGER twice BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION twice();"
    )
    restamped = (
        "TIMESTAMP",
        """CREATE FUNCTION stamp() RETURNS trigger AS 'BEGIN NEW.touched := clock_timestamp(); RETURN NEW; END' LANGUAGE plpgsql;
        CREATE TRIGGER stamp BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION stamp();""",
    )
    bytes, two_bytes = "BYTEA", r"'\x00ff'"
    sleep = "PERFORM pg_sleep(2)"
    unstorable = ("JSONB", '"\\u0000"')

    @pytest.fixture(autouse=True)
    def server(self, postgresql_server, folder):
        """Each test has a schema of its own."""
        self.url, self.schema = postgresql_server, f"s{crc32(str(folder).encode())}"
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(
                f"DROP SCHEMA IF EXISTS {self.schema} CASCADE; CREATE SCHEMA {self.schema}; CREATE EXTENSION IF NOT EXISTS citext WITH SCHEMA public"
            )
        with self.connect() as connection:
            connection.execute(
                "CREATE TYPE queen AS ENUM ('white', 'yellow'); CREATE DOMAIN weight AS NUMERIC(8,1) CHECK (VALUE > 0)"
            )
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

    def sleeping_trigger(self, table: str) -> str:
        return self.trigger(table, "BEFORE", f"{self.sleep};")

    def sleeping(self, folder: Path) -> int | None:
        found = self.rows(folder, "SELECT pid FROM pg_stat_activity WHERE wait_event = 'PgSleep'")
        return found[0][0] if found else None

    def end(self, folder: Path, connection: int) -> None:
        self.rows(folder, f"SELECT pg_terminate_backend({connection})")

    def hold(self, statement, held, done) -> None:
        with self.connect() as connection, connection.transaction():
            connection.execute(statement)
            held.set()
            done.wait(30)
            raise psycopg.Rollback

    def test_who_and_where_may_stand_in_a_service_file(self, folder, monkeypatch):
        self.make(folder, PLAIN)
        about = psycopg.conninfo.conninfo_to_dict(self.url) | {"options": f"-csearch_path={self.schema}"}
        lines = [f"{name}={value}" for name, value in about.items()]
        (folder / "services").write_text("\n".join(["[coop]", *lines, ""]), "utf-8")
        monkeypatch.setenv("PGSERVICEFILE", str(folder / "services"))
        receipt = tidymerge.load(text_file(folder / "in.csv", [["k", "n"], [1, 1]]), "postgresql:///?service=coop#t")
        assert receipt.tables[0].target == "postgresql:///#t"
        assert self.rows(folder, "SELECT k, n FROM t") == [(1, 1)]

    def test_only_changed_rows_are_rewritten(self, folder):
        self.make(folder, PLAIN + "INSERT INTO t SELECT k, k, 'x' FROM generate_series(1, 100) k;")
        before = dict(self.rows(folder, "SELECT k, xmin::text FROM t"))
        tidymerge.load(
            text_file(
                folder / "in.csv", [["k", "n", "a"], *([k, -1 if k in (5, 50) else k, "x"] for k in range(1, 103))]
            ),
            self.address(folder, "t"),
        )
        after = dict(self.rows(folder, "SELECT k, xmin::text FROM t"))
        assert {k for k in after if after[k] != before.get(k)} == {5, 50, 101, 102}

    @pytest.mark.parametrize(
        ("declared", "key", "matched"),
        [
            ("citext", "l01", True),
            ("CHAR(6)", "L01", True),
            ("VARCHAR(6) COLLATE loose", "l\u00f301", True),
            ("VARCHAR(6)", "l01", False),
        ],
    )
    def test_keys_are_equal_where_the_server_says_so(self, folder, declared, key, matched):
        if "loose" in declared:
            try:
                self.make(
                    folder, "CREATE COLLATION loose (provider = icu, locale = 'und-u-ks-level1', deterministic = false)"
                )
            except psycopg.errors.FeatureNotSupported:
                pytest.skip("this build of the server knows no collations but the system's")
        self.make(folder, f"""            CREATE TABLE t (k {declared} PRIMARY KEY, n INTEGER, a citext); INSERT INTO t VALUES ('{"Lo01" if "loose" in declared else "L01"}', 1, 'x');
            INSERT INTO t SELECT 'F' || k, 0 FROM generate_series(1, 30) k""")  # fmt: skip
        receipt = self.load(
            folder, "t", [["k", "n", "a"], [key, 2, "X"], [f"{key}", 2, "X"], ["F1", 0, ""], ["F1", 0, ""]]
        )
        assert (receipt.rows.updated, receipt.rows.inserted, receipt.rows.skipped) == (
            (1, 0, 2) if matched else (0, 1, 2)
        )
        assert self.rows(folder, "SELECT count(*) FROM t") == [(31 if matched else 32,)]
        if matched:  # the value of another column is compared exactly: a change of letter case is a change
            assert self.rows(folder, "SELECT a::text FROM t WHERE n = 2") == [("X",)]

    def test_enumerations_and_domains_are_judged_before_writing(self, folder):
        self.make(folder, "CREATE DOMAIN load AS NUMERIC(8,1) NOT NULL CHECK (VALUE > 0);"
                          "CREATE TABLE t (k INTEGER PRIMARY KEY, q queen, w load)")  # fmt: skip
        receipt = self.load(folder, "t", [["k", "q", "w"], [1, "white", 1], [2, "White", 1], [3, "", -1], [4, "", ""]])
        assert self.reasons(receipt) == {"not an allowed value": [3], "check failed": [4], "blank not allowed": [5]}
        assert receipt.notes == ()

    @pytest.mark.parametrize(
        ("made", "words"),
        [("VIEW v AS SELECT * FROM t", "a view"), ("MATERIALIZED VIEW v AS SELECT * FROM t", "a materialized view")],
    )
    def test_what_is_no_table_is_said(self, folder, made, words):
        self.make(folder, PLAIN + f"CREATE {made};")
        with pytest.raises(tidymerge.TargetError, match=words):
            self.load(folder, "v", [["k", "n"], [1, 1]])

    def test_tables_without_a_key_and_partitioned_ones(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER, n INTEGER); INSERT INTO t VALUES (1, 1), (2, 2), (2, 3);"
                          "CREATE TABLE p (k INTEGER, n INTEGER) PARTITION BY RANGE (k); CREATE TABLE p1 PARTITION OF p FOR VALUES FROM (0) TO (2); CREATE TABLE p2 PARTITION OF p FOR VALUES FROM (2) TO (9);"
                          "INSERT INTO p SELECT k, 0 FROM generate_series(0, 5) k;")  # fmt: skip
        receipt = self.load(folder, "t", [["k", "n"], [1, 5], [2, 5], [3, 5]], key="k")
        assert self.reasons(receipt) == {"several records": [3]}
        assert self.rows(folder, "SELECT * FROM t ORDER BY k, n") == [(1, 5), (2, 2), (2, 3), (3, 5)]
        parted = self.load(folder, "p", [["k", "n"], *([k, k] for k in range(8))], key="k")
        assert (parted.rows.updated, parted.rows.inserted, parted.rows.unchanged) == (5, 2, 1)
        for loaded in (receipt, parted):
            again = tidymerge.undo(tidymerge.undo(loaded.run).run)
            assert (again.rows.updated, again.rows.inserted) == (loaded.rows.updated, loaded.rows.inserted)
            tidymerge.undo(again.run)
        assert self.rows(folder, "SELECT * FROM t ORDER BY k, n") == [(1, 1), (2, 2), (2, 3)]
        assert self.rows(folder, "SELECT sum(n), count(*) FROM p") == [(0, 6)]

    @pytest.mark.parametrize(
        ("new_rows", "key", "refusal", "error"),
        [
            ("", 50, "violates row-level security", None),
            ("WITH CHECK (true)", 50, "a policy hides that record from you", None),
            ("WITH CHECK (true)", 60, None, "the policy own; they can be trusted with changing rows"),
        ],
    )
    def test_records_that_a_policy_hides_are_neither_changed_nor_doubled(self, folder, new_rows, key, refusal, error):
        role = f"{self.schema}_bee"
        self.make(folder, PLAIN + f"INSERT INTO t VALUES (1, 1, 'x'), (50, 1, 'hidden'); CREATE ROLE {role}; ALTER TABLE t ENABLE ROW LEVEL SECURITY;"
                  f"CREATE POLICY own ON t USING (k < 10) {new_rows}; GRANT ALL ON SCHEMA {self.schema} TO {role}; GRANT ALL ON t TO {role};")  # fmt: skip
        address = self.address(folder, "t").replace("%2Cpublic", f"%2Cpublic%20-crole%3D{role}")
        incoming = text_file(folder / "in.csv", [["k", "n"], [1, 2], [key, 2]])
        try:
            if error is None:
                receipt = tidymerge.load(incoming, address, rejects=folder / "r.csv")
                assert (receipt.rows.updated, self.reasons(receipt)) == (1, {"refused by the target": [3]})
                assert refusal in (folder / "r.csv").read_text()
            else:
                with pytest.raises(tidymerge.TidyMergeError, match=error):
                    tidymerge.load(incoming, address)
        finally:
            self.make(folder, f"DROP OWNED BY {role}; DROP ROLE {role}")
        assert self.rows(folder, "SELECT k, n FROM t ORDER BY k") == [(1, 1 if error else 2), (50, 1)]

    def test_policies_and_triggers_are_named_and_can_be_trusted(self, run, folder):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 1, 'x');" + self.trigger("t", "BEFORE", "NEW.n := 0;"))
        rows = text_file(folder / "in.csv", [["k", "n"], [2, 5]])
        with pytest.raises(tidymerge.ProofFailed, match=r"the trigger f; they can be trusted with changing rows"):
            tidymerge.load(rows, self.address(folder, "t"), accept_warnings=True)
        ended = run("load", rows, "--into", self.address(folder, "t"), "--yes", "--trust-triggers", "--json")
        assert ended.status == 0, ended.err
        assert '"verified": false' in ended.out
        shown = run(
            "load",
            text_file(folder / "in.csv", [["k", "n"], [3, 5]]),
            "--into",
            self.address(folder, "t"),
            "--yes",
            "--trust-triggers",
        )
        assert "Committed, but not verified" in shown.out
        assert "read back equal" not in shown.out.partition("Committed")[2]
        assert self.rows(folder, "SELECT n FROM t WHERE k = 2") == [(0,)]

    def test_a_check_that_cannot_be_worked_out_is_said_before(self, folder):
        self.make(folder, 'CREATE TABLE t (k INTEGER PRIMARY KEY, a INTEGER, "A" TEXT, CHECK (10 / a > 1))')
        receipt = self.load(folder, "t", [["k", "a", "A"], [1, 5, "x"], [2, 0, "y"], [3, 9, "z"], [4, 2, "z"]])
        assert self.reasons(receipt) == {"check failed": [3, 4]}  # and the preview says so too
        assert self.rows(folder, 'SELECT k, a, "A" FROM t ORDER BY k') == [(1, 5, "x"), (4, 2, "z")]

    def test_a_domain_of_a_column_that_no_row_brings_is_not_tested(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, w weight); INSERT INTO t VALUES (1, 1, 2)")
        assert self.load(folder, "t", [["k", "n"], [1, 5], [2, 6]]).rows.read == 2
        assert self.rows(folder, "SELECT k, n FROM t ORDER BY k") == [(1, 5), (2, 6)]

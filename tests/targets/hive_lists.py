"""A list of hives behind HTTP, on the stand-in."""

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import httpx

import tidymerge
from conftest import NO_LIMITS, text_file
from tidymerge.demo.lists.faults import Fault, Manners
from tidymerge.demo.lists.serve import served

HIVES = """CREATE TABLE hives (code VARCHAR(9), no INTEGER NOT NULL, kg DECIMAL(8, 2), seen DATE, note TEXT, PRIMARY KEY (code, no));
    CREATE TABLE keepers (id INTEGER PRIMARY KEY, name TEXT NOT NULL, joined TIMESTAMP DEFAULT (strftime('%Y-%m-%dT%H:%M:%SZ')));"""
KEY = ["code", "no"]
SECRET = "only-for-one-host"  # noqa: S105 - made up
ELSEWHERE = {"TIDYMERGE_TOKEN": SECRET, "TIDYMERGE_TOKEN_HOST": "lists.example.org"}


_CLIENT = httpx.Client(trust_env=False, verify=False)  # noqa: S501 - on this machine, without TLS


class Lists:
    """A service with hives, and how it behaves."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.manners, self.root = folder, Manners(), ""

    def sql(self, query: str, *values: object) -> list[tuple]:
        with contextlib.closing(sqlite3.connect(self.folder / "lists.db", timeout=30)) as connection:
            found = connection.execute(query, values).fetchall()
            connection.commit()
            return found

    @property
    def hives(self) -> list[tuple]:
        return self.sql("SELECT * FROM hives ORDER BY code, no")

    def fill(self, count: int) -> list[tuple]:
        with contextlib.closing(sqlite3.connect(self.folder / "lists.db", timeout=30)) as connection, connection:
            rows = [(no, no / 4) for no in range(count)]
            connection.executemany("INSERT INTO hives VALUES ('L', ?, ?, NULL, 'x')", rows)
        return self.hives

    def fault(self, **said: object) -> Fault:
        self.manners.faults.append(Fault(**said))
        return self.manners.faults[-1]

    def load(
        self, rows: list[list[object]], key: list[str] = KEY, table: str = "hives", **options: object
    ) -> tidymerge.Receipt:
        file = text_file(self.folder / "in.csv", rows)
        return tidymerge.load(
            file, f"{self.root}#{table}", key=key, accept_warnings=True, rejects=False, limits=NO_LIMITS, **options
        )

    def asked(self, method: str, ending: str = "") -> int:
        return sum(one == method and path.endswith(ending) for one, path in self.manners.requests)

    def wrote(self, method: str, key: tuple[str, int], **values: object) -> None:
        """Write a record through the service: only of these it knows that they changed."""
        code, no = key
        new = method == "POST"
        url = f"{self.root}hives" + ("" if new else f"(code='{code}',no={no})")
        body = {**({"code": code, "no": no} if new else {}), **values}
        answer = _CLIENT.request(method, url, json=body or None, headers={"If-Match": "*"})
        assert answer.is_success, answer.text


@contextlib.contextmanager
def hive_lists(folder: Path) -> Iterator[Lists]:
    """The service, which runs as long as this lasts."""
    found = Lists(folder)
    with contextlib.closing(sqlite3.connect(folder / "lists.db")) as connection:
        connection.executescript(HIVES)
    with served(folder / "lists.db", found.manners) as found.root:
        yield found

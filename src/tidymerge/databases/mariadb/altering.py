"""Tables and columns that come and go in MariaDB, which commits with every statement of that kind.

What comes is made before the transaction, and taken away again if nothing is committed. What goes, goes after the
commit. Source: MariaDB's documentation, "SQL statements that cause an implicit commit".
"""

from collections.abc import Sequence
from contextlib import suppress

from tidymerge.databases.contract.database import quoted
from tidymerge.databases.contract.depending import rules_naming
from tidymerge.databases.contract.new_columns import adding, creating, dropping
from tidymerge.databases.mariadb.describe import in_sql
from tidymerge.databases.mariadb.session import Session
from tidymerge.errors import TargetChanged, TargetError
from tidymerge.model import Definition, ForeignKey, TableShape

Place = tuple[str, str]
_INDEXES = """SELECT DISTINCT index_name AS name FROM information_schema.statistics
WHERE table_schema = %s AND table_name = %s AND column_name = %s AND index_name <> 'PRIMARY' AND non_unique = 1"""
_MADE = """SELECT column_name AS name, generation_expression AS text FROM information_schema.columns
WHERE table_schema = %s AND table_name = %s AND is_generated <> 'NEVER'"""
_VIEWS = "SELECT table_schema AS s, table_name AS name, view_definition AS text FROM information_schema.views"
_TRIGGERS = """SELECT trigger_name AS name, action_statement AS text FROM information_schema.triggers
WHERE event_object_schema = %s AND event_object_table = %s"""


class Altering:
    """What was made for a transaction, and what is to go after it."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._added: list[tuple[str, str]] = []
        self._created: list[str] = []
        self._later: list[str] = []
        self._held: tuple[str, str, object] | None = None

    def create(self, table: str, columns: Sequence[tuple[str, str, bool]], key: Sequence[str]) -> None:
        """Make a table, and begin the transaction."""
        self._session.run(creating(table, columns, key))
        self._created.append(table)
        self._session.begin()

    def add(self, table: str, columns: Sequence[tuple[str, str]]) -> None:
        """Add columns, and begin the transaction."""
        for name, kind in columns:
            self._session.run(f"{adding(table, [(name, kind)])[0]} NULL")  # else a timestamp would not be
            self._added.append((table, name))
        self._session.begin()

    def later(self, *statements: str) -> None:
        """Run statements after the commit."""
        self._later += statements

    def drop_alone(self, table: str, names: Sequence[str]) -> None:
        """Take columns away with nothing else to commit. What they hold now is what they must hold then."""
        columns = ", ".join(f"coalesce(concat('v', {quoted(name)}), 'n')" for name in names)
        digest = f"conv(right(md5(concat_ws('/', {columns}, {self._numbered(table)})), 15), 16, 10)"
        query = f"SELECT count(*) AS n, sum(CAST({digest} AS UNSIGNED)) AS d FROM {table}"
        self._held = table, query, self._session.rows(query)
        self.later(*dropping(table, names))

    def _numbered(self, table: str) -> str:
        """What tells the records apart, in SQL: the primary key, if there is one."""
        keys = self._session.rows(f"SHOW KEYS FROM {table} WHERE Key_name = 'PRIMARY'")
        return ", ".join(f"hex({quoted(row['Column_name'])})" for row in keys) or "''"

    def after_commit(self) -> tuple[str, ...]:
        """Run what was to be run after the commit. What failed is told, or raised where nothing else was done."""
        self._added, self._created = [], []
        if self._held is None:
            return tuple(filter(None, map(self._tried, self._later)))
        table, query, before = self._held
        self._session.run(f"LOCK TABLES {table} WRITE")
        if self._session.rows(query) != before:
            raise TargetChanged("Another program changed the columns that were to go.")
        for statement in self._later:
            self._session.run(statement)
        return ()

    def _tried(self, statement: str) -> str | None:
        try:
            self._session.run(statement)
        except TargetError as error:
            return f"Not done after the commit: {statement} ({error})"
        return None

    def take_back(self) -> None:
        """Take away what was made for what was not committed, unless others have used it since."""
        for table in self._created:
            with suppress(TargetError):
                self._session.run("ROLLBACK")
                if not self._session.rows(f"SELECT 1 AS n FROM {table} LIMIT 1"):
                    self._session.run(f"DROP TABLE {table}")
        for table, name in self._added:
            with suppress(TargetError):
                self._session.run("ROLLBACK")
                used = self._session.rows(f"SELECT 1 AS n FROM {table} WHERE {quoted(name)} IS NOT NULL LIMIT 1")
                if not used:
                    self._session.run(dropping(table, [name])[0])


def definition(session: Session, place: Place, name: str) -> Definition:
    """How the server declares a column: its line in SHOW CREATE TABLE."""
    (shown,) = session.rows(f"SHOW CREATE TABLE {in_sql(place)}")
    begins = f"  {quoted(name)} "
    (line,) = (line for line in shown["Create Table"].split("\n") if line.startswith(begins))
    (row,) = session.rows(
        "SELECT column_type AS kind, is_nullable AS empty, character_set_name AS signs, collation_name AS collation "
        "FROM information_schema.columns WHERE table_schema = %s AND table_name = %s AND column_name = %s",
        [*place, name],
    )
    collated = f" CHARACTER SET {row['signs']} COLLATE {row['collation']}" if row["collation"] else ""
    return Definition(f"{row['kind']}{collated}", line.removeprefix(begins).removesuffix(","), row["empty"] == "NO")


def depending(
    session: Session, place: Place, shape: TableShape, referring: Sequence[ForeignKey], name: str
) -> list[str]:
    """What needs a column. The server keeps no list of that: its texts are read."""
    found = rules_naming(shape, [name], referring)
    found += [f"the index {row['name']}" for row in session.rows(_INDEXES, [*place, name])]
    found += [f"the column {row['name']}" for row in session.rows(_MADE, place) if _names(row["text"], name)]
    found += [f"the trigger {row['name']}" for row in session.rows(_TRIGGERS, place) if _names(row["text"], name)]
    found += [f"the view {row['name']}" for row in session.rows(_VIEWS) if _views(row, place, name)]
    return list(dict.fromkeys(found))


def _views(row: dict[str, str], place: Place, name: str) -> bool:
    """Whether a view names the column of the table: its text has full names, in which tables have aliases."""
    if not all(f"`{part.replace('`', '``')}`".lower() in row["text"].lower() for part in (place[1], name)):
        return False  # the server quotes all names: most views are not worth parsing
    import sqlglot  # late: it takes longer to import than most tables to load
    from sqlglot import errors, exp

    try:
        text = sqlglot.parse_one(row["text"], dialect="mysql")
    except (errors.ParseError, errors.TokenError):
        return place[1] in row["text"] and name in row["text"]
    aliases = {
        one.alias_or_name
        for one in text.find_all(exp.Table)
        if one.name == place[1] and (one.db or row["s"]) == place[0]
    }
    return any(one.table in aliases and one.name.lower() == name.lower() for one in text.find_all(exp.Column))


def _names(text: str, name: str) -> bool:
    """Whether a text in SQL has a word or a quoted name that is the column's."""
    from sqlglot.dialects.mysql import MySQL
    from sqlglot.errors import TokenError

    try:
        return any(token.text.lower() == name.lower() for token in MySQL().tokenize(text))
    except TokenError:
        return name.lower() in text.lower()

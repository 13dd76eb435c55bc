"""Which columns an update may set to their own value: then records that change other columns share a statement."""

from tidymerge.databases.contract.database import Database
from tidymerge.model import Kind, TableShape, TargetColumn

_MOST = 62  # columns that a 64-bit number has bits for
_KINDS = frozenset(
    {Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT, Kind.TEXT, Kind.BOOLEAN, Kind.DATE, Kind.TIME, Kind.TIMESTAMP, Kind.UUID}
)
_OWN_FORMS = ("bit", "enum", "set(", "year")  # MariaDB's types that are shown as other values than they hold


def rewritable(database: Database, shape: TableShape) -> tuple[str, ...]:
    """The columns whose own value can be written with no effect: nothing of the table looks at them.

    Keys, unique columns and what refers to other tables are left out, as what is done about them goes by the columns
    that a statement names. So are those of checks, where only the named columns are held to them, and those of a
    domain's, which is tested again. A trigger may be for some columns only, so beside one nothing is rewritten.
    """
    if database.suspects(shape.name):
        return ()
    held = {name for names in (shape.primary_key, *shape.unique) for name in names}
    held |= {name for key in shape.foreign_keys for name in key.columns}
    always = database.traits.rechecks
    held |= {name for check in shape.checks if check.domain or not always for name in check.columns}
    free = [column.name for column in shape.columns if column.name not in held and _is_plain(column)]
    return tuple(free[:_MOST])


def _is_plain(column: TargetColumn) -> bool:
    kind = column.type
    is_own = column.foreign or column.generated or column.restamped or kind.declared.lower().startswith(_OWN_FORMS)
    return kind.kind in _KINDS and not is_own

"""What needs a column of a table, as far as the table's own shape tells: its keys, and checks of it."""

from collections.abc import Collection, Sequence

from tidymerge.model import ForeignKey, TableShape


def rules_naming(shape: TableShape, names: Collection[str], referring: Sequence[ForeignKey] = ()) -> list[str]:
    """The keys and checks that name one of the columns, in words; `referring` are other tables' foreign keys."""
    wanted = set(names)

    def some(columns: Sequence[str]) -> bool:
        return not wanted.isdisjoint(columns)

    found = [f"the primary key ({', '.join(shape.primary_key)})"] if some(shape.primary_key) else []
    found += [f"the unique columns ({', '.join(columns)})" for columns in shape.unique if some(columns)]
    found += [
        f"the foreign key ({', '.join(key.columns)}) to {key.table}" for key in shape.foreign_keys if some(key.columns)
    ]
    found += [f"the check {check.expression}" for check in shape.checks if some(check.columns)]
    return found + [
        f"the foreign key ({', '.join(key.columns)}) of {key.table}" for key in referring if some(key.referred)
    ]

"""A target table: its columns and what the database enforces on them."""

from collections.abc import Mapping

from msgspec import Struct, field

from tidymerge.model.columns import TargetColumn


class ForeignKey(Struct, frozen=True):
    """`columns` of the target must be found as `referred` columns of `table`.

    With `follows` the database changes them along when those change; `on_delete` is what it does when those go, in the
    words of SQL.
    """

    columns: tuple[str, ...]
    table: str
    referred: tuple[str, ...]
    follows: bool = False
    on_delete: str = ""


class Check(Struct, frozen=True):
    """A check constraint: its expression as the database itself wrote it, and the columns it names.

    A domain's check calls the one column it judges by another name, which is `domain`.
    """

    name: str
    expression: str
    columns: tuple[str, ...]
    domain: str | None = None


class TableShape(Struct, frozen=True):
    """A target table: its columns in order, and what the database enforces on them.

    `unique_names` are the columns of the unique constraints by the names that the database has for them in errors;
    `notes` say what is worth knowing of a write; `types_told` that the types are no declared ones but told by the data;
    `rewritable` are the columns that can be written as they are with no effect, so that one statement can do for
    records of which different columns change. Of new records the values of columns that
    are `told_late` are known only once they are there, where no row gives them.
    """

    name: str
    columns: tuple[TargetColumn, ...]
    primary_key: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    checks: tuple[Check, ...] = ()
    unique_names: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    types_told: bool = False
    rewritable: tuple[str, ...] = ()
    told_late: tuple[str, ...] = ()

    def column(self, name: str) -> TargetColumn:
        """The column of that exact name. Raises KeyError."""
        for column in self.columns:
            if column.name == name:
                return column
        raise KeyError(name)


class Definition(Struct, frozen=True):
    """How the target itself declares a column: as it can be added, all blank, and as it is once it has its values.

    One that is `required` may not be empty.
    """

    plain: str
    full: str
    required: bool = False


class NewColumn(Struct, frozen=True):
    """A column to add: its name, and its type as a job declares one, as in decimal(8, 2).

    One of a new table may be `required`: then it may not be empty. One that comes back has the `definition` that it
    had.
    """

    name: str
    type: str
    required: bool = False
    definition: Definition | None = None

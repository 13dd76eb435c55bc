"""The job files about records that are there: `[change]` or `[remove]` in place of `[incoming]`."""

from typing import Any

from pydantic import Field, model_validator

from tidymerge.job.file import limits_of, listed, rule_of
from tidymerge.job.model import Change, Removal
from tidymerge.job.parts import ColumnPart, LimitsPart, Strict, TargetPart, Word
from tidymerge.job.services import ServicePart

_SOURCES = {"from", "value", "compute", "stamp"}
_OF_LOADS = ("default", "blanks", "clear_mark", "update_when", "only_on")


class RemovePart(Strict):
    """Which records are meant."""

    where: Word | None = Field(None, description="The condition on the record's own columns.")
    every_record: bool = Field(default=False, description="Whether there is no condition: every record is meant.")

    @model_validator(mode="after")
    def _one_of_both(self) -> "RemovePart":
        if self.where and self.every_record:
            raise ValueError("give a condition with where, or every_record, not both")
        return self


class ChangePart(RemovePart):
    """Which records are meant, and what becomes of a change where some can't take their new values."""

    strict: bool = Field(default=False, description="Whether one rejected record stops the change.")
    drop: list[Word] = Field(default=[], description="Columns to take away, with all of their values; nothing is set.")


class WithReferringPart(RemovePart):
    """Which records are meant, and what becomes of those that refer to them."""

    with_referring: bool = Field(default=False, description="Whether all that refers to the records goes along.")
    archive: Word | dict[Word, Word] | None = Field(
        None, description="The table to which the records are copied first; or of each table = its archive."
    )
    create: bool = Field(default=False, description="Whether the archives are made.")
    stamps: list[Word] = Field(default=[], description="Columns of the archives that get the time of the run.")


class RemovalFile(Strict):
    """A Tidy Merge job that removes records."""

    remove: WithReferringPart
    target: TargetPart
    services: dict[str, ServicePart] = Field(
        default={}, description="How services behind HTTP are reached, by their hosts."
    )
    limits: LimitsPart = LimitsPart()

    @model_validator(mode="after")
    def _of_removals(self) -> "RemovalFile":
        if self.target.add or self.target.create or self.target.like:
            raise ValueError("target: a removal makes no table and adds no columns")
        return self

    def to_removal(self) -> Removal:
        """The removal that the file describes."""
        return Removal(
            target=self.target.at,
            where=self.remove.where,
            every_record=self.remove.every_record,
            with_referring=self.remove.with_referring,
            archive=_archives(self.remove.archive),
            create=self.remove.create,
            stamps=tuple(self.remove.stamps),
            key=listed(self.target.key),
            limits=limits_of(self.limits),
            types=self.target.types,
        )


def _archives(said: str | dict[str, str] | None) -> dict[str, str]:
    """The archives by the tables that they are for; an empty name is the target's."""
    return {"": said} if isinstance(said, str) else dict(said or {})


class ChangeFile(Strict):
    """A Tidy Merge job that changes records which are there."""

    change: ChangePart
    target: TargetPart
    columns: dict[str, Word | ColumnPart] = Field(
        default={}, description="Column = another column, or a table of what happens; without a source its own value."
    )
    services: dict[str, ServicePart] = Field(
        default={}, description="How services behind HTTP are reached, by their hosts."
    )
    limits: LimitsPart = LimitsPart()

    @model_validator(mode="before")
    @classmethod
    def _own_values(cls, data: Any) -> Any:
        """A column's table that names no source is about the column's own value."""
        columns = data.get("columns") if isinstance(data, dict) else None
        if not isinstance(columns, dict):
            return data
        full = {
            name: {"from": name, **part} if isinstance(part, dict) and not _SOURCES & set(part) else part
            for name, part in columns.items()
        }
        return {**data, "columns": full}

    @model_validator(mode="after")
    def _of_changes(self) -> "ChangeFile":
        for name, part in self.columns.items():
            given = [word for word in _OF_LOADS if isinstance(part, ColumnPart) and word in part.model_fields_set]
            if given:
                raise ValueError(f"columns.{name}: {given[0]} is for loads, and says nothing of records that are there")
            if isinstance(part, ColumnPart) and part.stamp == "file":
                raise ValueError(f"columns.{name}: there is no file to stamp; stamp is time or run here")
        if self.target.add or self.target.create or self.target.like:
            raise ValueError("target: a change makes no table and adds no columns")
        if not self.columns and not self.change.drop:
            raise ValueError("columns: say what to set, or in [change] what to drop")
        return self

    def to_change(self) -> Change:
        """The change that the file describes."""
        return Change(
            target=self.target.at,
            columns={name: rule_of(part, self.columns.values()) for name, part in self.columns.items()},
            where=self.change.where,
            every_record=self.change.every_record,
            key=listed(self.target.key),
            strict=self.change.strict,
            drop=tuple(self.change.drop),
            limits=limits_of(self.limits),
            types=self.target.types,
        )

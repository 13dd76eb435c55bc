"""The job file: TOML, checked strictly; and the job that it describes."""

from collections.abc import Iterable, Iterator
from typing import Any

from pydantic import Field, model_validator

from tidymerge.core.tidy.newer import Newer
from tidymerge.core.tidy.steps import (
    KEEP_VALUE,
    Cut,
    DateFormats,
    LetterCase,
    Match,
    NumberMarks,
    Pad,
    Replace,
    Step,
    TruthWords,
    ValueMap,
)
from tidymerge.core.warn.limits import parse_most
from tidymerge.job.model import Job
from tidymerge.job.parts import (
    ColumnPart,
    GreatestPart,
    IncomingPart,
    InstructionPart,
    LimitsPart,
    RulesPart,
    Strict,
    TablePart,
    TargetPart,
    Value,
    Word,
)
from tidymerge.job.services import ServicePart, services_of
from tidymerge.job.tables import TablesJob
from tidymerge.model import ReadOptions
from tidymerge.model.access import Services
from tidymerge.model.rules import Action, ColumnRule, Find, Instruction, Limits, Rules

_OF_EACH_TABLE = {"skip_when", "rows", "query", "cells"}
_ONWARD = {"newer_by", "newer_overlap", "only_changed", "once"}  # by which a job goes on where its last run ended


class JobFile(Strict):
    """A Tidy Merge job: everything but the incoming rows."""

    incoming: IncomingPart = IncomingPart()
    target: TargetPart | None = None
    columns: dict[str, Word | ColumnPart] = Field(
        {}, description="Target column = incoming column, or a table of what happens."
    )
    rules: RulesPart = RulesPart()
    limits: LimitsPart = LimitsPart()
    services: dict[str, ServicePart] = Field({}, description="How services behind HTTP are reached, by their hosts.")
    table: list[TablePart] = Field([], description="In place of [target] and [columns]: several tables in one run.")

    @model_validator(mode="after")
    def _one_or_several(self) -> "JobFile":
        if not self.table and self.target is None:
            raise ValueError("target is missing; a job has [target], or [[table]] for each of several tables")
        given = {"target", "columns", "rules", "limits"} & self.model_fields_set
        if self.table and given:
            raise ValueError(f"with [[table]], {min(given)} stands in each of the tables: leave one of both out")
        if self.table and self.incoming.model_fields_set & _OF_EACH_TABLE:
            raise ValueError("with [[table]], incoming only says where the rows are: the rest stands in each table")
        if self.table and (onward := sorted(self.incoming.model_fields_set & _ONWARD)):
            raise ValueError(f"{onward[0]} is for jobs of one table: it can't stand beside [[table]]")
        return self

    def to_job(self) -> Job | TablesJob:
        """The job that the file describes."""
        if self.table:
            return TablesJob(
                tuple(_of_table(part, self.incoming, services_of(self.services)) for part in self.table),
                listed(self.incoming.at or []),
            )
        at, target = self.incoming.at, self.target
        assert target is not None  # noqa: S101 - checked above
        return Job(
            incoming=() if at is None else listed(at),
            target=target.at,
            key=listed(target.key),
            types=target.types,
            add=target.add if isinstance(target.add, bool) else tuple(target.add),
            create=target.create,
            like=target.like,
            columns={name: rule_of(part, self.columns.values()) for name, part in self.columns.items()},
            rules=_rules(self.rules, self.incoming.skip_when),
            header_row=self.incoming.header_row,
            take_rows=self.incoming.rows,
            fill_down=listed(self.incoming.fill_down),
            each=listed(self.incoming.each),
            read=ReadOptions(
                self.incoming.delimiter,
                self.incoming.quote,
                self.incoming.encoding,
                self.incoming.cells,
                self.incoming.query,
                format=self.incoming.format,
                services=services_of(self.services),
            ),
            strict=self.rules.strict,
            save_rejects=self.rules.save_rejects,
            limits=limits_of(self.limits),
            newer=_newer(self.incoming),
            only_changed=self.incoming.only_changed,
            files_once=self.incoming.once,
        )


def _newer(incoming: IncomingPart) -> Newer | None:
    """By which column rows are new."""
    return None if incoming.newer_by is None else Newer(incoming.newer_by, overlap=incoming.newer_overlap)


def _of_table(part: TablePart, incoming: IncomingPart, services: Services) -> Job:
    """The job of one of several tables, whose rows may be named by their sheet alone."""
    return Job(
        incoming=listed(part.rows),
        target=part.at,
        key=listed(part.key),
        types=part.types,
        columns={name: rule_of(column, part.columns.values()) for name, column in part.columns.items()},
        rules=_rules(part.rules, part.skip_when),
        header_row=part.header_row or incoming.header_row,
        fill_down=listed(part.fill_down or incoming.fill_down),
        each=listed(part.each or incoming.each),
        read=ReadOptions(
            incoming.delimiter,
            incoming.quote,
            incoming.encoding,
            part.cells,
            part.query,
            format=incoming.format,
            services=services,
        ),
        strict=part.rules.strict,
        save_rejects=part.rules.save_rejects,
        limits=limits_of(part.limits),
    )


def listed(value: str | list[str]) -> tuple[str, ...]:
    """One or several words."""
    return (value,) if isinstance(value, str) else tuple(value)


def _text(value: Value | None) -> str | None:
    return None if value is None else str(value).lower() if isinstance(value, bool) else str(value)


def _pieces(part: ColumnPart, columns: Iterable[str | ColumnPart]) -> int | None:
    """How many pieces a text must have: as many as the columns that cut it alike take of it.

    One column alone may take the first piece or the last, with any number of others.
    """
    alike = [
        other.part
        for other in columns
        if isinstance(other, ColumnPart) and (other.from_, other.split) == (part.from_, part.split)
    ]
    if not part.split or part.rest == "drop" or min(alike) < 0 or alike == [1]:
        return None
    return max(alike)


def rule_of(part: str | ColumnPart, columns: Iterable[str | ColumnPart]) -> ColumnRule:
    """The rule of one column, of all `columns` of the job."""
    if isinstance(part, str):
        return ColumnRule(sources=(part,))
    find = part.find
    return ColumnRule(
        sources=listed(part.from_ or []),
        join=part.join,
        constant=_text(part.value),
        compute=part.compute,
        stamp=part.stamp,
        steps=tuple(_steps(part, columns)),
        find=None
        if find is None
        else Find(find.in_, find.where, find.take, missing_is_null=find.missing == "null", fold_case=find.fold_case),
        default=_text(part.default),
        blanks=part.blanks,
        clear_mark=part.clear_mark,
        update_when=part.update_when,
        only_on=None if part.only_on is None else Action(part.only_on),
    )


def _steps(part: ColumnPart, columns: Iterable[str | ColumnPart]) -> Iterator[Step]:
    """The steps that a column's table asks for, in the order in which they apply."""
    missing_is_null = part.missing == "null"
    if part.split:
        yield Cut(part.split, part.part, _pieces(part, columns), part.rest, missing_is_null)
    if part.pattern:
        yield Match(part.pattern, missing_is_null)
    if part.replace:
        yield Replace(tuple((step.pattern, step.with_) for step in part.replace))
    if part.case:
        yield LetterCase(part.case)
    if part.pad_to:
        yield Pad(part.pad_to, part.pad_with)
    if part.values:
        kept: dict[Any, str | None] = {"reject": None, "keep": KEEP_VALUE}
        values = {text: _text(value) or "" for text, value in part.values.items()}
        yield ValueMap(values, kept.get(part.otherwise, _text(part.otherwise)), part.fold_case)
    if part.decimal_mark or part.grouping or part.percent or part.currency:
        yield NumberMarks(part.decimal_mark, part.grouping, part.percent, part.currency)
    if part.true_words or part.false_words:
        yield TruthWords(tuple(part.true_words), tuple(part.false_words))
    if part.date_format:
        yield DateFormats(listed(part.date_format))


def _rules(rules: RulesPart, skip_when: str | None) -> Rules:
    greatest = rules.same_key_twice.greatest if isinstance(rules.same_key_twice, GreatestPart) else None
    return Rules(
        blanks=rules.blanks,
        clear_mark=rules.clear_mark,
        skip_when=skip_when,
        insert_when=rules.insert_when,
        update_when=rules.update_when,
        inserts=rules.inserts,
        updates=rules.updates,
        same_key_twice="greatest" if greatest else str(rules.same_key_twice),
        greatest=greatest,
        update_all=rules.several_records == "update-all",
        instruction=None if rules.instruction is None else _instruction(rules.instruction),
        append=rules.append,
        once=rules.once,
        absent=Action.REMOVE if rules.absent == "remove" else Action.UPDATE if isinstance(rules.absent, dict) else None,
        absent_sets={name: _text(value) or "" for name, value in rules.absent.items()}
        if isinstance(rules.absent, dict)
        else {},
        absent_within=rules.absent_within,
    )


def limits_of(part: LimitsPart) -> Limits:
    """The limits."""
    most = {
        what: None if given is None else parse_most(str(given), what)
        for what, given in (
            ("updated", part.updated), ("inserted", part.inserted), ("rejected", part.rejected),
            ("removed", part.removed),
        )
    }  # fmt: skip
    return Limits(
        **most,
        fewest_rows=part.fewest_rows,
        expect_updated=part.expect_updated,
        expect_inserted=part.expect_inserted,
        expect_removed=part.expect_removed,
    )


def _instruction(part: InstructionPart) -> Instruction:
    actions = {
        text: (Action.UPDATE, tuple(meaning)) if isinstance(meaning, list) else (Action(meaning), ())
        for text, meaning in part.values.items()
    }
    return Instruction(part.column, actions, part.blank)

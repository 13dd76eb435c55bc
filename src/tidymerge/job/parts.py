"""The parts of a job file, as models: they are its definition, and its JSON Schema comes from them."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from tidymerge.model.rules import Blanks

Word = Annotated[str, Field(min_length=1)]
Sign = Annotated[str, Field(min_length=1, max_length=1)]
Value = str | int | float | bool


class Strict(BaseModel):
    """Words that are not known are errors."""

    model_config = ConfigDict(extra="forbid", strict=True)


class IncomingPart(Strict):
    """Where the rows come from and which of them count."""

    at: Word | list[Word] | None = Field(
        None, description="One or more addresses or patterns, as in week*.xlsx#Inspections."
    )
    query: Word | None = Field(None, description="A query whose rows are loaded; `at` is then the database.")
    header_row: Annotated[int, Field(ge=1)] | None = Field(None, description="The row of the column names; else found.")
    rows: Word | None = Field(None, description="Only these rows, as in 3,7-12.")
    cells: Word | None = Field(None, description="Only this range of a sheet, as in B4:H40.")
    skip_when: Word | None = Field(
        None, description="Rows for which this condition on the incoming columns is true are skipped."
    )
    fill_down: Word | list[Word] = Field(
        [], description="Columns whose blank cells take the value above, as under cells that are merged."
    )
    each: Word | list[Word] = Field(
        [], description='Numbered columns that become rows, as in "Frame *": the number is the column `each`.'
    )
    newer_by: Word | None = Field(
        None, description="A column of dates or numbers: only rows are read that are as new as the last one before."
    )
    newer_overlap: Word | None = Field(None, description='How far to go back before that, as in "1 hour", or "100".')
    only_changed: bool = Field(
        default=False,
        description="Read only what changed since the last run of this job, where a list behind HTTP tells that.",
    )
    once: bool = Field(default=False, description="Take only files whose content was not loaded into the target.")
    delimiter: Sign | None = None
    quote: Sign | None = None
    encoding: Word | None = None
    format: Literal["csv", "tsv", "json", "jsonl"] | None = Field(
        None, description="What text holds rows, where no name of a file says it."
    )

    @model_validator(mode="after")
    def _one_way_on(self) -> "IncomingPart":
        if self.newer_overlap is not None and self.newer_by is None:
            raise ValueError("newer_overlap goes back from what newer_by names: say that, too")
        if self.newer_by is not None and self.only_changed:
            raise ValueError("newer_by and only_changed are two ways to read what is new: leave one of both out")
        return self


class TargetPart(Strict):
    """The table that the rows go into."""

    at: Word = Field(description="The table's address, as in coop.db#hives.")
    key: Word | list[Word] = Field([], description="The columns that find a record; else the primary key.")
    types: dict[str, Word] = Field(
        {},
        description='The types of columns of a file, and of new ones, as in "decimal(8, 2)"; else told by the data.',
    )
    add: bool | list[Word] = Field(
        default=False, description="Incoming columns to add where the target lacks them; true for all."
    )
    create: bool = Field(default=False, description="Whether the target is not there yet, and is made.")
    like: Word | None = Field(None, description="The table beside it whose structure the new one is to have.")


class FindPart(Strict):
    """A look-up in a table of the same target."""

    in_: Word = Field(alias="in", description="The table to look in.")
    where: Word = Field(description="Its column that holds what came.")
    take: Word = Field(description="Its column whose value is loaded.")
    missing: Literal["reject", "null"] = Field("reject", description="What to do when nothing is found.")
    fold_case: bool = Field(False, description="Whether texts are found in any letter case.")


class ReplacePart(Strict):
    """A replacement by regular expression (RE2)."""

    pattern: Word
    with_: str = Field("", alias="with")


class ColumnPart(Strict):
    """How one target column gets its value."""

    from_: Word | list[Word] | None = Field(None, alias="from", description="The incoming column, or several to join.")
    join: str = Field(" ", description="What stands between the texts of several columns.")
    value: Value | None = Field(None, description="The same value in every row.")
    compute: Word | None = Field(None, description="An expression over the incoming columns.")
    stamp: Literal["time", "run", "file"] | None = Field(
        None, description="Written with a record, but never a change by itself."
    )
    split: Word | None = Field(None, description="Cut the text at this, and take the piece number `part`.")
    part: int = Field(1, description="Which piece, from 1; -1 is the last.")
    rest: Literal["join", "drop"] | None = Field(
        None,
        description='What becomes of more pieces than the job uses: "join" leaves them with the last; else a reject.',
    )
    missing: Literal["reject", "null"] = Field(
        "reject", description="What to do where the piece, or what the pattern seeks, is not there."
    )
    pattern: Word | None = Field(
        None, description="Take what this regular expression finds: its first group, or all of it."
    )
    replace: list[ReplacePart] = []
    case: Literal["upper", "lower"] | None = None
    pad_to: Annotated[int, Field(ge=1)] | None = Field(None, description="Fill up to this length from the left.")
    pad_with: Sign = "0"
    values: dict[str, Value] = Field({}, description="What each text becomes.")
    fold_case: bool = Field(False, description="Whether `values` are found in any letter case.")
    otherwise: Value = Field(
        "reject", description='What a text that `values` lacks becomes: "reject", "keep", or a value.'
    )
    decimal_mark: Literal[".", ","] | None = None
    grouping: Sign | None = Field(None, description="What stands between groups of three digits.")
    percent: bool = Field(False, description="Whether 12 % means 0.12.")
    currency: Word | None = Field(None, description="Currency signs to leave out, with spaces between them.")
    date_format: Word | list[Word] = Field(
        [], description="How dates are written, as in %d/%m/%Y; several are tried in order."
    )
    true_words: list[Word] = []
    false_words: list[Word] = []
    find: FindPart | None = None
    default: Value | None = Field(None, description="The value of new records whose cell is blank.")
    blanks: Blanks | None = Field(None, strict=False, description="What a blank means in this column.")
    clear_mark: Word | None = Field(None, description="A cell that is just this clears the value.")
    update_when: Word | None = Field(None, description='"greater", "empty", or a condition on incoming and existing.')
    only_on: Literal["insert", "update"] | None = None

    @model_validator(mode="after")
    def _one_source(self) -> "ColumnPart":
        given = [
            name
            for name, value in (
                ("from", self.from_),
                ("value", self.value),
                ("compute", self.compute),
                ("stamp", self.stamp),
            )
            if value is not None
        ]
        if len(given) != 1:
            found = f"has {' and '.join(given)}" if given else "has none of them"
            raise ValueError(f"a column takes exactly one of from, value, compute and stamp; this one {found}")
        if "part" in self.model_fields_set and not self.split:
            raise ValueError("part needs split, which says where to cut")
        if self.part == 0:
            raise ValueError("pieces count from 1, or from the end with -1")
        if self.rest and not self.split:
            raise ValueError("rest needs split, which says where to cut")
        if "missing" in self.model_fields_set and not (self.split or self.pattern):
            raise ValueError("missing needs split or pattern; that of a look-up stands inside of find")
        if "otherwise" in self.model_fields_set and not self.values:
            raise ValueError("otherwise needs values, the map that lacks the text")
        if given[0] != "from" and any(getattr(self, name) for name in _NEEDS_FROM):
            raise ValueError(f"{', '.join(name for name in _NEEDS_FROM if getattr(self, name))} can only follow from")
        return self


_NEEDS_FROM = (
    "split", "pattern", "replace", "case", "pad_to", "values", "decimal_mark", "grouping", "percent", "currency",
    "date_format", "true_words", "false_words", "find", "clear_mark",
)  # fmt: skip


class GreatestPart(Strict):
    """Of several rows of one key, the one with the greatest value counts."""

    greatest: Word


class InstructionPart(Strict):
    """A column whose values say what to do with a row."""

    column: Word = Field(description="The incoming column.")
    values: dict[str, Literal["insert", "update", "skip", "remove"] | list[Word]] = Field(
        description='What each text means: "insert", "update", "skip", "remove", or the only columns to update.'
    )
    blank: Literal["reject", "skip", "load"] = Field(
        "reject", description='What a blank means; with "load" the key decides as without instructions.'
    )


class RulesPart(Strict):
    """What holds for all rows."""

    blanks: Blanks = Field(Blanks.KEEP, strict=False, description="What a blank cell does to an existing value.")
    clear_mark: Word | None = Field(None, description="A cell that is just this clears the value.")
    insert_when: Word | None = Field(None, description="New rows are inserted only where this is true.")
    update_when: Word | None = Field(None, description="Records are updated only where this is true.")
    inserts: bool = Field(True, description="Whether new records are inserted at all.")
    updates: bool = Field(True, description="Whether existing records are updated at all.")
    same_key_twice: Literal["reject", "first", "last", "keep-all"] | GreatestPart = "reject"
    several_records: Literal["reject", "update-all"] = Field(
        "reject", description="What to do where several records have one key."
    )
    instruction: InstructionPart | None = None
    absent: Literal["keep", "remove"] | Annotated[dict[Word, Value], Field(min_length=1)] = Field(
        "keep",
        description='What becomes of records that are on no row: "keep", "remove", or values for some columns.',
    )
    absent_within: Word | None = Field(
        None, description="Of which records the rows are the full list: a condition on their columns; else of all."
    )
    append: bool = Field(False, description="Whether every row is a new record, and none is looked for.")
    once: bool = Field(
        False, description="Whether rows count only once: those that were loaded before are not loaded again."
    )
    strict: bool = Field(False, description="Whether one rejected row stops the load.")
    save_rejects: bool = Field(True, description="Whether the rejected rows of a load are written to a new file.")


MostRows = (
    Annotated[int, Field(ge=0)] | Annotated[str, Field(pattern=r"^\s*\d+(\.\d+)?\s*%(\s*of\s+(target|incoming))?\s*$")]
)
Count = Annotated[int, Field(ge=0)]


class LimitsPart(Strict):
    """The brake: a load that would go over one of these is stopped, and nothing is written."""

    updated: MostRows | None = Field(
        None,
        description='The most rows updated: a number, or a share as in "20%" (of the target) or "20% of incoming".',
    )
    inserted: MostRows | None = Field(None, description="The most rows inserted: a number or a share of the target.")
    rejected: MostRows | None = Field(None, description="The most rows rejected: a number or a share of the incoming.")
    fewest_rows: Count | None = Field(None, description="The fewest rows that must have been read.")
    expect_updated: Count | None = Field(None, description="How many rows must be updated, exactly.")
    expect_inserted: Count | None = Field(None, description="How many rows must be inserted, exactly.")
    removed: MostRows | None = Field(None, description="The most records removed: a number or a share of the target.")
    expect_removed: Count | None = Field(None, description="How many records must be removed, exactly.")


class TablePart(Strict):
    """One of several tables that are loaded in one run: where its rows come from, and the rest of its job."""

    rows: Word | list[Word] = Field(
        [], description="A sheet of the incoming file, as in #Hives, or other addresses; else the incoming rows."
    )
    query: Word | None = Field(None, description="A query whose rows are loaded; `rows` is then the database.")
    header_row: Annotated[int, Field(ge=1)] | None = Field(None, description="The row of the column names; else found.")
    cells: Word | None = Field(None, description="Only this range of a sheet, as in B4:H40.")
    skip_when: Word | None = Field(
        None, description="Rows for which this condition on the incoming columns is true are skipped."
    )
    fill_down: Word | list[Word] = Field([], description="Columns whose blank cells take the value above.")
    each: Word | list[Word] = Field(
        [], description='Numbered columns that become rows, as in "Frame *": the number is the column `each`.'
    )
    at: Word = Field(description="The table's address, as in coop.db#hives.")
    key: Word | list[Word] = Field([], description="The columns that find a record; else the primary key.")
    types: dict[str, Word] = Field({}, description="The types of columns of a sheet; else told by the data.")
    columns: dict[str, Word | ColumnPart] = Field(
        {}, description="Target column = incoming column, or a table of what happens."
    )
    rules: RulesPart = RulesPart()
    limits: LimitsPart = LimitsPart()

"""Runs, and the story of a record, in their published form, `tidymerge-runs/1` (docs/receipt.md)."""

from typing import TypedDict

from tidymerge.model.request_form import RequestForm

FORMAT = "tidymerge-runs/1"


class OriginForm(TypedDict):
    """An address that rows came from, and the checksum of what was read there, if that was a file."""

    address: str
    sha256: str | None


class CountsForm(TypedDict):
    """Rows by what became of them."""

    inserted: int
    updated: int
    unchanged: int
    skipped: int
    rejected: int
    removed: int


class RunForm(TypedDict):
    """What the log has about a run, without its receipt."""

    run: str
    state: str
    settled: bool
    started: str
    user: str
    job: str | None
    incoming: list[OriginForm]
    target: str
    undoes: str | None
    undone_by: str | None
    request: RequestForm | None
    message: str | None
    rows: CountsForm | None
    fields_updated: int | None
    fingerprint: str | None


class RunsForm(TypedDict):
    """The runs that were asked for, the latest first."""

    format: str
    notes: list[str]
    runs: list[RunForm]


class ChangedFieldForm(TypedDict):
    """One field of a record before and after."""

    column: str
    before: str | None
    after: str | None


class StepForm(TypedDict):
    """What a run did to the record."""

    run: str
    started: str
    user: str
    incoming: list[str]
    undoes: str | None
    undone_by: str | None
    row: int
    outcome: str
    fields: list[ChangedFieldForm]


class StoryForm(TypedDict):
    """The story of a record, the earliest change first."""

    format: str
    notes: list[str]
    record: list[str]
    changes: list[StepForm]

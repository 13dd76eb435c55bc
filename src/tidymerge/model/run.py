"""A run as the log keeps it."""

from collections.abc import Mapping
from datetime import datetime

from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.model import Definition
from tidymerge.model.receipt import Receipt, Request, State
from tidymerge.model.structure import Structure


class OtherTable(Struct, frozen=True):
    """A further table of a run: what stands in the run's own fields for the first one, and its name."""

    called: str
    target: str
    key: tuple[str, ...]
    record_key: tuple[str, ...]
    marked: bool = False
    whole: bool = False
    definitions: Mapping[str, Definition] = field(default_factory=dict)
    structure: Structure | None = None


class Run(Struct, frozen=True):
    """One load, change or undo: who ran it, with which rows, into what, and how it ended.

    `files` are the incoming addresses with the SHA-256 of each that is a file; `target` is the address to open the
    target by again, without a password; `undoes` names the run that this one took back. `key` are the columns that
    the job found records by, `record_key` those that the log finds them by; with `marked`, exact text starts with a
    letter that is not part of the value. A run is not `settled` while it can't be known whether its commit
    lasted. `message` says why a run was stopped or failed. `latest` has the greatest value of each column of dates that
    was loaded, `newest` that of the column by which the next run of the job goes on. `request` is what was asked of
    records, where no rows came in. Rows of a run that is `once` are not loaded again, nor is a file of which a run
    `appends` the rows. With `whole`, no key finds a record: all that it holds does, and equal records are as good as
    each other. `definitions` are those of the columns that went. The table had the `structure` when the run ended, if
    that is known. Where only a part of it was taken, `holds` has the places of those changes in the log, by table.
    `others` are further tables in which it changed records; which of its `table`s this is about, and how that
    is `called`, where they are several.
    """

    name: str
    state: State
    started: datetime
    user: str
    target: str
    files: Mapping[str, str | None] = field(default_factory=dict)
    job: str | None = None
    undoes: str | None = None
    key: tuple[str, ...] = ()
    record_key: tuple[str, ...] = ()
    marked: bool = False
    settled: bool = True
    message: str | None = None
    latest: Mapping[str, str] = field(default_factory=dict)
    newest: Mapping[str, str] = field(default_factory=dict)
    receipt: Receipt | None = None
    request: Request | None = None
    once: bool = False
    appends: bool = False
    whole: bool = False
    definitions: Mapping[str, Definition] = field(default_factory=dict)
    structure: Structure | None = None
    others: tuple[OtherTable, ...] = ()
    table: int = 0
    called: str = ""
    holds: Mapping[int, tuple[int, ...]] | None = None

    @property
    def each(self) -> tuple["Run", ...]:
        """The run as one of each of its tables, as if it had touched nothing else."""
        if not self.others or self.receipt is None:
            return (self,)
        found = [replace(self, others=(), receipt=self.receipt.of_table(0))]
        for at, one in enumerate(self.others, start=1):
            found.append(
                replace(
                    self, others=(), table=at, receipt=self.receipt.of_table(at), called=one.called, target=one.target,
                    key=one.key,
                    record_key=one.record_key, marked=one.marked, whole=one.whole, definitions=one.definitions,
                    structure=one.structure,
                )
            )  # fmt: skip
        return tuple(found)

    @property
    def wrote(self) -> bool:
        """Whether it changed the target, or may have."""
        return self.state.wrote and self.receipt is not None and self.receipt.lasts

    @property
    def nothing_done(self) -> str:
        """How a run ended that changed nothing, after its name: "failed and changed nothing"."""
        if self.state is State.EXTRACTED:
            return "took rows out and changed nothing"
        if self.state is State.FAILED:
            return "failed and changed nothing"
        return "was stopped and changed nothing" if self.state is State.STOPPED else "found nothing to change"

    @property
    def added(self) -> Mapping[str, str]:
        """The columns that it gave the target, with their types as a job would declare them."""
        return self.receipt.tables[0].columns_added if self.receipt else {}

    @property
    def made(self) -> bool:
        """Whether it made the whole table."""
        return self.receipt is not None and self.receipt.tables[0].table_made

    @property
    def gone(self) -> bool:
        """Whether the whole table went with it."""
        return self.receipt is not None and self.receipt.tables[0].table_gone

    @property
    def dropped(self) -> Mapping[str, str]:
        """The columns that it took away again."""
        return self.receipt.tables[0].columns_dropped if self.receipt else {}

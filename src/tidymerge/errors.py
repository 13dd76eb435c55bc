"""Every error a person can meet, each with a stable code and an exit status.

    TidyMergeError                         exit
    ├── UsageError                            2   the command, the names or the options are wrong
    │   ├── BadAddress                            an address that can't be read
    │   ├── NoKey                                 no key given and none that serves
    │   ├── NoSuchColumn                          a named column that isn't there
    │   ├── AmbiguousColumn                       several columns fit one name
    │   ├── UnloadableColumn                      a column that the database computes, or of a type that can't be loaded
    │   ├── BadOption                             an option's value that makes no sense
    │   ├── BadSetting                            an environment variable of ours that makes no sense
    │   ├── BadJob                                a job file with a word or a value that it can't have
    │   ├── BadExpression                         a condition or computed value that can't be understood
    │   ├── NoSuchRun                             a run that the log does not have
    │   └── NotUndoable                           a run that wrote nothing, or whose columns are gone
    ├── SourceError                           1   the incoming rows can't be read
    │   ├── NoSuchFile
    │   ├── NoSuchSheet
    │   ├── BrokenFile                            not what its ending says, damaged, or badly quoted
    │   ├── WrongEncoding
    │   ├── SourceChanged                         a file that somebody wrote while it was read
    │   ├── NoRows                                nothing in it
    │   └── NoHeader                              no row that looks like column names
    ├── TargetError                           1   the target can't be read or written
    │   ├── NoSuchTable
    │   ├── NotATable                             a view or another thing that takes no rows
    │   ├── TargetUnreadable                      not a database, or damaged
    │   ├── TargetReadOnly
    │   ├── TargetLocked
    │   ├── TargetChanged                         others kept changing the records meanwhile
    │   ├── ServerAway                            no connection to the server, or it broke
    │   ├── SignInRefused                         a service lets nobody in like that
    │   ├── TargetFull
    │   ├── WriteRefused                          the database refused the write
    │   └── WrittenPartly                         a service took a part, which could not be taken back
    ├── ProofFailed                           1   the run didn't add up and was rolled back
    ├── LogError                              1   the run log can't be used
    │   ├── LogUnwritable                         no room, or no right to write there
    │   └── LogDamaged                            a file of the log that can't be read
    ├── NoRoom                                1   the temporary folder is full, or can't be written
    ├── MissingPackage                        1   an optional part is not installed
    ├── Interrupted                           1   Ctrl-C or SIGTERM
    └── Stopped                               4   a limit or an expectation was not met

The code of an error is its class name in lower case with dashes (`NoSuchSheet` is `no-such-sheet`);
`docs/errors.md` has a section for each, and a test keeps the two together.
"""

import inspect
import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, ClassVar

if TYPE_CHECKING:
    from tidymerge.model.receipt import Receipt


class TidyMergeError(Exception):
    """The root of all errors raised on purpose. Its message is what the person reads.

    What it says is there for programs too: each class declares its facts as attributes, None or empty where they are
    not known. All errors can be pickled, so that they find their way out of another process.

    `give` are ways past it, each a few settings by name (as in Python and in a job) with their values; the command
    line says what to type for them.
    """

    exit_status: ClassVar[int] = 1
    give: tuple[tuple[tuple[str, str], ...], ...] = ()

    def __init__(self, message: str = "", **facts: object) -> None:
        super().__init__(message)
        if unknown := set(facts) - self._declared():
            raise TypeError(f"{type(self).__name__} has no fact {min(unknown)}")
        self.tell(**facts)

    def tell(self, **facts: object) -> None:
        """Add facts that were not known where the error arose; those that were known stay. Only declared ones count."""
        for name, value in facts.items():
            if name in self._declared() and name not in self.__dict__:
                setattr(self, name, value)

    @classmethod
    def _declared(cls) -> set[str]:
        return {name for kind in cls.__mro__ for name in inspect.get_annotations(kind) if name != "exit_status"}

    @property
    def facts(self) -> dict[str, object]:
        """The facts that are known, by name."""
        return {name: value for name, value in self.__dict__.items() if name in self._declared()}

    def __reduce__(self) -> tuple[object, ...]:
        return _restored, (type(self), str(self), self.__dict__)

    @property
    def code(self) -> str:
        """The stable code: a heading in `docs/errors.md`."""
        return re.sub(r"(?<!^)(?=[A-Z])", "-", type(self).__name__).lower()


def _restored(kind: type[TidyMergeError], message: str, known: dict[str, object]) -> TidyMergeError:
    error = kind.__new__(kind)
    TidyMergeError.__init__(error, message)
    error.__dict__.update(known)
    return error


@contextmanager
def about(**facts: object) -> Iterator[None]:
    """Tell errors that come by what is known here, such as which target it is about."""
    try:
        yield
    except TidyMergeError as error:
        error.tell(**facts)
        raise


@contextmanager
def one_of_several(name: str, instead: str = "") -> Iterator[None]:
    """Let what is wrong with one of several tables say so by its `name`; ways past an error would be meant for all."""
    try:
        yield
    except UsageError as error:
        error.args = (f"{name}: {error}{instead if error.give else ''}",)
        error.give = ()
        raise


class UsageError(TidyMergeError):
    """The command, a name or an option is wrong; nothing was read or written."""

    exit_status = 2


class BadAddress(UsageError):
    """An address that is not of a known kind."""

    address: str | None = None


class NoKey(UsageError):
    """No key was given, and the target's primary key can't serve."""

    candidates: tuple[str, ...] = ()


class NoSuchColumn(UsageError):
    """A named column exists neither in the target nor in the incoming rows."""

    column: str | None = None
    known: tuple[str, ...] = ()


class AmbiguousColumn(UsageError):
    """More than one column fits a name."""

    column: str | None = None
    candidates: tuple[str, ...] = ()


class UnloadableColumn(UsageError):
    """The database computes the column itself, or its type is none that rows can be loaded into."""

    column: str | None = None


class BadOption(UsageError):
    """An option's value that makes no sense."""


class BadSetting(UsageError):
    """An environment variable `TIDYMERGE_…` whose value makes no sense."""

    setting: str | None = None


class BadJob(UsageError):
    """A job file that is not TOML, or says something that a job can't say."""

    file: str | None = None


class BadExpression(UsageError):
    """A condition or a computed value can't be understood, or its names or types don't fit."""

    expression: str | None = None


class NoSuchRun(UsageError):
    """The log has no such run, or several that begin so."""

    run: str | None = None


class NotUndoable(UsageError):
    """There is nothing to undo, or no longer a way to."""

    run: str | None = None


class SourceError(TidyMergeError):
    """The incoming rows can't be read."""

    address: str | None = None


class NoSuchFile(SourceError):
    """The file is not there, or is a folder, or may not be read."""


class NoSuchSheet(SourceError):
    """The workbook has no sheet of that name."""

    sheet: str | None = None
    known: tuple[str, ...] = ()


class BrokenFile(SourceError):
    """The file is damaged or is not what its ending says."""


class WrongEncoding(SourceError):
    """The bytes are not text in the encoding given or found."""


class SourceChanged(SourceError):
    """The file was written while it was read, so it can't be said which rows it had."""


class NoRows(SourceError):
    """The file or sheet is empty."""


class NoHeader(SourceError):
    """No row holds the names of the target's columns."""


class TargetError(TidyMergeError):
    """The target can't be read or written; it is as it was."""

    target: str | None = None


class NoSuchTable(TargetError):
    """The database has no table of that name, or none was named."""

    table: str | None = None
    known: tuple[str, ...] = ()


class NotATable(TargetError):
    """The address names a view or a virtual table."""


class TargetUnreadable(TargetError):
    """The file is not a database or is damaged."""


class TargetReadOnly(TargetError):
    """The database may not be written."""


class TargetLocked(TargetError):
    """Another program holds the database."""


class TargetChanged(TargetError):
    """Another program changed the records, or stood in the way, between reading and writing; it can be tried again."""


class ServerAway(TargetError):
    """No connection to the server can be made, or it was lost."""


class TargetFull(TargetError):
    """The disk is full or the file may not grow."""


class SignInRefused(TargetError):
    """A service behind HTTP does not let us in, or not to do that."""


class WriteRefused(TargetError):
    """The database refused the write for a reason of its own."""


class WrittenPartly(TargetError):
    """A service behind HTTP took a part of the changes, and not all of it could be taken back."""

    kept: tuple[str, ...] = ()


class ProofFailed(TidyMergeError):
    """The run did not add up; it was rolled back."""

    row: int | None = None
    column: str | None = None


class LogError(TidyMergeError):
    """The run log can't be used."""


class LogUnwritable(LogError):
    """The run log can't be written; nothing was loaded."""


class LogDamaged(LogError):
    """A file of the run log can't be read."""

    file: str | None = None


class NoRoom(TidyMergeError):
    """The temporary folder is full or can't be written; nothing was loaded."""


class MissingPackage(TidyMergeError):
    """An optional part is not installed; the message gives the install command."""

    package: str | None = None


class Interrupted(TidyMergeError):
    """The person or the system asked the program to end; what was not committed was rolled back."""


class Stopped(TidyMergeError):
    """A limit or an expectation was not met; nothing was written.

    `receipt` tells what would have been done; `reason` is limit, fingerprint, warnings, strict, hindered, needed or
    conflicts.
    """

    exit_status = 4
    receipt: "Receipt"
    reason: str | None = None


LOCKED = (
    "Another program holds what is needed at {place} locked, also after {seconds} seconds of waiting. "
    "Wait for it, or give TIDYMERGE_LOCK_WAIT more seconds, then run this again."
)

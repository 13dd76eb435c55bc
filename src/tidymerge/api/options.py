"""What the functions take by name, said once: each name is that of the command line's option, and means the same."""

from collections.abc import Callable, Mapping, Sequence
from os import PathLike
from typing import TYPE_CHECKING, Any, Literal, TypedDict

if TYPE_CHECKING:
    from tidymerge.model import ReadOptions
    from tidymerge.model.rules import Limits, Most

Place = str | PathLike[str]  # where a file is or goes
Names = str | Sequence[str]  # one name, or several
Tell = Callable[[str, int, int | None], object]  # the stage in words, rows done, rows expected if that is known
Format = Literal["csv", "tsv", "json", "jsonl"]


class Reading(TypedDict, total=False):
    """How a sheet or a text file is read; what is not said is found."""

    header_row: int | None  # the row of the column names, from 1
    delimiter: str | None
    quote: str | None
    encoding: str | None
    format: Format | None  # where no name of a file says it


class Pages(TypedDict, total=False):
    """The receipt as pages for people, and who is told how far the run has come."""

    page: Place | None  # .html
    summary: Place | None  # .md
    progress: Tell | None


class Views(Pages, total=False):
    """All of that, and the picture."""

    chart: Place | None  # .png


class LoadOptions(Reading, Views, total=False):
    """What `preview` and `load` take."""

    key: Names  # the target columns that find a record; else the primary key
    columns: Mapping[str, str] | None  # target column = incoming column, where the names differ
    only: Names  # the target columns that are loaded, beside the key
    add: bool | Names  # incoming columns that the target lacks and is to get; True for all
    rows: str | None  # only these, by number: 3,7-12
    cells: str | None  # only this range of a sheet: B4:H40
    query: str | None  # the rows of this SQL; the incoming address is then the database
    skip_when: str | None  # a condition on the incoming columns
    limits: "Limits | Mapping[str, int | str | Most] | None"  # as a whole, or by name: {"updated": "20%"}
    rejects: Place | Literal[False] | None  # the rejected rows as CSV; False: none are written
    conflicts: Place | None  # what a sheet that came back and others both changed
    marked: Place | None  # the sender's copy
    append: bool  # every row is a new record
    again: bool  # also rows that may count only once
    create: bool  # the target is not there yet, and is made
    like: str | None  # with the structure of this table
    base: str | None  # the extract from which the rows come back; "": they come as if for the first time
    prefer: Literal["sheet", "table"] | None  # whose value stays, where both changed it
    from_start: bool  # also rows that an earlier run read


def checked(function: str, given: Mapping[str, Any], known: type) -> dict[str, Any]:
    """What was given by name. Raises TypeError for a name that the function does not take, as any function does."""
    for name in given:
        if name not in known.__optional_keys__:  # type: ignore[attr-defined]
            raise TypeError(f"{function}() got an unexpected keyword argument {name!r}")
    return dict(given)


def read_options(given: Mapping[str, Any]) -> "ReadOptions":
    """How rows are to be read, of all that was given."""
    from tidymerge.model import ReadOptions

    names = ("delimiter", "quote", "encoding", "cells", "query", "format")
    return ReadOptions(**{name: given[name] for name in names if given.get(name) is not None})

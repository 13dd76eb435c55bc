"""The options that commands share, and the job they make."""

from typing import TYPE_CHECKING, Annotated

import typer

from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.job.model import Job
    from tidymerge.sources import ReadOptions

Into = Annotated[str, typer.Option("--into", metavar="TARGET", help="The table to load into, as in coop.db#hives.")]
Key = Annotated[
    list[str] | None,
    typer.Option(
        "--key",
        metavar="COLUMN",
        help="A target column that finds the record; repeat for several. Else the primary key.",
    ),
]
Map = Annotated[
    list[str] | None,
    typer.Option(
        "--map", metavar="TARGET=INCOMING", help="Feed a target column from an incoming column of another name; repeat."
    ),
]
Only = Annotated[
    list[str] | None,
    typer.Option("--only", metavar="COLUMN", help="Load only this target column (and the key); repeat."),
]
HeaderRow = Annotated[
    int | None,
    typer.Option("--header-row", metavar="ROW", help="The row of the column names, from 1. Else it is found."),
]
Delimiter = Annotated[
    str | None,
    typer.Option("--delimiter", metavar="SIGN", help="What separates the cells of a text file. Else it is found."),
]
Quote = Annotated[
    str | None, typer.Option("--quote", metavar="SIGN", help="What quotes the cells of a text file. Else it is found.")
]
Encoding = Annotated[
    str | None,
    typer.Option("--encoding", metavar="NAME", help="The encoding of a text file, such as cp1252. Else it is found."),
]
RejectsFile = Annotated[
    str | None, typer.Option("--rejects", metavar="FILE", help="Write the rejected rows and why to this CSV file.")
]
AsJson = Annotated[
    bool, typer.Option("--json", help="Print the receipt as JSON, and nothing else, to standard output.")
]


def read_options(delimiter: str | None, quote: str | None, encoding: str | None) -> "ReadOptions":
    """The options for reading text; a tab may be written as a backslash and a t."""
    from tidymerge.sources import ReadOptions

    return ReadOptions("\t" if delimiter == "\\t" else delimiter, quote, encoding)


def make_job(
    incoming: str,
    into: str,
    key: list[str] | None,
    mapped: list[str] | None,
    only: list[str] | None,
    header_row: int | None,
    read: "ReadOptions",
    *,
    strict: bool = False,
) -> "Job":
    """The job that the options describe. Raises BadOption."""
    from tidymerge.job.model import Job

    renames = {}
    for pair in mapped or ():
        target, equals, source = pair.partition("=")
        if not (target.strip() and equals and source.strip()):
            raise BadOption(f"--map takes TARGET=INCOMING, as in --map 'honey_kg=Honey (kg)', not {pair!r}.")
        if target.strip() in renames:
            raise BadOption(f"--map names the target column {target.strip()!r} twice; one incoming column can feed it.")
        renames[target.strip()] = source.strip()
    return Job(incoming, into, tuple(key or ()), renames, tuple(only or ()), header_row, read, strict)

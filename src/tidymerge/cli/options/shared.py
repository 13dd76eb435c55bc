"""The options that commands share, and the job they make."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

if TYPE_CHECKING:
    from tidymerge.model import ReadOptions
    from tidymerge.run.outputs import Outputs

Incoming = Annotated[
    str | None,
    typer.Argument(
        metavar="INCOMING",
        help="The rows to load, as in week32.xlsx#Inspections; - reads standard input. Else the job's.",
        show_default=False,
    ),
]
JobPath = Annotated[
    str | None,
    typer.Option(
        "--job", metavar="JOB", help="The job file, or - for standard input. What the command line says wins."
    ),
]
Into = Annotated[
    str | None,
    typer.Option("--into", metavar="TARGET", help="The table to load into, as in coop.db#hives. Else the job's."),
]
Rows = Annotated[str | None, typer.Option("--rows", metavar="ROWS", help="Load only these rows, as in 3,7-12.")]
Cells = Annotated[
    str | None, typer.Option("--cells", metavar="RANGE", help="Read only this range of a sheet, as in B4:H40.")
]
Query = Annotated[
    str | None,
    typer.Option("--query", metavar="SQL", help="Load the rows of this query; INCOMING is then the database."),
]
AddColumns = Annotated[
    bool, typer.Option("--add-columns", help="Add the incoming columns that the target lacks, typed from the data.")
]
AddColumn = Annotated[
    list[str] | None,
    typer.Option("--add-column", metavar="INCOMING", help="Add just this incoming column. Give it once a column."),
]
SkipWhen = Annotated[
    str | None,
    typer.Option("--skip-when", metavar="CONDITION", help="Skip rows for which this is true of the incoming cells."),
]
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
Create = Annotated[
    bool, typer.Option("--create", help="The target is not there yet: make it, typed from the data, with --key as key.")
]
Like = Annotated[
    str | None, typer.Option("--like", metavar="TABLE", help="Make the target with the structure of this table.")
]
Append = Annotated[bool, typer.Option("--append", help="Every row is a new record: none is looked for.")]
Again = Annotated[bool, typer.Option("--again", help="Load rows again that may count only once.")]
FromStart = Annotated[
    bool, typer.Option("--from-start", help="Read all rows and files, whatever the run before had (newer_by, once).")
]
Base = Annotated[
    str | None,
    typer.Option("--base", metavar="RUN", help="The extract from which the rows come back, where they don't say it."),
]
NoBase = Annotated[
    bool, typer.Option("--no-base", help="Load rows that were taken out as if they came for the first time.")
]
Format = Annotated[
    Literal["csv", "tsv", "json", "jsonl"] | None,
    typer.Option("--format", help="What the text is, where no name of a file says it, as for standard input."),
]
Prefer = Annotated[
    Literal["sheet", "table"] | None,
    typer.Option("--prefer", help="Whose value stays where the sheet and others changed the same field."),
]
Clashes = Annotated[
    str | None, typer.Option("--conflicts", metavar="FILE", help="Write fields that both sides changed to this CSV.")
]
RejectsFile = Annotated[
    str | None, typer.Option("--rejects", metavar="FILE", help="Write the rejected rows and why to this CSV file.")
]
NoRejects = Annotated[bool, typer.Option("--no-rejects", help="Write no file of the rejected rows.")]
Wait = Annotated[
    int | None,
    typer.Option(
        "--wait", metavar="SECONDS", min=0, help="Start again for so long where others change the same records."
    ),
]
Strict = Annotated[bool, typer.Option("--strict", help="Load nothing if any row is rejected.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask, and go ahead in spite of warnings.")]
Expect = Annotated[
    str | None,
    typer.Option(
        "--expect",
        metavar="FINGERPRINT",
        help="Go ahead only if the changes are those of the preview with this fingerprint.",
    ),
]
MostUpdated = Annotated[
    str | None,
    typer.Option("--most-updated", metavar="N|N%", help="Stop if more rows would be updated (% of the target)."),
]
MostInserted = Annotated[
    str | None,
    typer.Option("--most-inserted", metavar="N|N%", help="Stop if more rows would be inserted (% of the target)."),
]
MostRejected = Annotated[
    str | None,
    typer.Option("--most-rejected", metavar="N|N%", help="Stop if more rows are rejected (% of the rows read)."),
]
FewestRows = Annotated[
    int | None, typer.Option("--fewest-rows", metavar="N", min=0, help="Stop if fewer rows were read.")
]
ExpectUpdated = Annotated[
    int | None,
    typer.Option("--expect-updated", metavar="N", min=0, help="Stop unless exactly so many rows would be updated."),
]
ExpectInserted = Annotated[
    int | None,
    typer.Option("--expect-inserted", metavar="N", min=0, help="Stop unless exactly so many rows would be inserted."),
]
TrustTriggers = Annotated[
    bool, typer.Option("--trust-triggers", help="Accept what the target's own triggers change, with a note.")
]
Marked = Annotated[
    str | None,
    typer.Option(
        "--marked", metavar="FILE", help="Write a copy of the incoming rows with what became of each, .xlsx or .csv."
    ),
]
Page = Annotated[
    str | None, typer.Option("--page", metavar="FILE", help="Write the receipt as a page to this .html file.")
]
Chart = Annotated[
    str | None, typer.Option("--chart", metavar="FILE", help="Write the tally and the changes as a picture, .png.")
]
Summary = Annotated[
    str | None, typer.Option("--summary", metavar="FILE", help="Write the receipt as Markdown to this .md file.")
]
Script = Annotated[
    str | None,
    typer.Option("--sql", metavar="FILE", help="Write the changes as SQL to this .sql file: for reading, never run."),
]
Rest = Annotated[
    bool, typer.Option("--rest", help="Leave the records that can't be put back as they are, and undo the rest.")
]
Conflicts = Annotated[
    str | None,
    typer.Option("--conflicts", metavar="FILE", help="Write the records that can't be put back to this CSV file."),
]
Quiet = Annotated[bool, typer.Option("--quiet", help="Print nothing unless it fails or is stopped, and ask nobody.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print the result as JSON, and nothing else, to standard output.")]


def limits(**given: str | int | None) -> dict[str, Any]:
    """The limits that options name, as far as they were given: those that are texts may be shares. Raises BadOption."""
    from tidymerge.core.warn.limits import parse_most

    said = {what: limit for what, limit in given.items() if limit is not None}
    return {what: parse_most(limit, what) if isinstance(limit, str) else limit for what, limit in said.items()}


def outputs(*, no_rejects: bool = False, **given: str | None) -> "Outputs":
    """The files that options name, as far as they were given."""
    from tidymerge.run.outputs import Outputs

    paths: dict[str, Any] = {name: Path(text) for name, text in given.items() if text is not None}
    return Outputs(**paths, save_rejects=not no_rejects)


def read_options(
    delimiter: str | None,
    quote: str | None,
    encoding: str | None,
    cells: str | None = None,
    query: str | None = None,
    form: str | None = None,
) -> "ReadOptions":
    """The options for reading; a tab may be written as a backslash and a t."""
    from tidymerge.model import ReadOptions

    return ReadOptions("\t" if delimiter == "\\t" else delimiter, quote, encoding, cells, query, format=form)

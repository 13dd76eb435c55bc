"""The options that commands share, and the job they make."""

from dataclasses import asdict, fields, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from tidymerge.job.model import Job
    from tidymerge.rules import Limits
    from tidymerge.sources import ReadOptions

Incoming = Annotated[
    str | None,
    typer.Argument(
        metavar="INCOMING",
        help="The rows to load, as in week32.xlsx#Inspections; - reads CSV from standard input. Else the job's.",
        show_default=False,
    ),
]
JobPath = Annotated[
    str | None,
    typer.Option("--job", metavar="JOB", help="The job file. What is given on the command line wins over it."),
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
RejectsFile = Annotated[
    str | None, typer.Option("--rejects", metavar="FILE", help="Write the rejected rows and why to this CSV file.")
]
Strict = Annotated[bool, typer.Option("--strict", help="Load nothing if any row is rejected.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask, and go ahead in spite of warnings.")]
Expect = Annotated[
    str | None,
    typer.Option(
        "--expect",
        metavar="FINGERPRINT",
        help="Load only if the changes are those of the preview with this fingerprint.",
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
AsJson = Annotated[
    bool, typer.Option("--json", help="Print the receipt as JSON, and nothing else, to standard output.")
]


def path(text: str | None) -> Path | None:
    """The file that an option names, if it was given."""
    return None if text is None else Path(text)


def read_options(
    delimiter: str | None, quote: str | None, encoding: str | None, cells: str | None = None, query: str | None = None
) -> "ReadOptions":
    """The options for reading; a tab may be written as a backslash and a t."""
    from tidymerge.sources import ReadOptions

    return ReadOptions("\t" if delimiter == "\\t" else delimiter, quote, encoding, cells, query)


def make_limits(
    updated: str | None,
    inserted: str | None,
    rejected: str | None,
    fewest_rows: int | None,
    expect_updated: int | None,
    expect_inserted: int | None,
) -> "Limits":
    """The limits given on the command line. Raises BadOption."""
    from tidymerge.core.limits import parse_most
    from tidymerge.rules import Limits

    given = (("updated", updated), ("inserted", inserted), ("rejected", rejected))
    most = {what: None if text is None else parse_most(text, what) for what, text in given}
    return Limits(**most, fewest_rows=fewest_rows, expect_updated=expect_updated, expect_inserted=expect_inserted)


def _set(limits: "Limits") -> dict[str, Any]:
    return {field.name: getattr(limits, field.name) for field in fields(limits)}


def make_job(
    path: str | None,
    incoming: str | None,
    into: str | None,
    key: list[str] | None,
    mapped: list[str] | None,
    only: list[str] | None,
    header_row: int | None,
    rows: str | None,
    skip_when: str | None,
    read: "ReadOptions",
    limits: "Limits",
    *,
    strict: bool = False,
    trust_triggers: bool = False,
) -> "Job":
    """The job in the file at `path`, if one is given, with what the command line says over it. Raises UsageError."""
    from tidymerge.job.model import Job

    base = Job((), "")
    if path is not None:
        from tidymerge.job.reading import read_job

        base = read_job(Path(path))
    over = {
        "incoming": (incoming,) if incoming is not None else None,
        "target": into,
        "key": tuple(key or ()) or None,
        "renames": _pairs(mapped) or None,
        "only": tuple(only or ()) or None,
        "header_row": header_row,
        "take_rows": rows,
        "rules": replace(base.rules, skip_when=skip_when) if skip_when else None,
        "strict": strict or None,
        "trust_triggers": trust_triggers or None,
        "limits": replace(base.limits, **{name: value for name, value in _set(limits).items() if value is not None}),
    }
    given = {name: value for name, value in asdict(read).items() if value is not None}
    changes: dict[str, Any] = {name: value for name, value in over.items() if value is not None}
    job = replace(base, **changes, read=replace(base.read, **given))
    if not job.incoming:
        raise BadOption(
            "Say which rows to load: INCOMING, as in week32.xlsx#Inspections, or `at` in the job's [incoming]."
        )
    if not job.target:
        raise BadOption("Say which table to load into: --into coop.db#hives, or a job file with --job.")
    return job


def _pairs(mapped: list[str] | None) -> dict[str, str]:
    renames: dict[str, str] = {}
    for pair in mapped or ():
        target, equals, source = pair.partition("=")
        if not (target.strip() and equals and source.strip()):
            raise BadOption(f"--map takes TARGET=INCOMING, as in --map 'honey_kg=Honey (kg)', not {pair!r}.")
        if target.strip() in renames:
            raise BadOption(f"--map names the target column {target.strip()!r} twice; one incoming column can feed it.")
        renames[target.strip()] = source.strip()
    return renames

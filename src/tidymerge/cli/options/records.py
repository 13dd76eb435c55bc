"""The options of commands about records that are there."""

from typing import Annotated

import typer

Target = Annotated[
    str | None,
    typer.Argument(metavar="TARGET", help="The table, as in coop.db#hives. Else the job's.", show_default=False),
]
JobPath = Annotated[
    str | None,
    typer.Option("--job", metavar="JOB", help="A job with [change]. What is given on the command line wins over it."),
]
RemovalJob = Annotated[
    str | None,
    typer.Option("--job", metavar="JOB", help="A job with [remove]. What is given on the command line wins over it."),
]
Sets = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        metavar="COLUMN=EXPRESSION",
        help="Set this column, as in 'honey_kg = honey_kg * 1.05'; repeat. All are worked out from before.",
    ),
]
DropColumn = Annotated[
    list[str] | None,
    typer.Option("--drop-column", metavar="COLUMN", help="Take this column away, with all of its values; repeat."),
]
Where = Annotated[str | None, typer.Option("--where", metavar="CONDITION", help="Only records for which this is true.")]
Keys = Annotated[
    str | None,
    typer.Option("--keys", metavar="FILE", help="Rows that name the records by their key, in place of a condition."),
]
WithReferring = Annotated[
    bool, typer.Option("--with-referring", help="Remove along what refers to the records, and what refers to that.")
]
Archive = Annotated[
    list[str] | None,
    typer.Option(
        "--archive",
        metavar="TABLE",
        help="Copy the records there first; REFERRING=TABLE for those of a table that refers to them. Repeat.",
    ),
]
CreateArchive = Annotated[bool, typer.Option("--create", help="The archives are not there yet: make them.")]
Stamp = Annotated[
    list[str] | None,
    typer.Option("--stamp", metavar="COLUMN", help="A column of the archives that gets the time of the run; repeat."),
]
EveryRecord = Annotated[bool, typer.Option("--every-record", help="There is no condition: every record is meant.")]
Key = Annotated[
    list[str] | None,
    typer.Option("--key", metavar="COLUMN", help="A column that names the record; repeat. Else the table's key."),
]
Preview = Annotated[bool, typer.Option("--preview", help="Only show what would be done.")]
MostUpdated = Annotated[
    str | None,
    typer.Option("--most-updated", metavar="N|N%", help="Stop if more records would change (% of the target)."),
]
MostRejected = Annotated[
    str | None, typer.Option("--most-rejected", metavar="N|N%", help="Stop if more records can't take their new value.")
]
ExpectUpdated = Annotated[
    int | None,
    typer.Option("--expect-updated", metavar="N", min=0, help="Stop unless exactly so many records would change."),
]
Rejects = Annotated[
    str | None, typer.Option("--rejects", metavar="FILE", help="Write the rejected records to this CSV file.")
]
Strict = Annotated[bool, typer.Option("--strict", help="Do nothing if any record is rejected.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask.")]
MostRemoved = Annotated[
    str | None,
    typer.Option("--most-removed", metavar="N|N%", help="Stop if more records would go (% of the target). Else 10%."),
]
ExpectRemoved = Annotated[
    int | None,
    typer.Option("--expect-removed", metavar="N", min=0, help="Stop unless exactly so many records would go."),
]

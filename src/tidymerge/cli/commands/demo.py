"""`tidymerge demo`: the whole tour on demo data."""

import os
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidymerge.errors import BadOption

if TYPE_CHECKING:
    from rich.console import Console

_SHEET, _TABLE, _JOB, _REJECTS = "week32.xlsx#Inspections", "coop.db#hives", "week.toml", "week32-rejects.csv"
_LOAD = ["load", "--job", _JOB, "--rejects", _REJECTS, "--yes"]
_MARKED, _PAGE, _CHART = "week32-marked.xlsx", "week32.html", "week32.png"
_SEASON_JOB, _SEASON_REJECTS, _SEASON_PAGE = "season.toml", "season-rejects.csv", "season.html"
_VIEWS = ["--marked", _MARKED, "--page", _PAGE]
_INTO_LIST = [
    "load", _SHEET, "--into", "hives.xlsx#HiveList", "--key", "Apiary code", "--key", "Hive no.", "--add-column",
    "Weather", "--most-rejected", "30%", "--rejects", "list-rejects.csv", "--yes",
]  # fmt: skip
_OF_RECORDS = (
    (
        "8. The co-operative raises the fee of keepers who have a mentor by five per cent.",
        ["change", "coop.db#keepers", "--set", "fee = fee * 1.05", "--where", "mentor_id is not null", "--yes",
         "--most-updated", "100%"],
    ),
    (
        "9. One colour has two spellings: settle it.",
        ["change", _TABLE, "--set", "queen_colour = 'green'", "--where", "queen_colour = 'Green'", "--yes"],
    ),
    (
        "10. A keeper retires: the hives in his care go to an archive, and their inspections with them.",
        ["remove", _TABLE, "--where", "keeper_id = 4", "--with-referring", "--archive", "hives_gone", "--archive",
         "inspections=inspections_gone", "--create", "--stamp", "archived_at", "--most-removed", "30%", "--yes"],
    ),
    ("11. He comes back after all: one command takes all of it back.", ["undo", "last", "--yes"]),
    (
        "12. The season's workbook goes into four tables at once. What would that do?",
        ["preview", "--job", _SEASON_JOB],
    ),
    (
        "13. Load it: all tables or none. New keepers get their ids from the database, and hives refer to them.",
        ["load", "--job", _SEASON_JOB, "--rejects", _SEASON_REJECTS, "--page", _SEASON_PAGE, "--yes"],
    ),
)  # fmt: skip
_RULE = "─" * 100


def demo(
    context: typer.Context,
    folder: Annotated[
        str, typer.Argument(metavar="FOLDER", help="Where to make the demo's database and workbook.")
    ] = "tidymerge-demo",
    fresh: Annotated[
        bool, typer.Option("--fresh", help="Only make the files, with nothing loaded yet, to try things by hand.")
    ] = False,
    serve: Annotated[
        bool,
        typer.Option("--serve", help="Make the files, and serve the database as lists behind HTTP, until Ctrl-C."),
    ] = False,
    port: Annotated[
        int | None,
        typer.Option("--port", min=1, max=65535, metavar="NUMBER", help="With --serve: where; else a free one."),
    ] = None,
) -> None:
    """Make a co-operative's database and workbooks; look, draft, preview, load, change, archive, undo."""
    from tidymerge.cli.screen import output
    from tidymerge.demo import chair
    from tidymerge.demo.data import DATABASE, LIST, WORKBOOK, finish_job, make_demo
    from tidymerge.demo.season import SEASON
    from tidymerge.model import ReadOptions
    from tidymerge.run.draft import draft_job

    out = output.console()
    path = Path(folder)
    own = {DATABASE, WORKBOOK, LIST, SEASON, _JOB, _REJECTS, _MARKED, _PAGE, _CHART, "list-rejects.csv"}
    _check_folder(path, own | {_SEASON_JOB, _SEASON_REJECTS, _SEASON_PAGE, *chair.FILES})
    if port is not None and not serve:
        raise BadOption("A port is for the lists that are served.", give=((("serve", ""),),))
    make_demo(path)
    if serve:
        _serve(out, path, DATABASE, port or 0)
        return
    out.print(f"Made {path / DATABASE} (a co-operative's hives) and {path / WORKBOOK} (this week's inspections).")
    os.chdir(path)
    job = Path(_JOB)
    job.unlink(missing_ok=True)
    if fresh:
        job.write_text(finish_job(draft_job(_SHEET, _TABLE, job, None, ReadOptions(), None)[0]), encoding="utf-8")
        out.print(f"The job {path / _JOB} loads this week's sheet; nothing is loaded yet. See what it would do:")
        out.print(f"  tidymerge preview --job {path / _JOB}")
        return
    _tour(context, out, path, job)


def _tour(context: typer.Context, out: "Console", path: Path, job: Path) -> None:
    """All steps of the demo, one after the other."""
    _step(context, out, "1. What is in the sheet that came this week?", ["look", _SHEET])
    _step(
        context, out, "2. Draft a job that feeds the hives from it.", ["draft", _SHEET, "--into", _TABLE, "--out", _JOB]
    )
    _finish_job(out, job)
    _step(context, out, "4. What would loading do? Nothing is written yet.", ["preview", "--job", _JOB])
    _step(
        context,
        out,
        "5. Load it. (On a terminal, load shows the preview and asks; --yes goes ahead.)",
        [*_LOAD, *_VIEWS, *(["--chart", _CHART] if _can_draw() else [])],
    )
    _step(context, out, "6. Load the same sheet again: there is nothing left to change.", _LOAD)
    _step(context, out, "7. The chair has a list of the hives in a workbook, with formulas and a chart.", _INTO_LIST)
    for words, command in _OF_RECORDS:
        _step(context, out, words, command)
    _out_and_back(context, out)
    _lists(context, out)
    _step(context, out, "20. What was done so far, by whom, with which file?", ["runs", "--since", "1 hour"])
    _try_next(out, path)


def _serve(out: "Console", path: Path, database: str, port: int) -> None:
    """Serve the database's tables as lists, and say what can be tried with them."""
    from rich.text import Text

    from tidymerge.demo.lists.serve import serve

    def ready(root: str) -> None:
        out.print(f"The tables of {path / database} are lists now, at {root} (OData 4.01, on this machine only).")
        out.print("It ends with Ctrl-C. In another terminal, in the same folder:\n")
        for words, command in (
            ("what lists there are", f"tidymerge look {root}"),
            (
                "what the week's sheet would do",
                f"tidymerge preview {path / 'week32.xlsx'}#Inspections --into '{root}#hives'",
            ),
            (
                "a list into the chair's workbook",
                (
                    f"tidymerge preview '{root}#hives' --into {path / 'hives.xlsx'}#HiveList "
                    "--key 'Apiary code' --key 'Hive no.'"
                ),
            ),
            ("a list, to be edited and brought back", f"tidymerge extract '{root}#keepers' --out keepers.xlsx"),
        ):
            out.print(Text.assemble((f"# {words}\n", "dim"), f"  {command}"))

    serve(path / database, port, ready)


def _out_and_back(context: typer.Context, out: "Console") -> None:
    """Rows go out, are edited, and come back, while somebody else was at work."""
    from tidymerge.demo import chair

    chair.make_visit(Path())
    words = "14. The chair takes the hives of one apiary out, to correct a few cells at home."
    _step(context, out, words, ["extract", _TABLE, "--where", chair.APIARY, "--out", chair.SHEET])
    _say(out, "15. The chair edits three cells:")
    for line in chair.edit_sheet(Path(chair.SHEET)):
        out.print(f"    {line}")
    words = "16. Meanwhile a warden was there, and loads the visit: the same field of hive 2, and another one."
    _step(context, out, words, ["load", chair.VISIT, "--into", _TABLE, "--yes"])
    words = "17. The chair's sheet comes back: only edited cells are loaded, and what both changed is said."
    back = ["load", chair.SHEET, "--rejects", chair.REJECTS, "--conflicts", chair.CONFLICTS, "--yes"]
    _step(context, out, words, back)


def _lists(context: typer.Context, out: "Console") -> None:
    """Load into a list behind HTTP, and from it into a workbook, if the packages for that are installed."""
    from tidymerge.demo import chair
    from tidymerge.demo.data import DATABASE

    if not all(find_spec(name) for name in ("httpx", "starlette", "uvicorn")):
        _say(out, "18., 19. Lists behind HTTP need packages more: pip install 'tidymerge[http,demo]'")
        return
    from tidymerge.demo.lists.serve import served

    with served(Path(DATABASE)) as root:
        words = "18. The same tables as lists behind HTTP (OData), by a stand-in. A warden's late rows go into one."
        _step(context, out, words, ["load", chair.LATE, "--into", f"{root}#hives", "--yes"])
        words = "19. And the list, as it is now, goes into the chair's workbook."
        into = ["--into", "hives.xlsx#HiveList", "--key", "Apiary code", "--key", "Hive no."]
        _step(context, out, words, ["load", f"{root}#hives", *into, "--most-updated", "100%", "--yes"])


def _finish_job(out: "Console", job: Path) -> None:
    """Show the drafted job, and what is added to it by hand."""
    from tidymerge.demo.data import finish_job

    out.print()
    out.print(job.read_text(encoding="utf-8"))
    _say(out, "3. Finish the job by hand: old news must not overwrite new.")
    before = job.read_text(encoding="utf-8").splitlines()
    job.write_text(finish_job("\n".join(before)), encoding="utf-8")
    out.print("Added to week.toml:\n")
    for line in job.read_text(encoding="utf-8").splitlines():
        if line and line not in before:
            out.print(f"    {line}")


def _can_draw() -> bool:
    """Whether the package that draws charts is installed."""
    return find_spec("matplotlib") is not None


def _say(out: "Console", words: str) -> None:
    from rich.text import Text

    out.print(Text.assemble(f"\n{_RULE}\n", (words, "bold")))


def _step(context: typer.Context, out: "Console", words: str, arguments: list[str]) -> None:
    """Say what comes, show the command, and run it as the program would."""
    from rich.text import Text

    from tidymerge.cli.screen import output

    _say(out, words)
    out.print(Text(f"$ tidymerge {_as_typed(arguments)}", "green"))
    status = context.find_root().command.main(arguments, "tidymerge", standalone_mode=False)
    if status == output.WITH_REJECTS:
        out.print(Text(f"(exit status {status}: done, some rows rejected)", "dim"))


def _as_typed(arguments: list[str]) -> str:
    def quoted(text: str) -> str:
        mark = '"' if "'" in text else "'"
        return f"{mark}{text}{mark}" if " " in text else text

    return " ".join(map(quoted, arguments))


def _try_next(out: "Console", path: Path) -> None:
    from rich.text import Text

    from tidymerge.demo import chair
    from tidymerge.demo.data import DATABASE, LIST

    _say(out, f"To look at and to try next, in the folder {path}:")
    for words, command in (
        ("the receipt as a page, to open in a browser", _PAGE),
        ("the tally as a picture, for a mail", _CHART if _can_draw() else "pip install 'tidymerge[charts]'"),
        ("the sender's sheet, with what became of each row", _MARKED),
        ("the chair's list, with what was loaded and a new column", LIST),
        ("see the rejected rows and why", f"tidymerge look {_REJECTS}"),
        ("correct them in the file, then load it", f"tidymerge load {_REJECTS} --job {_JOB}"),
        ("next week, give only the new workbook", f"tidymerge load week33.xlsx --job {_JOB}"),
        ("take back a load: RUN is its name above", "tidymerge undo RUN"),
        ("the season's receipt as a page", _SEASON_PAGE),
        ("the chair's sheet, as it came back", chair.SHEET),
        ("how the list and the table differ now", f"tidymerge compare {LIST}#HiveList {_TABLE}"),
        ("see all tables", f"tidymerge look {DATABASE}"),
    ):
        out.print(Text.assemble(f"  {command:<56}", (words, "dim")))


def _check_folder(path: Path, ours: set[str]) -> None:
    """Make sure that nothing of anybody's is overwritten. Raises BadOption."""
    if path.exists() and not path.is_dir():
        raise BadOption(f"{path} is a file; name a folder for the demo.")
    others = [name.name for name in path.iterdir() if name.name not in ours] if path.is_dir() else []
    if others:
        raise BadOption(
            f"The folder {path} holds other things (such as {min(others)}); name a new folder for the demo."
        )

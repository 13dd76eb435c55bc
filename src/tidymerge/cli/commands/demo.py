"""`tidymerge demo`: the whole tour on demo data."""

import os
from pathlib import Path
from typing import Annotated

import typer

from tidymerge.errors import BadOption

_SHEET, _TABLE = "week32.xlsx#Inspections", "coop.db#hives"
_REJECTS = "week32-rejects.csv"
_STEPS = (
    ("What is in the sheet that came this week?", ["look", _SHEET]),
    ("What would loading it into the hives do? Nothing is written yet.", ["preview", _SHEET, "--into", _TABLE]),
    ("Load it. (On a terminal, load shows the preview and asks; --yes goes ahead.)",
     ["load", _SHEET, "--into", _TABLE, "--rejects", _REJECTS, "--yes"]),
    ("Load the same sheet again: there is nothing left to change.",
     ["load", _SHEET, "--into", _TABLE, "--rejects", _REJECTS, "--yes"]),
)  # fmt: skip


def demo(
    folder: Annotated[
        str, typer.Argument(metavar="FOLDER", help="Where to make the demo's database and workbook.")
    ] = "tidymerge-demo",
) -> None:
    """Make a co-operative's database and a messy workbook, and look, preview, load and load again."""
    from rich.text import Text

    from tidymerge.cli import output
    from tidymerge.cli.app import app
    from tidymerge.demo.data import DATABASE, WORKBOOK, make_demo

    out = output.console()
    path = Path(folder)
    _check_folder(path, {DATABASE, WORKBOOK, _REJECTS})
    make_demo(path)
    out.print(f"Made {path / DATABASE} (a co-operative's hives) and {path / WORKBOOK} (this week's inspections).")
    os.chdir(path)
    for number, (words, arguments) in enumerate(_STEPS, start=1):
        out.print(Text.assemble(f"\n{'─' * 100}\n", (f"{number}. {words}", "bold")))
        out.print(Text(f"$ tidymerge {' '.join(arguments)}", "green"))
        status = app(arguments, standalone_mode=False)
        if status == output.WITH_REJECTS:
            out.print(Text(f"(exit status {status}: done, some rows rejected)", "dim"))
    out.print(Text(f"\n{'─' * 100}\nTry next, in the folder {path}:", "bold"))
    for words, command in (
        ("see the rejected rows and why", f"tidymerge look {_REJECTS}"),
        ("mend them in the file, then load it", f"tidymerge load {_REJECTS} --into {_TABLE}"),
        ("see all tables", f"tidymerge look {DATABASE}"),
    ):
        out.print(Text.assemble(f"  {command:<58}", (words, "dim")))


def _check_folder(path: Path, ours: set[str]) -> None:
    """Make sure that nothing of anybody's is overwritten. Raises BadOption."""
    if path.exists() and not path.is_dir():
        raise BadOption(f"{path} is a file; name a folder for the demo.")
    others = [name.name for name in path.iterdir() if name.name not in ours] if path.is_dir() else []
    if others:
        raise BadOption(
            f"The folder {path} holds other things (such as {min(others)}); name a new folder for the demo."
        )

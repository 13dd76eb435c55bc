"""`tidymerge explain`: what an error means, and what to do about it."""

import re
from difflib import get_close_matches
from typing import Annotated

import typer

from tidymerge.errors import BadOption

Code = Annotated[
    str | None, typer.Argument(metavar="CODE", help="The words in brackets at the end of an error, as in no-key.")
]


def explain(code: Code = None) -> None:
    """Say what an error means and what to do about it; without a code, list them all."""
    from rich.markdown import Markdown

    from tidymerge.cli.screen import output
    from tidymerge.cli.screen.draw import grid
    from tidymerge.reports.errors_page import sections

    known, out = sections(), output.console()
    if code is None:
        listed = grid("What can go wrong", ("code", "exit status", "what"))
        for name, text in known.items():
            status, _, rest = _plain(text).partition(". ")
            listed.add_row(name, status.removeprefix("Exit status "), rest.partition(". ")[0].rstrip(".") + ".")
        out.print(listed)
        return
    found = code.strip().strip("()").removeprefix("tidymerge explain ").lower()
    if found not in known:
        near = get_close_matches(found, known, 1)
        meant = f"Did you mean {near[0]}?" if near else "Without a code it lists them all."
        raise BadOption(f"There is no error {code!r}. {meant}")
    if out.is_terminal:
        out.print(Markdown(f"## {found}\n\n{_without_links(known[found])}"))
    else:
        out.print(f"{found}\n\n{_without_links(known[found])}")


def _without_links(text: str) -> str:
    """The words of links: where they lead is a page of the documents."""
    return re.sub(r"\[([^]]+)\]\([^)]+\)", r"\1", text)


def _plain(text: str) -> str:
    """The text on one line, without its marks."""
    return " ".join(_without_links(text).replace("`", "").split())

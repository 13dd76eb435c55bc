"""`tidymerge schema`: the definition of job files, and of what is printed and kept for programs."""

from typing import Annotated

import typer

from tidymerge.errors import BadOption


def schema(
    name: Annotated[
        str, typer.Argument(metavar="NAME", help="Of what: job, receipt, runs, changes, comparison, draft, look, log.")
    ] = "job",
) -> None:
    """Print a JSON Schema: of job files, so that an editor completes and checks them, or of what programs read."""
    from tidymerge.cli.screen import output
    from tidymerge.run.schemas import SCHEMAS

    if name not in SCHEMAS:
        raise BadOption(f"There are schemas of {', '.join(SCHEMAS)}, but not of {name!r}.")
    output.print_json(SCHEMAS[name]())

"""What the functions of the Python interface share."""

from collections.abc import Sequence
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from tidymerge.run.outputs import Outputs


def names(given: str | Sequence[str]) -> tuple[str, ...]:
    """One name, or several."""
    return (given,) if isinstance(given, str) else tuple(given)


def outputs(rejects: str | PathLike[str] | Literal[False] | None) -> "Outputs":
    """Where rejected rows go: to that file, to a new one, or with False to none."""
    from tidymerge.run.outputs import Outputs

    return Outputs(rejects=Path(rejects) if rejects else None, save_rejects=rejects is not False)

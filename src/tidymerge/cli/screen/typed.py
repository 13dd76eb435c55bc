"""What to type: the settings of an error or a receipt, as options of the command line."""

import shlex
from collections.abc import Iterable, Mapping
from types import MappingProxyType

from tidymerge.errors import TidyMergeError

# Settings whose option has another name than they have.
_OPTIONS: Mapping[str, str] = MappingProxyType({"columns": "--map", "accept_warnings": "--yes"})


def typed(settings: Iterable[tuple[str, str]]) -> str:
    """Settings as they are typed: --key apiary_code --header-row 4."""
    words = []
    for name, value in settings:
        words += [_OPTIONS.get(name, f"--{name.replace('_', '-')}"), *([shlex.quote(value)] if value else [])]
    return " ".join(words)


def hint(error: TidyMergeError) -> str:
    """The sentence that says what to type to get past an error; nothing where there is no such thing."""
    ways = " or ".join(typed(way) for way in error.give)
    return f" Type {ways}." if ways else ""

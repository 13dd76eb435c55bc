"""What the shell completes: sheets and tables of an address, runs of the log, columns of a table.

Nothing is ever said here: what can't be found is not offered.
"""

import contextlib
import inspect
import shlex
from collections.abc import Callable, Iterable, Mapping
from functools import wraps
from os import environ
from pathlib import Path
from types import MappingProxyType
from typing import Any, TypeVar

import typer
from typer.models import ParameterInfo

Offered = TypeVar("Offered")
_MOST_RUNS = 50
_OF_COLUMNS = ("into", "target", "first", "address")  # what names the table whose columns are meant, the best first


def _silent(offer: Callable[..., list[Offered]]) -> Callable[..., list[Offered]]:
    """The same, which offers nothing where something is wrong."""

    @wraps(offer)
    def offered(*given: object, **named: object) -> list[Offered]:
        with contextlib.suppress(Exception):
            return offer(*given, **named)
        return []

    return offered


@_silent
def addresses(incomplete: str) -> list[str]:
    """The sheets of a workbook or the tables of a database, once their file is named; files are the shell's matter."""
    place, mark, part = incomplete.partition("#")
    return [f"{place}#{name}" for name in _parts(place) if name.startswith(part)] if mark else []


@_silent
def runs(incomplete: str) -> list[tuple[str, str]]:
    """The last runs, with what they were."""
    from tidymerge.history.folder import FolderLog

    log = FolderLog()
    names = [name for name in log.names() if name.startswith(incomplete)][:_MOST_RUNS]
    known = ((name, log.read(name)) for name in names)
    found = [(name, f"{run.state.value} {run.started:%Y-%m-%d %H:%M} {run.target}") for name, run in known]
    return [("last", "the latest")] * "last".startswith(incomplete) + found


@_silent
def columns(ctx: typer.Context, incomplete: str) -> list[str]:
    """The columns of the table that the command names."""
    from tidymerge.address import is_server
    from tidymerge.core.naming.header import ROWS_SEARCHED, guess_header
    from tidymerge.databases import is_database
    from tidymerge.model import ReadOptions
    from tidymerge.sources import open_source
    from tidymerge.targets import open_target

    named = [str(ctx.params[name]) for name in _OF_COLUMNS if ctx.params.get(name)]
    address = next(iter([*named, *_addresses_typed()]))
    names: Iterable[str]
    if is_server(address):  # a shell does not wait for a network
        return []
    if is_database(address):
        with open_target(address, write=False) as target:
            names = [column.name for column in target.describe().columns]
    else:
        head = open_source(address, ReadOptions()).head(ROWS_SEARCHED)
        names = [name.strip() for name in head[guess_header(head)] if name.strip()]
    return [name for name in names if name.startswith(incomplete)]


@_silent
def codes(incomplete: str) -> list[str]:
    """The codes of errors."""
    from tidymerge.reports.errors_page import sections

    return [code for code in sections() if code.startswith(incomplete)]


_BY_METAVAR: Mapping[str, Callable[..., Any]] = MappingProxyType(
    {
        **dict.fromkeys(("ADDRESS", "TARGET", "INCOMING", "FIRST", "SECOND"), addresses),
        **dict.fromkeys(("RUN", "RUN|TIME"), runs),
        "COLUMN": columns,
        "CODE": codes,
    }
)


def completed(command: Callable[..., None]) -> Callable[..., None]:
    """The command, with completion for each of its parameters whose word in the help says what it is."""
    for parameter in inspect.signature(command).parameters.values():
        for info in getattr(parameter.annotation, "__metadata__", ()):
            if isinstance(info, ParameterInfo) and info.metavar is not None and info.metavar in _BY_METAVAR:
                info.autocompletion = _BY_METAVAR[info.metavar]
    return command


def _addresses_typed() -> list[str]:
    """The files among the words that are typed: one before an option that waits for its value is not parsed yet."""
    typed = environ.get("_TYPER_COMPLETE_ARGS") or environ.get("COMP_WORDS", "")
    return [word for word in shlex.split(typed) if Path(word.partition("#")[0]).expanduser().is_file()]


def _parts(place: str) -> list[str]:
    """The names of what is in a file: the sheets of a workbook, the tables of a database."""
    from tidymerge.databases import is_database
    from tidymerge.model import ReadOptions
    from tidymerge.ports.target import AmongOthers
    from tidymerge.sources import open_source
    from tidymerge.targets import open_target

    if not Path(place).expanduser().is_file():
        return []
    if not is_database(place):
        return [name for name, *_ in open_source(place, ReadOptions()).sheets()]
    with open_target(place, write=False) as target:
        return [name for name, *_ in target.tables()] if isinstance(target, AmongOthers) else []

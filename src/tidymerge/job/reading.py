"""Reading a job file: what is wrong in it is said with file, line and the word that was probably meant."""

import re
import sys
import tomllib
from collections.abc import Callable, Iterator, Sequence
from difflib import get_close_matches
from pathlib import Path
from typing import Any, TypeVar, get_args

from msgspec.structs import replace
from pydantic import BaseModel, ValidationError

from tidymerge.address import STANDARD_INPUT, is_server, local
from tidymerge.errors import BadJob, NoSuchFile
from tidymerge.job.change_file import ChangeFile, RemovalFile
from tidymerge.job.file import JobFile
from tidymerge.job.model import Change, Job, Removal, is_archive_file
from tidymerge.job.services import placed
from tidymerge.job.tables import TablesJob
from tidymerge.model.access import NO_SERVICES

AnyJob = Job | TablesJob | Change | Removal
Form = TypeVar("Form", bound=BaseModel)


def read_job(path: Path) -> Job | TablesJob:
    """The job in a file; addresses in it count from the file's folder. Raises NoSuchFile and BadJob."""
    job, file = parse_job(read_text(path), _named(path)).to_job(), _file(path)
    if isinstance(job, TablesJob):
        at = tuple(_under(path.parent, text) for text in job.at)
        return replace(job, tables=tuple(_placed(one, path.parent) for one in job.tables), at=at, file=file)
    return replace(_placed(job, path.parent), file=file)


def read_change(path: Path) -> Change:
    """The change in a file; its address counts from the file's folder. Raises NoSuchFile and BadJob."""
    change = _about_records(path, "change", ChangeFile).to_change()
    return replace(change, target=_under(path.parent, change.target), file=_file(path))


def read_removal(path: Path) -> Removal:
    """The removal in a file; its address counts from the file's folder. Raises NoSuchFile and BadJob."""
    removal = _about_records(path, "remove", RemovalFile).to_removal()
    archive = {
        table: _under(path.parent, name) if is_archive_file(name) else name for table, name in removal.archive.items()
    }
    return replace(removal, target=_under(path.parent, removal.target), archive=archive, file=_file(path))


def read_any(path: Path) -> AnyJob:
    """Whatever kind of job is in a file. Raises NoSuchFile and BadJob."""
    data, _ = _data(read_text(path), _named(path))
    read: dict[str, Callable[[Path], AnyJob]] = {"change": read_change, "remove": read_removal}
    return next((read[part] for part in read if part in data), read_job)(path)


def _about_records(path: Path, part: str, form: type[Form]) -> Form:
    name = _named(path)
    data, text = _data(read_text(path), name)
    if part not in data:
        raise BadJob(f"{name} has no [{part}], so it is no job for that.", file=name)
    return _checked(form, data, text, name)


def _named(path: Path) -> str:
    """The job file as messages call it."""
    return "standard input" if str(path) == STANDARD_INPUT else str(path)


def _file(path: Path) -> str | None:
    """The job file as the log knows it; a job on standard input is none."""
    return None if str(path) == STANDARD_INPUT else str(path.absolute())


def read_text(path: Path) -> str:
    """The text of a job file, or of standard input. Raises NoSuchFile and BadJob."""
    try:
        if str(path) == STANDARD_INPUT:
            return sys.stdin.buffer.read().decode("utf-8-sig")
        if path.exists() and not path.is_file():
            raise NoSuchFile(f"The job file {path} is no regular file.", address=str(path))
        return path.read_text(encoding="utf-8-sig")  # some editors put a byte-order mark before it
    except OSError as error:
        raise NoSuchFile(f"The job file {path} can't be read: {error.strerror}.", address=str(path)) from None
    except UnicodeDecodeError:
        raise BadJob(f"{_named(path)} is not UTF-8 text, which TOML files are.", file=_named(path)) from None


def parse_job(text: str, name: str) -> JobFile:
    """Check the text of a job file. `name` is the file's, for messages. Raises BadJob."""
    data, text = _data(text, name)
    for part in ("change", "remove"):
        if part in data:
            raise BadJob(
                f"{name} has [{part}]: it is about records that are there, and has no rows to load.", file=name
            )
    return _checked(JobFile, data, text, name)


def _data(text: str, name: str) -> tuple[dict[str, Any], str]:
    try:
        return tomllib.loads(text), text
    except RecursionError:
        raise BadJob(f"{name} is nested too deeply.", file=name) from None
    except tomllib.TOMLDecodeError as error:
        raise BadJob(f"{name} is not valid TOML: {error}.", file=name) from None


def _checked(form: type[Form], data: dict[str, Any], text: str, name: str) -> Form:
    try:
        return form.model_validate(data)
    except ValidationError as error:
        raise BadJob("; ".join(_complaints(form, error, text, name)), file=name) from None


def _complaints(form: type[BaseModel], error: ValidationError, text: str, name: str) -> Iterator[str]:
    seen = set()
    for found in error.errors():
        if found["type"].endswith("_type") and isinstance(found["input"], dict) and len(error.errors()) > 1:
            continue  # a table where a word could stand too: what is wrong inside it is said by itself
        path = [str(step) for step in found["loc"] if not _is_branch(str(step))]
        complaint = f"{name}, line {_line(text, path)}: {'.'.join(path)}{_words(form, found, path)}".replace(
            ": : ", ": "
        )
        if (place := tuple(path)) not in seen:
            seen.add(place)
            yield complaint


def _is_branch(step: str) -> bool:
    """Whether a step of an error's path names a choice of types, which no person wrote."""
    return bool(
        re.fullmatch(r"(str|int|float|bool|list\[.*\]|literal\[.*\]|constrained-str|function-.*|[A-Z]\w*Part)", step)
    )


def _words(form: type[BaseModel], found: Any, path: Sequence[str]) -> str:
    if found["type"] == "extra_forbidden":
        known = _known_words(form, path[:-1])
        close = get_close_matches(path[-1], known, n=1)
        hint = f"did you mean {close[0]}?" if close else f"known here are {', '.join(known)}"
        return f" is not a known word; {hint}"
    if found["type"] == "missing":
        return " is missing"
    if found["type"] == "value_error":
        return f": {found['ctx']['error']}"
    return f": {found['msg'][:1].lower()}{found['msg'][1:]}, not {found['input']!r}"


def _known_words(form: type[BaseModel], path: Sequence[str]) -> list[str]:
    """The words that the job file knows at a place."""
    model: Any = form
    for step in path:
        if model is None:
            return []
        field = next((f for n, f in model.model_fields.items() if (f.alias or n) == step), None)
        model = _model_in(field.annotation) if field is not None else model
    return [field.alias or name for name, field in model.model_fields.items()] if model else []


def _model_in(annotation: Any) -> type[BaseModel] | None:
    """The model that a field's type holds, in a union, a list or a table."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    return next((model for inner in get_args(annotation) if (model := _model_in(inner))), None)


def _line(text: str, path: Sequence[str]) -> int:
    """The line where the last word of a path stands, or as much of the path as can be found."""
    lines = text.splitlines()
    at = 0
    for step in path:
        word = re.compile(rf"(?:^|[\[{{,.\s\"']){re.escape(step)}(?:[\"']?\s*=|[\"']?\]|[\"']?\.)")
        at = next((number for number in range(at, len(lines)) if word.search(lines[number])), at)
    return at + 1


def _placed(job: Job, folder: Path) -> Job:
    """The job with the addresses that it names relative to its file's folder."""
    return replace(
        job,
        incoming=tuple(_under(folder, text) for text in job.incoming),
        target=_under(folder, job.target),
        read=replace(job.read, services=placed(job.read.services or NO_SERVICES, folder)),
    )


def _under(folder: Path, address: str) -> str:
    if address in ("", STANDARD_INPUT) or address.startswith("#") or is_server(address) or folder == Path():
        return address
    name, mark, part = local(address).partition("#")
    return f"{folder / name}{mark}{part}"  # which is the address itself where that begins at the root

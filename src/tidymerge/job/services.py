"""How services behind HTTP are reached, as a job file says it: `[services."lists.example.org"]`."""

import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any

from msgspec.structs import replace
from pydantic import Field, ValidationError, field_validator

from tidymerge.job.parts import Strict, Word
from tidymerge.model.access import NO_SERVICES, Access, Services

_SECRET_HEADERS = ("authorization", "proxy-authorization", "cookie")


class ServicePart(Strict):
    """One host: who we are there, and how it is asked."""

    headers: dict[str, Word] = Field({}, description="Headers of each request; ${NAME} is an environment variable.")
    token_command: list[Word] = Field([], description="A command, with its arguments, that prints a bearer token.")
    ca_file: Word | None = Field(None, description="The certificates to trust there, in place of the usual ones.")
    plain_http: bool = Field(default=False, description="Whether it may be asked without encryption.")
    changes_at_once: Annotated[int, Field(ge=1, le=10_000)] | None = Field(
        None, description="How many changes are sent in one set; else 100."
    )

    @field_validator("headers")
    @classmethod
    def _not_written_out(cls, headers: dict[str, str]) -> dict[str, str]:
        for name, text in headers.items():
            if name.lower() in _SECRET_HEADERS and "${" not in text:
                raise ValueError(f"{name} is secret: name an environment variable, as in ${{LISTS_TOKEN}}")
        return headers


def services_of(parts: Mapping[str, ServicePart]) -> Services:
    """The services by their hosts."""
    return {host.lower(): _access(part) for host, part in parts.items()} if parts else NO_SERVICES


def _access(part: ServicePart) -> Access:
    return Access(part.headers, tuple(part.token_command), part.ca_file, part.plain_http, part.changes_at_once)


def placed(services: Services, folder: Path) -> Services:
    """The services with files that count from a folder."""
    return {
        host: replace(one, ca_file=None if one.ca_file is None else str(folder / one.ca_file))
        for host, one in services.items()
    }


def services_in(file: str | None) -> Services:
    """What a job file says of services; nothing where it is gone or can't be read by now."""
    if file is None:
        return NO_SERVICES
    try:
        said: dict[str, Any] = tomllib.loads(Path(file).read_text(encoding="utf-8-sig")).get("services", {})
        parts = {host: ServicePart.model_validate(one) for host, one in said.items()}
    except (OSError, ValueError, AttributeError, ValidationError):
        return NO_SERVICES
    return placed(services_of(parts), Path(file).parent)

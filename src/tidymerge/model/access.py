"""How a service behind HTTP is reached."""

from collections.abc import Mapping
from types import MappingProxyType
from urllib.parse import urlsplit

from msgspec import Struct, field

from tidymerge.address import Address


class Access(Struct, frozen=True):
    """What a job says of one host: headers with `${NAME}` as written, a command that prints a token, its own CA file.

    With `plain_http` it may be asked without encryption. `changes_at_once` are sent in one set, where that is
    said.
    """

    headers: Mapping[str, str] = field(default_factory=dict)
    token_command: tuple[str, ...] = ()
    ca_file: str | None = None
    plain_http: bool = False
    changes_at_once: int | None = None


Services = Mapping[str, Access]  # by host, with its port where the address has one
NO_SERVICES: Services = MappingProxyType({})


def access_to(address: Address, services: Services) -> Access:
    """What is said of the host of an address; where nothing is, as the settings have it."""
    host = urlsplit(address.server or "").netloc.rpartition("@")[2].lower()
    return services.get(host) or Access()

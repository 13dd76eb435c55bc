"""Opening a target for a run."""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from types import MappingProxyType

from tidymerge.address import reopened
from tidymerge.errors import about
from tidymerge.model.access import NO_SERVICES, Services
from tidymerge.ports.progress import Progress, Quiet
from tidymerge.ports.target import Target
from tidymerge.run.outputs import Outputs
from tidymerge.targets import open_target

NO_OUTPUTS = Outputs()
QUIET: Progress = Quiet()
_NONE: Mapping[str, str] = MappingProxyType({})


@contextmanager
def opened(
    address: str,
    *,
    write: bool,
    types: Mapping[str, str] = _NONE,
    firmly: bool = False,
    create: bool = False,
    services: Services = NO_SERVICES,
) -> Iterator[Target]:
    """A target, opened; what goes wrong there names its address. One to `create` is not there yet."""
    with about(target=reopened(address)):
        with about(address=reopened(address)):
            found = open_target(address, write=write, types=types, firmly=firmly, create=create, services=services)
        with found as target:
            yield target

"""One service over HTTP: what is asked and answered, who is let in, what is waited for, and what is never done.

Redirects are not followed and no link leads to another host, as what signs us in would go there, too.
"""

import email.utils
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

import msgspec

from tidymerge.address import Address
from tidymerge.errors import (
    BadAddress,
    MissingPackage,
    ServerAway,
    SignInRefused,
    TargetLocked,
    TargetUnreadable,
)
from tidymerge.model.access import Access
from tidymerge.services.odata.columns import decoded
from tidymerge.services.odata.metadata import Metadata, parsed
from tidymerge.services.sign_in import Secrets, secrets_of
from tidymerge.settings import answer_wait, changes_at_once, most_unpacked, wait

if TYPE_CHECKING:
    import ssl

    import httpx

JSON = "application/json;odata.metadata=minimal;IEEE754Compatible=true"
BUSY = (429, 503)
GONE = 410
_LOOPBACK = ("localhost", "127.0.0.1", "::1")
_CONNECT_WAIT = 15.0  # seconds
_LONGEST_WORDS = 300  # signs of what a service says, in an error


class Answer(msgspec.Struct, frozen=True):
    """What came back: the status, the headers with names in lower case, and the body."""

    status: int
    headers: Mapping[str, str]
    body: bytes

    @property
    def is_good(self) -> bool:
        """Whether what was asked was done."""
        return 200 <= self.status < 300  # noqa: PLR2004 - the statuses that say so

    def said(self) -> str:
        """The status, and what the service says of what went wrong, cut if it is long."""
        words = ""
        with suppress(msgspec.DecodeError, AttributeError, TypeError, KeyError, UnicodeDecodeError):
            if "text/plain" in self.headers.get("content-type", ""):
                words = " ".join(self.body.decode().split())
            else:
                words = str(msgspec.json.decode(self.body)["error"]["message"])
        return f"status {self.status}: {words[:_LONGEST_WORDS]}" if words else f"status {self.status}"


class LinkGone(TargetUnreadable):
    """What a link leads to is no longer there (status 410)."""


class Session:
    """The connection to a service at an address. Raises BadAddress, MissingPackage, and what a request raises."""

    def __init__(self, address: Address, access: Access) -> None:
        self._address = address
        self.place = address.place
        url = urlsplit(address.server or "")
        self.host = url.netloc.rpartition("@")[2].lower()
        if url.query:
            raise BadAddress(
                f"The address of a service ends with its root, as in https://lists.example.org/coop/, not with "
                f"?{url.query[:20]}…"
            )
        if url.scheme.lower() == "http" and url.hostname not in _LOOPBACK and not access.plain_http:
            raise BadAddress(
                f"{self.place} is not encrypted (http), so that others could read what is sent. Use https, or set "
                f"plain_http = true for {self.host} in the job."
            )
        self._root = f"{url.scheme.lower()}://{self.host}{url.path.rstrip('/')}/"
        self.changes_at_once = access.changes_at_once or changes_at_once()
        self._secrets: Secrets = secrets_of(address, self.host, access)
        self._client = self._made_client(url.scheme.lower(), access)
        try:
            self.metadata, self.version = self._described()
        except BaseException:
            self.close()
            raise
        self.filters_lists = self.batches_json  # `in` is known since 4.01, too

    def _made_client(self, scheme: str, access: Access) -> "httpx.Client":
        try:
            import httpx
        except ImportError:
            raise MissingPackage(
                "Services behind HTTP need httpx: pip install 'tidymerge[http]'", package="httpx"
            ) from None
        verify = _trusted(scheme, access.ca_file)
        timeout = httpx.Timeout(float(answer_wait()), connect=_CONNECT_WAIT)
        return httpx.Client(
            headers={"OData-MaxVersion": "4.01", **self._secrets.headers},
            follow_redirects=False, timeout=timeout, verify=verify, auth=None,
        )  # fmt: skip

    def close(self) -> None:
        """End the connection."""
        self._client.close()

    @property
    def batches_json(self) -> bool:
        """Whether batches are JSON: so it is since 4.01."""
        return self.version >= (4, 1)

    def _described(self) -> tuple[Metadata, tuple[int, int]]:
        answer = self.get("$metadata", accept="application/xml,application/json;q=0.5")
        said = answer.headers.get("odata-version", "4.0")
        found = parsed(answer.body, answer.headers.get("content-type", ""), said)
        try:
            major, minor = (int(part) for part in said.split(".")[:2])
        except ValueError:
            raise TargetUnreadable(f"{self.place} speaks OData {said[:20]!r}; 4.0 and 4.01 are known.") from None
        if major != 4:  # noqa: PLR2004 - the version that this is written for
            raise TargetUnreadable(f"{self.place} speaks OData {said}; 4.0 and 4.01 are known.")
        return found, (major, minor)

    def url(self, path: str) -> str:
        """The whole URL of a path below the root, or of a link that the service gave. Raises TargetUnreadable."""
        if "://" not in path and not path.startswith("/"):
            return self._root + path
        url = urlsplit(path)
        own = urlsplit(self._root)
        if url.netloc and (url.scheme.lower(), url.netloc.lower()) != (own.scheme, own.netloc):
            raise TargetUnreadable(
                f"{self.place} gave a link to another place, {url.scheme}://{url.netloc.rpartition('@')[2]}; it is not "
                "followed, as what signs you in would be sent there, too."
            )
        return path if url.netloc else f"{own.scheme}://{own.netloc}{path}"

    def json(self, path: str, prefer: str = "") -> dict[str, Any]:
        """An object of JSON. Raises TargetUnreadable and what `get` raises."""
        answer = self.get(path, accept=JSON, prefer=prefer)
        kind = answer.headers.get("content-type", "")
        if "json" not in kind:
            raise TargetUnreadable(
                f"{self.place} answered with {kind or 'something'} where JSON belongs. It may be a page to sign in, or "
                "not the root of an OData service."
            )
        try:
            found = decoded(answer.body)
        except (msgspec.DecodeError, UnicodeDecodeError) as error:
            raise TargetUnreadable(f"{self.place} answered with JSON that can't be read: {error}.") from None
        if not isinstance(found, dict):
            raise TargetUnreadable(f"{self.place} answered with JSON that is no object.")
        return found

    def get(self, path: str, *, accept: str, prefer: str = "") -> Answer:
        """Read something; again where the connection breaks, as reading changes nothing. Raises ServerAway."""
        headers = {"Accept": accept, **({"Prefer": prefer} if prefer else {})}
        try:
            answer = self.patient("GET", path, headers)
        except ServerAway:
            answer = self.patient("GET", path, headers)
        if not answer.is_good:
            raise self.refused(answer, path)
        return answer

    def patient(
        self,
        method: str,
        path: str,
        headers: Mapping[str, str],
        body: bytes = b"",
        sure: Callable[[], bool] = lambda: True,
    ) -> Answer:
        """Ask, and where the service is busy, ask again as it says, if it is `sure` that it did nothing.

        Raises TargetLocked, and ServerAway where it did something.
        """
        began, longest, pause = time.monotonic(), wait(), 0.5
        while True:
            answer = self.send(method, path, headers, body)
            if answer.status not in BUSY:
                return answer
            if answer.status != BUSY[0] and not sure():
                raise ServerAway(f"{self.place} was busy (status {answer.status}) when it had done a part already.")
            asked = _seconds(answer.headers.get("retry-after", ""))
            pause = pause * 2 if asked is None else asked
            spent = time.monotonic() - began
            if spent + pause > longest:
                raise TargetLocked(
                    f"{self.place} is busy (status {answer.status}) and asks to wait {pause:.0f} seconds more; "
                    f"{longest} in all are waited. Try again later, or give TIDYMERGE_WAIT more seconds."
                )
            time.sleep(pause)

    def send(self, method: str, path: str, headers: Mapping[str, str], body: bytes = b"") -> Answer:
        """Ask once. Raises ServerAway, SignInRefused and TargetUnreadable."""
        url = self.url(path)
        with self._translated():
            with self._client.stream(method, url, headers=dict(headers), content=body or None) as found:
                read, most = bytearray(), most_unpacked()
                for piece in found.iter_bytes():
                    read += piece
                    if len(read) > most:
                        raise TargetUnreadable(
                            f"{self.place} answers with more than {most:,} bytes at once; give TIDYMERGE_MOST_UNPACKED "
                            "more, if that is meant."
                        )
            said = {name.lower(): text for name, text in found.headers.items()}
        return self._let_in(Answer(found.status_code, said, bytes(read)))

    def _let_in(self, answer: Answer) -> Answer:
        """An answer that is about what was asked. Raises SignInRefused and TargetUnreadable."""
        if answer.status in (401, 403):
            raise SignInRefused(
                f"{self.place} lets nobody in like that ({self.hide(answer.said())}). Give "
                "a token or a password, or ask for the right to do this."
            )
        if 300 <= answer.status < 400:  # noqa: PLR2004 - the statuses that lead elsewhere
            to = urlsplit(answer.headers.get("location", ""))
            there = f"{to.scheme or 'http'}://{to.netloc.rpartition('@')[2] or self.host}{to.path}"
            raise TargetUnreadable(
                f"{self.place} leads on to {there}; links to other places are not followed, as what signs you in would "
                "be sent there, too. Use that address, if you trust it."
            )
        return answer

    @contextmanager
    def _translated(self) -> Iterator[None]:
        import httpx

        try:
            yield
        except httpx.TimeoutException as error:
            raise ServerAway(
                f"{self.place} did not answer within {answer_wait()} seconds ({type(error).__name__}); "
                "TIDYMERGE_ANSWER_WAIT gives it more."
            ) from None
        except httpx.HTTPError as error:
            if refused := _certificate(error):
                raise ServerAway(
                    f"The certificate of {self.place} is not accepted: {refused}. Use the name that it is for, or name "
                    f"the file of certificates to trust for {self.host} as ca_file in the job."
                ) from None
            why = self.hide(str(error) or type(error).__name__)
            raise ServerAway(f"No connection to {self.place}: {why}.") from None
        except httpx.InvalidURL as error:
            raise BadAddress(f"{self.place} can't be asked: {error}.") from None

    def refused(self, answer: Answer, path: str) -> TargetUnreadable:
        """The error that an answer is which is not good."""
        asked = path.partition("?")[0][:80]
        said = self.hide(answer.said())
        hint = " Is it the root of an OData service, which has $metadata below it?" if asked == "$metadata" else ""
        kind = LinkGone if answer.status == GONE else TargetUnreadable
        return kind(f"{self.place} refused {asked} ({said}).{hint}")

    def hide(self, text: str) -> str:
        """What a service said, without what signs us in."""
        return self._secrets.hide(self._address.hide(text))


def _trusted(scheme: str, ca_file: str | None) -> "ssl.SSLContext | bool":
    """Whose certificates to trust; True: those that the client's packages trust. Raises BadAddress."""
    import ssl

    if scheme == "http" and ca_file is None:
        return ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)  # nobody's: reading all would take longer than asking
    try:
        return ssl.create_default_context(cafile=ca_file) if ca_file else True
    except OSError as error:
        raise BadAddress(f"The file of certificates {ca_file} can't be read: {error.strerror}.") from None


def _certificate(error: BaseException | None) -> str:
    """What is wrong with a certificate, if an error comes from that."""
    while error is not None:
        if said := getattr(error, "verify_message", ""):
            return str(said).rstrip(".")
        error = error.__cause__ or error.__context__
    return ""


def _seconds(text: str) -> float | None:
    """What `Retry-After` says (RFC 9110, 10.2.3): seconds or a date."""
    if text.strip().isdigit():
        return float(text)
    with suppress(ValueError, TypeError):
        return max(email.utils.parsedate_to_datetime(text).timestamp() - time.time(), 0.0)
    return None

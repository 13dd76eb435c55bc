"""Change sets as they are sent: as JSON (OData JSON 4.01, 19), or as multipart (OData Protocol 4.0, 11.7)."""

import re
import secrets
from collections.abc import Mapping, Sequence
from email import message_from_bytes
from email.message import Message
from typing import Any

import msgspec
from msgspec import Struct, field

from tidymerge.errors import TargetUnreadable
from tidymerge.services.odata.columns import decoded
from tidymerge.services.odata.session import JSON, Answer

_BODY = "application/json;IEEE754Compatible=true"
_NUMBERED = re.compile(rb"^HTTP/\d\.\d (\d{3})")


class Request(Struct, frozen=True):
    """One change: what to do, at which URL below the root, if the record still has the ETag."""

    method: str
    path: str
    etag: str | None = None
    body: Mapping[str, Any] | None = None

    @property
    def headers(self) -> dict[str, str]:
        """What is said with it; a new record is to be told, as only the service may know its key."""
        said = {} if self.etag is None else {"If-Match": self.etag}
        if self.body is not None:
            told = "representation" if self.method == "POST" else "minimal"
            said |= {"Content-Type": _BODY, "Prefer": f"return={told}"}
        return {**said, "Accept": JSON}


class Outcome(Struct, frozen=True):
    """What became of one request of a batch; None where the batch does not say it."""

    status: int
    body: Any = None
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_good(self) -> bool:
        """Whether it was done."""
        return 200 <= self.status < 300  # noqa: PLR2004 - the statuses that say so

    def said(self) -> str:
        """What the service says of what went wrong."""
        if isinstance(self.body, str):
            return self.body[:300]
        try:
            return str(self.body["error"]["message"])[:300]
        except (KeyError, TypeError):
            return f"status {self.status}"


def as_json(requests: Sequence[Request], *, together: bool) -> tuple[bytes, str]:
    """A batch and its content type; `together` they are one change set."""
    each = []
    for at, one in enumerate(requests):
        said: dict[str, Any] = {"id": str(at), "method": one.method.lower(), "url": one.path, "headers": one.headers}
        if together:
            said["atomicityGroup"] = "g0"
        if one.body is not None:
            said["body"] = one.body
        each.append(said)
    return msgspec.json.encode({"requests": each}), "application/json"


def as_multipart(requests: Sequence[Request], *, together: bool) -> tuple[bytes, str]:
    """The same as multipart. URLs count from the root there, too: some services know no others."""
    parts = [_part(one, at) for at, one in enumerate(requests)]
    if together:
        inner = f"changes_{secrets.token_hex(12)}"
        parts = [f"Content-Type: multipart/mixed;boundary={inner}\r\n\r\n".encode() + _joined(parts, inner)]
    outer = f"batch_{secrets.token_hex(12)}"
    return _joined(parts, outer), f"multipart/mixed;boundary={outer}"


def _joined(parts: Sequence[bytes], boundary: str) -> bytes:
    mark = f"--{boundary}".encode()
    return b"".join(mark + b"\r\n" + part + b"\r\n" for part in parts) + mark + b"--\r\n"


def _part(one: Request, at: int) -> bytes:
    head = f"Content-Type: application/http\r\nContent-Transfer-Encoding: binary\r\nContent-ID: {at}\r\n\r\n"
    lines = "".join(f"{name}: {text}\r\n" for name, text in one.headers.items())
    body = b"" if one.body is None else msgspec.json.encode(one.body)
    size = f"Content-Length: {len(body)}\r\n" if body else ""
    line = f"{one.method} {one.path} HTTP/1.1\r\n{lines}{size}\r\n"
    return f"{head}{line}".encode() + body


UNKNOWN = -1  # in place of a request's place, where an answer does not say which one it is about


def outcomes(answer: Answer, count: int) -> dict[int, Outcome]:
    """What became of each request of a batch, by its place; a change set that failed may have one for all, at UNKNOWN.

    Raises TargetUnreadable.
    """
    try:
        found = _of_multipart(answer) if "multipart" in answer.headers.get("content-type", "") else _of_json(answer)
    except (msgspec.DecodeError, ValueError, KeyError, TypeError, AttributeError, IndexError) as error:
        raise TargetUnreadable(f"The service's answer to a batch can't be read: {error!s:.100}.") from None
    return {at: one for at, one in found.items() if at < count}


def _of_json(answer: Answer) -> dict[int, Outcome]:
    found: dict[int, Outcome] = {}
    for at, one in enumerate(decoded(answer.body)["responses"]):
        number = str(one.get("id", ""))
        headers = {name.lower(): str(text) for name, text in (one.get("headers") or {}).items()}
        outcome = Outcome(int(one["status"]), one.get("body"), headers)
        found[_place(number, at, outcome)] = outcome
    return found


def _of_multipart(answer: Answer) -> dict[int, Outcome]:
    head = b"Content-Type: " + answer.headers["content-type"].encode() + b"\r\n\r\n"
    found: dict[int, Outcome] = {}
    for part in _leaves(message_from_bytes(head + answer.body)):
        raw = part.get_payload(decode=True)
        assert isinstance(raw, bytes)  # noqa: S101 - a part that is not multipart itself
        text = raw.replace(b"\r\n", b"\n")
        status = _NUMBERED.match(text)
        if status is None:
            raise ValueError("a part without a status")
        lines, _, body = text.partition(b"\n\n")
        pairs = (line.partition(":") for line in lines.decode("utf-8", "replace").split("\n")[1:])
        headers = {name.strip().lower(): value.strip() for name, _, value in pairs}
        number = str(part["Content-ID"] or headers.get("content-id", ""))
        outcome = Outcome(int(status[1]), _body(body), headers)
        found[_place(number, len(found), outcome)] = outcome
    return found


def _body(raw: bytes) -> Any:
    """What was answered: JSON, or plain words, as some services say errors."""
    try:
        return decoded(raw) if raw.strip() else None
    except (msgspec.DecodeError, UnicodeDecodeError):
        return raw.decode("utf-8", "replace").strip()


def _place(number: str, at: int, outcome: Outcome) -> int:
    """Which request an outcome is about: as it says; what was done comes in the order in which it was asked for."""
    return int(number) if number.isdigit() else at if outcome.is_good else UNKNOWN


def _leaves(message: Message) -> list[Message]:
    """The parts that are requests' answers, those in change sets included."""
    if not message.is_multipart():
        return [message]
    return [leaf for part in message.get_payload() for leaf in _leaves(part)]  # type: ignore[arg-type]

"""Batches: many requests in one, as JSON (OData JSON 4.01, 19) or as multipart (OData Protocol 4.0, 11.7)."""

import json
import re
import secrets
from email import message_from_bytes
from typing import Any

from msgspec import Struct, field


class Inner(Struct):
    """One request of a batch. Those of a `group` are done together or not at all."""

    id: str
    method: str
    url: str
    headers: dict[str, str]
    body: Any = None
    group: str | None = None


class Answer(Struct):
    """The answer to one of them."""

    status: int
    body: Any = None
    headers: dict[str, str] = field(default_factory=dict)

    @property
    def is_good(self) -> bool:
        """Whether it was done."""
        return self.status < 400  # noqa: PLR2004 - from there on, statuses say that it was not


def from_json(text: bytes) -> list[Inner]:
    """The requests of a JSON batch."""
    found = json.loads(text)["requests"]
    return [
        Inner(
            str(one["id"]), one["method"].upper(), one["url"],
            {name.lower(): value for name, value in (one.get("headers") or {}).items()}, one.get("body"),
            one.get("atomicityGroup"),
        )
        for one in found
    ]  # fmt: skip


def to_json(answers: list[tuple[Inner, Answer]]) -> bytes:
    """Their answers as JSON."""
    found = []
    for one, answer in answers:
        said: dict[str, Any] = {"id": one.id, "status": answer.status, "headers": answer.headers}
        if one.group is not None:
            said["atomicityGroup"] = one.group
        if answer.body is not None:
            said["body"] = answer.body
        found.append(said)
    return json.dumps({"responses": found}).encode()


def from_multipart(text: bytes, content_type: str) -> list[Inner]:
    """The requests of a multipart batch."""
    message = message_from_bytes(b"Content-Type: " + content_type.encode() + b"\r\n\r\n" + text)
    found: list[Inner] = []
    for at, part in enumerate(_parts(message)):
        if part.get_content_maintype() == "multipart":
            found += [_inner(one, f"{at}.{number}", f"set{at}") for number, one in enumerate(_parts(part))]
        else:
            found.append(_inner(part, str(at), None))
    return found


def _parts(message: Any) -> list[Any]:
    """The parts of a message of several."""
    return list(message.get_payload())


def _inner(part: Any, number: str, group: str | None) -> Inner:
    head, _, body = part.get_payload(decode=True).replace(b"\r\n", b"\n").partition(b"\n\n")
    line, *lines = head.decode().split("\n")
    method, url, _ = line.split(" ", 2)
    headers = {name.strip().lower(): value.strip() for name, _, value in (one.partition(":") for one in lines)}
    value = json.loads(body) if body.strip() else None
    return Inner(part["Content-ID"] or number, method.upper(), url, headers, value, group)


def to_multipart(answers: list[tuple[Inner, Answer]]) -> tuple[bytes, str]:
    """Their answers as multipart, and its content type. A change set that failed has one answer."""
    outer, parts, at = _boundary(), [], 0
    while at < len(answers):
        one, answer = answers[at]
        if one.group is None or not answer.is_good:
            parts.append(_part(one, answer))
            at += 1
            continue
        inner, own = _boundary(), []
        while at < len(answers) and answers[at][0].group == one.group:
            own.append(_part(*answers[at]))
            at += 1
        parts.append(f"Content-Type: multipart/mixed; boundary={inner}\r\n\r\n".encode() + _joined(own, inner))
    return _joined(parts, outer), f"multipart/mixed; boundary={outer}"


def _boundary() -> str:
    return f"part_{secrets.token_hex(8)}"


def _joined(parts: list[bytes], boundary: str) -> bytes:
    mark = f"--{boundary}".encode()
    return b"".join(mark + b"\r\n" + part + b"\r\n" for part in parts) + mark + b"--\r\n"


def _part(one: Inner, answer: Answer) -> bytes:
    body = b"" if answer.body is None else json.dumps(answer.body).encode()
    own = "".join(f"{name}: {value}\r\n" for name, value in answer.headers.items())
    number = f"Content-ID: {one.id}\r\n" if re.fullmatch(r"[\w.-]+", one.id) else ""
    head = f"Content-Type: application/http\r\nContent-Transfer-Encoding: binary\r\n{number}\r\n"
    line = f"HTTP/1.1 {answer.status} Answer\r\nContent-Type: application/json\r\n{own}\r\n"
    return f"{head}{line}".encode() + body

"""Faults that tests give the stand-in, so that what goes wrong with real services can be seen here, too."""

import asyncio
from typing import Any

from msgspec import Struct, field
from starlette.types import ASGIApp, Message, Receive, Scope, Send


class Fault(Struct):
    """What goes wrong with some requests: those whose path ends so, from the `after`th on, `times` times.

    `status` is answered instead of doing it, with `retry_after` seconds. `cut_request` closes the connection once so
    many bytes of the body have come, before anything is done; `cut_answer` after so many bytes of the answer, when all
    is done. `slow` waits so many seconds before the answer. `answer` is said in place of the true one, as this type.
    """

    path: str = ""
    method: str = ""
    after: int = 0
    times: int = 1
    status: int = 0
    retry_after: str = ""
    cut_request: int = -1
    cut_answer: int = -1
    slow: float = 0
    answer: bytes = b""
    content_type: str = "application/json"
    headers: dict[str, str] = field(default_factory=dict)


class Cut(Exception):
    """The connection is closed on purpose."""


class Manners(Struct):
    """How well the service behaves: ETags or none, change sets whole or halves of them, If-Match kept to or not.

    Deaf services tell ETags but change records all the same; `texts_as` are texts that become others when stored. One
    that `tracks` changes gives delta links.
    """

    version: str = "4.01"
    etags: bool = True
    batches: bool = True
    halves: bool = False
    deaf: bool = False
    texts_as: dict[str, str] = field(default_factory=dict)
    page: int = 1000
    longest_batch: int = 0
    token: str = ""
    omits_nulls: bool = False
    in_filters: bool = True
    tracks: bool = True
    faults: list[Fault] = field(default_factory=list)
    requests: list[tuple[str, str]] = field(default_factory=list)


class Faulty:
    """The service behind its faults."""

    def __init__(self, app: ASGIApp, manners: Manners) -> None:
        self._app, self._manners = app, manners

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request, or let something go wrong with it."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        fault = self._fault(scope["method"], scope["path"])
        self._manners.requests.append((scope["method"], scope["path"]))
        if fault is None:
            await self._app(scope, receive, send)
            return
        if fault.status or fault.answer:
            await _answer(fault, receive, send)
            return
        started = cut = False

        async def noted(message: Message) -> None:
            nonlocal started
            if cut:
                raise Cut
            started = True
            await send(message)

        async def heard() -> Message:
            nonlocal cut
            try:
                return await receiving()
            except Cut:
                cut = True
                raise

        receiving = _cut_receive(fault, receive)
        try:
            await self._app(scope, heard, _cut_send(fault, noted))
        except Cut:
            if not started:  # else the server would answer by itself
                head = {"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"999999")]}
                await send(head)
            raise

    def _fault(self, method: str, path: str) -> Fault | None:
        for fault in self._manners.faults:
            if fault.times and path.endswith(fault.path) and fault.method in ("", method):
                if fault.after:
                    fault.after -= 1
                    continue
                fault.times -= 1
                return fault
        return None


async def _answer(fault: Fault, receive: Receive, send: Send) -> None:
    while (await receive()).get("more_body"):
        pass
    said = {"content-type": fault.content_type, **fault.headers}
    if fault.retry_after:
        said["retry-after"] = fault.retry_after
    body = fault.answer or b'{"error": {"code": "busy", "message": "not now"}}'
    headers = [(name.lower().encode(), value.encode()) for name, value in said.items()]
    await send({"type": "http.response.start", "status": fault.status or 200, "headers": headers})
    await send({"type": "http.response.body", "body": body})


def _cut_receive(fault: Fault, receive: Receive) -> Receive:
    if fault.cut_request < 0:
        return receive
    seen = 0

    async def cut() -> Message:
        nonlocal seen
        message = await receive()
        seen += len(message.get("body", b""))
        if seen >= fault.cut_request or not message.get("more_body"):
            raise Cut
        return message

    return cut


def _cut_send(fault: Fault, send: Send) -> Send:
    sent = 0

    async def cut(message: Message) -> None:
        nonlocal sent
        if fault.slow and message["type"] == "http.response.start":
            await asyncio.sleep(fault.slow)
        if fault.cut_answer < 0:
            await send(message)
            return
        body: Any = message.get("body", b"")
        if message["type"] == "http.response.start":
            if fault.cut_answer == 0:
                raise Cut
            await send(message)
            return
        rest = fault.cut_answer - sent
        sent += len(body)
        if sent >= fault.cut_answer:
            await send({**message, "body": body[:rest], "more_body": True})
            raise Cut
        await send(message)

    return cut

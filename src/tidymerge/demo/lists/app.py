"""The stand-in's requests: the service document, its metadata, sets, records, and batches of them."""

import json
from collections.abc import Sequence
from itertools import groupby
from typing import Any
from urllib.parse import parse_qsl, quote, unquote

from msgspec import Struct
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route
from starlette.types import ASGIApp

from tidymerge.demo.lists import batches
from tidymerge.demo.lists.batches import Answer, Inner
from tidymerge.demo.lists.faults import Faulty, Manners
from tidymerge.demo.lists.filters import filtered, key_in
from tidymerge.demo.lists.schema import metadata
from tidymerge.demo.lists.store import EntitySet, Store, Trouble, etag_of, key_of
from tidymerge.demo.lists.types import to_json

ROOT = "/coop/"


class Service(Struct):
    """The records, how the service behaves, and where clients find it."""

    store: Store
    manners: Manners
    root: str

    def answer(self, one: Inner) -> Answer:
        """Do one request. What can't be done is an answer, too."""
        try:
            return self._answer(one)
        except Trouble as trouble:
            return _trouble(trouble)

    def _answer(self, one: Inner) -> Answer:
        path, _, query = one.url.removeprefix(self.root).removeprefix(ROOT).partition("?")
        name, bracket, rest = path.partition("(")
        sets = self.store.sets()
        options = dict(parse_qsl(query, keep_blank_values=True))
        if not name:
            members = [{"name": each, "kind": "EntitySet", "url": each} for each in sets]
            return Answer(200, {"@odata.context": f"{self.root}$metadata", "value": members})
        whole, count = name.removesuffix("/$count"), name.endswith("/$count")
        if whole not in sets:
            raise Trouble(404, f"there is no {whole}")
        found = sets[whole]
        if bracket:
            return self._of_record(one, found, key_in(unquote(rest.removesuffix(")")), found))
        if one.method == "POST":
            return self._posted(one, found)
        if one.method != "GET":
            raise Trouble(405, f"{one.method} is not for sets")
        return self._counted(found, options) if count else self._listed(one, found, options)

    def _of_record(self, one: Inner, found: EntitySet, key: Sequence[Any]) -> Answer:
        match = None if self.manners.deaf else one.headers.get("if-match")
        if one.method in ("PATCH", "DELETE") and self.manners.etags and "if-match" not in one.headers:
            raise Trouble(428, "If-Match is needed")
        if one.method == "GET":
            return self._record(one, found, self.store.get(found, key))
        if one.method == "DELETE":
            self.store.delete(found, key, match)
            return Answer(204)
        if one.method != "PATCH":
            raise Trouble(405, f"{one.method} is not for records")
        row = self.store.update(found, key, self._taken(one.body), match)
        if "return=minimal" in one.headers.get("prefer", ""):
            return Answer(204, None, {"etag": etag_of(row)} if self.manners.etags else {})
        return self._record(one, found, row)

    def _posted(self, one: Inner, found: EntitySet) -> Answer:
        row = self.store.insert(found, self._taken(one.body))
        answer = self._record(one, found, row)
        key = ",".join(f"{name}={_in_url(value)}" for name, value in zip(found.key, key_of(found, row), strict=True))
        return Answer(201, answer.body, {"location": f"{self.root}{found.name}({key})"})

    def _taken(self, body: Any) -> dict[str, Any]:
        if not isinstance(body, dict):
            raise Trouble(400, "a record is an object")
        texts_as = self.manners.texts_as
        return {name: texts_as.get(value, value) if isinstance(value, str) else value for name, value in body.items()}

    def _record(self, one: Inner, found: EntitySet, row: Sequence[Any]) -> Answer:
        as_text = "ieee754compatible=true" in one.headers.get("accept", "").lower()
        body = self._body(found, row, list(found.properties), as_text=as_text)
        return Answer(200, {"@odata.context": f"{self.root}$metadata#{found.name}/$entity", **body})

    def _body(self, found: EntitySet, row: Sequence[Any], names: Sequence[str], *, as_text: bool) -> dict[str, Any]:
        body: dict[str, Any] = {"@odata.etag": etag_of(row)} if self.manners.etags else {}
        for one, value in zip(found.properties.values(), row, strict=True):
            if one.name in names and not (value is None and self.manners.omits_nulls):
                body[one.name] = to_json(value, one, as_text=as_text)
        return body

    def _counted(self, found: EntitySet, options: dict[str, str]) -> Answer:
        return Answer(200, self.store.count(found, *filtered(options.get("$filter"), found)))

    def _listed(self, one: Inner, found: EntitySet, options: dict[str, str]) -> Answer:
        if " in (" in options.get("$filter", "") and not self.manners.in_filters:
            raise Trouble(501, "in is not known here")
        if "$deltatoken" in options:
            return self._since(one, found, options)
        page = min(_preferred(one, self.manners.page), self.manners.page)
        names = options["$select"].split(",") if "$select" in options else list(found.properties)
        if unknown := set(names) - set(found.properties):
            raise Trouble(400, f"{found.name} has no property {min(unknown)!r}")
        as_text = "ieee754compatible=true" in one.headers.get("accept", "").lower()
        where, values = filtered(options.get("$filter"), found)
        start, top = int(options.get("$skiptoken", 0)), int(options.get("$top", -1))
        most = page if top < 0 else min(page, top - start)
        seen = options.get("seen", self.store.changes.token)  # when the first page was asked for
        rows = self.store.select(found, where, values, f" LIMIT {most + 1:d} OFFSET {start:d}")
        context = f"{self.root}$metadata#{found.name}"
        body: dict[str, Any] = {"@odata.context": context}
        if options.get("$count") == "true":
            body["@odata.count"] = self.store.count(found, where, values)
        body["value"] = [self._body(found, row, names, as_text=as_text) for row in rows[:most]]
        if len(rows) > most and (top < 0 or start + most < top):
            body["@odata.nextLink"] = self._link(found, options, **{"$skiptoken": str(start + most), "seen": seen})
        elif self.manners.tracks and "track-changes" in one.headers.get("prefer", ""):
            body["@odata.deltaLink"] = self._link(found, options, **{"$deltatoken": seen})
        return Answer(200, body)

    def _since(self, one: Inner, found: EntitySet, options: dict[str, str]) -> Answer:
        """The records that changed since a delta link was given."""
        now = self.store.changes.token
        touched = self.store.changes.since(options["$deltatoken"], found.name)
        as_text = "ieee754compatible=true" in one.headers.get("accept", "").lower()
        names = options["$select"].split(",") if "$select" in options else list(found.properties)
        value: list[dict[str, Any]] = []
        for key in touched:
            try:
                value.append(self._body(found, self.store.get(found, key), names, as_text=as_text))
            except Trouble:
                said = ",".join(map(_in_url, key))
                value.append({"@removed": {"reason": "deleted"}, "@odata.id": f"{found.name}({said})"})
        link = self._link(found, options, **{"$deltatoken": now})
        context = f"{self.root}$metadata#{found.name}/$delta"
        return Answer(200, {"@odata.context": context, "value": value, "@odata.deltaLink": link})

    def _link(self, found: EntitySet, options: dict[str, str], **more: str) -> str:
        both = {**options, **more}
        return f"{self.root}{found.name}?" + "&".join(f"{name}={quote(value)}" for name, value in both.items())

    def batch(self, each: Sequence[Inner]) -> list[tuple[Inner, Answer]]:
        """Do a batch: each group in a transaction, unless this service keeps halves."""
        found: list[tuple[Inner, Answer]] = []
        for group, inner in groupby(each, lambda one: one.group):
            own = list(inner)
            if group is None or self.manners.halves:
                found += self._one_by_one(own, stop=group is not None)
            else:
                found += self._together(own)
        return found

    def _one_by_one(self, own: Sequence[Inner], *, stop: bool) -> list[tuple[Inner, Answer]]:
        found = []
        for one in own:
            found.append((one, self.answer(one)))
            if stop and not found[-1][1].is_good:
                return found[-1:]
        return found

    def _together(self, own: Sequence[Inner]) -> list[tuple[Inner, Answer]]:
        found: list[tuple[Inner, Answer]] = []
        try:
            with self.store.together():
                for one in own:
                    answer = self._answer(one)
                    found.append((one, answer))
        except Trouble as trouble:
            return [(own[min(len(found), len(own) - 1)], _trouble(trouble))]
        return found


def _preferred(one: Inner, usual: int) -> int:
    """The page size that the client would like."""
    said = one.headers.get("prefer", "").split(",")
    sizes = [piece.partition("=")[2] for piece in said if "maxpagesize" in piece]
    return int(sizes[0]) if sizes and sizes[0].isdigit() else usual


def _trouble(trouble: Trouble) -> Answer:
    return Answer(trouble.status, {"error": {"code": str(trouble.status), "message": str(trouble)}})


def _in_url(value: Any) -> str:
    return quote("'" + value.replace("'", "''") + "'") if isinstance(value, str) else str(value)


def make_app(store: Store, manners: Manners, root: str) -> ASGIApp:
    """The service, to be run by a server at `root`."""
    service = Service(store, manners, root)

    async def one(request: Request) -> Response:
        if refused := _signed_in(request, manners):
            return refused
        body = await request.body()
        url = request.url.path[len(ROOT) :] if request.url.path.startswith(ROOT) else ""
        raw = request.scope["raw_path"].decode()[len(ROOT) :]
        query = f"?{request.url.query}" if request.url.query else ""
        if url == "$metadata":
            text = metadata(store.sets(), manners.version, etags=manners.etags)
            return _sent(text.encode(), 200, "application/xml", manners)
        if url == "$batch":
            return await _batched(request, body, service)
        try:
            given = json.loads(body) if body else None
        except ValueError:
            return _sent(b'{"error": {"message": "not JSON"}}', 400, "application/json", manners)
        inner = Inner("0", request.method, raw + query, dict(request.headers), given)
        answer = await run_in_threadpool(service.answer, inner)
        if isinstance(answer.body, int):
            return _sent(str(answer.body).encode(), answer.status, "text/plain", manners)
        said = b"" if answer.body is None else json.dumps(answer.body).encode()
        return _sent(said, answer.status, "application/json", manners, answer.headers)

    return Faulty(Starlette(routes=[Route("/{path:path}", one, methods=["GET", "POST", "PATCH", "DELETE"])]), manners)


async def _batched(request: Request, body: bytes, service: Service) -> Response:
    manners = service.manners
    kind = request.headers.get("content-type", "")
    is_json = kind.startswith("application/json")
    if not manners.batches:
        return _sent(b'{"error": {"message": "there are no batches here"}}', 501, "application/json", manners)
    if is_json and manners.version == "4.0":
        return _sent(b'{"error": {"message": "batches are multipart here"}}', 415, "application/json", manners)
    each = batches.from_json(body) if is_json else batches.from_multipart(body, kind)
    if manners.longest_batch and len(each) > manners.longest_batch:
        return _sent(b'{"error": {"message": "too many requests in one"}}', 413, "application/json", manners)
    answers = await run_in_threadpool(service.batch, each)
    if is_json:
        return _sent(batches.to_json(answers), 200, "application/json", manners)
    text, kind = batches.to_multipart(answers)
    return _sent(text, 200, kind, manners)


def _signed_in(request: Request, manners: Manners) -> Response | None:
    if manners.token and request.headers.get("authorization") != f"Bearer {manners.token}":
        return _sent(b'{"error": {"message": "sign in first"}}', 401, "application/json", manners)
    return None


def _sent(body: bytes, status: int, kind: str, manners: Manners, headers: dict[str, str] | None = None) -> Response:
    said = {"OData-Version": manners.version, **(headers or {})}
    return Response(body, status, media_type=kind, headers=said)

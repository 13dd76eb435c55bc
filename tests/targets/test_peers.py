"""Peers that we did not write: a library of OData whose server our client loads into, and whose client our stand-in serves.

Its server keeps records in memory and finds them by going through all; in batches it does not decode what is
percent-encoded in a key.
"""

import contextlib
import socket
import sqlite3
import threading
import time

import pyarrow as pa
import pytest
import uvicorn
from odatapy.client import ODataClient
from odatapy.client.filters import Field
from odatapy.client.transport import HttpxTransport
from odatapy.edm import csdl
from odatapy.server import OData
from odatapy.server.adapters import ODataASGIApp
from odatapy.server.inmemory import InMemoryDataStore, InMemoryProcessor

import tidymerge
from conftest import NO_LIMITS
from tidymerge.demo.lists.faults import Manners
from tidymerge.demo.lists.serve import served
from tidymerge.errors import WriteRefused

COLUMNS = {
    "code": "Edm.String",
    "no": "Edm.Int32",
    "kg": "Edm.Decimal",
    "seen": "Edm.Date",
    "note": "Edm.String",
    "at": "Edm.DateTimeOffset",
}
SAID = {"key": ["code", "no"], "accept_warnings": True, "limits": NO_LIMITS, "rejects": False}


class Provider(csdl.CsdlAbstractEdmProvider):
    def get_schemas(self):
        properties = [
            csdl.CsdlProperty(
                name=name,
                type=kind,
                nullable=name not in ("code", "no"),
                **({"precision": 10, "scale": 2} if name == "kg" else {}),
            )
            for name, kind in COLUMNS.items()
        ]
        key = [csdl.CsdlPropertyRef(name="code"), csdl.CsdlPropertyRef(name="no")]
        hive = csdl.CsdlEntityType(name="Hive", key=key, properties=properties)
        sets = csdl.CsdlEntityContainer(name="Lists", entity_sets=[csdl.CsdlEntitySet(name="Hives", type="Coop.Hive")])
        return [csdl.CsdlSchema(namespace="Coop", entity_types=[hive], entity_container=sets)]


@pytest.fixture
def theirs():
    """The root of their server, with no hives yet."""
    odata = OData.new_instance()
    handler = odata.create_handler(odata.create_service_metadata(Provider()))
    store = InMemoryDataStore()
    store.set_entities("Hives", [])
    handler.register(InMemoryProcessor(store))
    with contextlib.closing(socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)) as place:
        place.bind(("127.0.0.1", 0))
        server = uvicorn.Server(
            uvicorn.Config(ODataASGIApp(handler), log_level="critical", access_log=False, lifespan="off")
        )
        thread = threading.Thread(target=server.run, kwargs={"sockets": [place]}, daemon=True)
        thread.start()
        while not server.started:
            time.sleep(0.01)
        yield f"http://127.0.0.1:{place.getsockname()[1]}/"
        server.should_exit = True
        thread.join(10)


def hives(root: str) -> list[tuple]:
    with contextlib.closing(HttpxTransport()) as transport:
        client = ODataClient(root.rstrip("/"), transport)
        found = client.get_entity_set(client.entity_set_uri("Hives")).entities
    values = [{one.name: one.value for one in each.properties} for each in found]
    return sorted((one["code"], one["no"], str(one.get("kg")), str(one.get("seen")), one.get("note")) for one in values)


def test_our_client_and_their_server(theirs, folder):
    rows = {"code": ["L", "L", "M'1"] + ["Z"] * 300, "no": [1, 2, 3, *range(300)], "kg": ["1.50", "2.25", None] + ["0.10"] * 300,
            "seen": ["2026-05-01", None, None] + [None] * 300, "note": ["calm", "x", "y"] + ["z"] * 300}  # fmt: skip
    fresh = tidymerge.load(pa.table(rows), f"{theirs}#Hives", **SAID)
    assert (fresh.rows.inserted, len(hives(theirs)), hives(theirs)[0]) == (
        303,
        303,
        ("L", 1, "1.50", "2026-05-01", "calm"),
    )
    changed = tidymerge.load(
        pa.table({"code": ["L", "L", "M'1"], "no": [1, 2, 3], "kg": ["9.75", "2.25", "0.01"]}),
        f"{theirs}#Hives",
        **SAID,
    )
    assert (changed.rows.updated, changed.rows.unchanged, hives(theirs)[0][2]) == (2, 1, "9.75")
    assert any("ETags" in note for note in changed.notes)
    tidymerge.undo(changed.run)
    assert hives(theirs)[0][2] == "1.50"
    tidymerge.undo(fresh.run)
    assert hives(theirs) == []


def test_a_record_that_their_server_does_not_find_by_its_url_is_said(theirs, folder):
    row = {"code": ["50%/2"], "no": [1]}
    tidymerge.load(pa.table({**row, "kg": ["1.00"]}), f"{theirs}#Hives", **SAID)
    with pytest.raises(WriteRefused, match="does not find it by its URL"):
        tidymerge.load(pa.table({**row, "kg": ["2.00"]}), f"{theirs}#Hives", **SAID)
    assert [row[2] for row in hives(theirs)] == ["1.00"]


def test_their_client_and_our_stand_in(folder):
    with contextlib.closing(sqlite3.connect(folder / "lists.db")) as connection, connection:
        connection.executescript("CREATE TABLE hives (code TEXT PRIMARY KEY, no INTEGER, kg DECIMAL(8, 2)); INSERT INTO hives VALUES ('a''/%', 1, 1.5), ('b', 2, NULL), ('c', 3, 2);")  # fmt: skip
    with served(folder / "lists.db", Manners(page=2)) as root, contextlib.closing(HttpxTransport()) as transport:
        client = ODataClient(root.rstrip("/"), transport)
        every = client.entity_set_uri("hives")
        assert client.get_count(every) == 3
        assert [one.get_value("no") for one in client.get_entity_set(every.filter(Field("no").gt(1))).entities] == [
            2,
            3,
        ]
        assert client.get_entity(client.entity_uri("hives", "a'/%")).get_value("no") == 1
        client.create_entity("hives", {"code": "d", "no": 4})
        etag = client.get_entity(client.entity_uri("hives", "d")).etag
        client.update_entity(client.entity_uri("hives", "d"), {"no": 5}, etag=etag)
    with contextlib.closing(sqlite3.connect(folder / "lists.db")) as connection:
        assert connection.execute("SELECT no FROM hives WHERE code = 'd'").fetchall() == [(5,)]

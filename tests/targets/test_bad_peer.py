"""A service of OData that we did not write, and that keeps hardly a promise: what it does is found out, and said.

It knows no ETags and no If-Match, keeps the first half of a change set that it refuses, and stores whatever comes.
"""

import json
import random
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import httpx
import pyarrow as pa
import pytest

import tidymerge
from conftest import NO_LIMITS
from servers import missing
from tidymerge.errors import WriteRefused, WrittenPartly
from tidymerge.services.odata.session import Session

pytestmark = pytest.mark.long

HERE = Path(__file__).parent.parent / "peers"
METADATA = """<?xml version="1.0" encoding="utf-8"?>
<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>
<Schema Namespace="Coop" xmlns="http://docs.oasis-open.org/odata/ns/edm">
<EntityType Name="Hive"><Key><PropertyRef Name="code"/><PropertyRef Name="no"/></Key>
<Property Name="code" Type="Edm.String" Nullable="false"/><Property Name="no" Type="Edm.Int32" Nullable="false"/>
<Property Name="kg" Type="Edm.Decimal" Precision="10" Scale="2"/><Property Name="note" Type="Edm.String"/></EntityType>
<EntityContainer Name="Lists"><EntitySet Name="Hives" EntityType="Coop.Hive"/></EntityContainer>
</Schema></edmx:DataServices></edmx:Edmx>"""
SAID = {"key": ["code", "no"], "accept_warnings": True, "limits": NO_LIMITS, "rejects": False}


class Peer:
    def __init__(self, root: str) -> None:
        self.root, self.place = root, f"{root}#Hives"

    @property
    def hives(self) -> dict[tuple[str, int], tuple[float, str]]:
        rows = httpx.get(f"{self.root}Hives").json()["value"]
        return {(row["code"], row["no"]): (float(row["kg"]), row["note"]) for row in rows}

    def remove(self, no: int) -> None:
        assert httpx.delete(f"{self.root}Hives(code='L',no={no})").is_success

    def load(self, rows: dict[tuple[str, int], tuple[float, str]]) -> tidymerge.Receipt:
        columns = {"code": [c for c, _ in rows], "no": [n for _, n in rows], "kg": [str(kg) for kg, _ in rows.values()]}
        return tidymerge.load(pa.table({**columns, "note": [note for _, note in rows.values()]}), self.place, **SAID)


@pytest.fixture
def peer(folder: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Peer]:
    if shutil.which("node") is None or not (HERE / "node_modules").is_dir():
        missing("no peer behind HTTP: install Node.js, then run npm ci in tests/peers")
    monkeypatch.setenv("TIDYMERGE_CHANGES_AT_ONCE", "10")
    monkeypatch.setenv("TIDYMERGE_WAIT", "10")
    (folder / "peer").mkdir()
    (folder / "peer" / "metadata.xml").write_text(METADATA)
    hives = [{"code": "L", "no": no, "kg": str(no / 4), "note": "x"} for no in range(40)]
    shutil.copy(HERE / "Hives.js", folder / "peer")
    (folder / "peer" / "Hives.json").write_text(json.dumps(hives))
    command = ["node", str(HERE / "serve.js"), str(folder / "peer")]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as process:
        assert process.stdout is not None
        yield Peer(f"http://127.0.0.1:{int(process.stdout.readline())}/coop/")
        process.kill()


def test_what_is_loaded_is_there_and_goes_again(peer):
    start = peer.hives
    rows = {**{("L", no): (no + 0.5, "y") for no in range(25)}, ("M", 1): (0.01, "new")}
    receipt = peer.load(rows)
    assert (receipt.rows.updated, receipt.rows.inserted, peer.hives) == (25, 1, {**start, **rows})
    assert not peer.load(rows).changed
    tidymerge.undo(receipt.run)
    assert peer.hives == start


@pytest.mark.parametrize("at", [0, 3, 12, 24])
@pytest.mark.parametrize(("note", "words"), [("refused", "no such note"), ("refused in words", "not a word of JSON")])
def test_halves_that_it_keeps_are_found_and_taken_back(peer, at, note, words):
    """It even keeps what it refused."""
    start = peer.hives
    with pytest.raises(WriteRefused) as told:
        peer.load({("L", no): (no + 0.5, note if no == at else "y") for no in range(25)})
    assert f"L / {at}" in str(told.value)
    assert words in str(told.value)
    assert peer.hives == start
    assert tidymerge.runs()[0].run.state == "failed"


def test_what_it_stores_otherwise_is_found_and_said(peer):
    """Without ETags it can't be told from what somebody else wrote, so it stays, and is named."""
    start = peer.hives
    with pytest.raises(WrittenPartly, match="L / 17") as told:
        peer.load({("L", no): (no + 0.5, "quiet" if no == 17 else "y") for no in range(25)})
    assert "does not read back as written" in str(told.value)
    assert told.value.facts["kept"] == ("L / 17",)
    assert peer.hives == {**start, ("L", 17): (17.5, "QUIET")}


@pytest.mark.parametrize("gone", [3, 12, 24])
def test_a_record_that_goes_meanwhile_is_decided_anew(peer, monkeypatch, gone):
    start, sent, send = peer.hives, [], Session.patient

    def meanwhile(self, method, path, *rest, **more):
        sent.append(path)
        if method == "POST" and sent.count("$batch") == gone // 10 + 1 and not sent.count("gone"):
            sent.append("gone")
            peer.remove(gone)
        return send(self, method, path, *rest, **more)

    monkeypatch.setattr(Session, "patient", meanwhile)
    rows = {("L", no): (no + 0.5, "y") for no in range(25)}
    receipt = peer.load(rows)
    assert (receipt.rows.updated, receipt.rows.inserted, peer.hives) == (24, 1, {**start, **rows})
    tidymerge.undo(receipt.run)
    del start["L", gone]
    assert peer.hives == start


def test_whatever_is_in_keys_it_is_right_or_refused(peer):
    """It decodes keys twice, among other things."""
    chance, done = random.Random(20), []
    signs = "aB\u00e9'\"/%?#&=+;\\\u4e2d\u0416\U0001f41d(),$@ 5"
    for turn in range(60):
        start = peer.hives
        key = "k" + "".join(chance.choice(signs) for _ in range(chance.randint(1, 5))) + "k"
        rows = {(key, turn): (turn / 4, key), ("L", turn % 40): (turn + 0.5, f"n{turn}")}
        try:
            fresh = peer.load(rows)
            assert peer.hives == {**start, **rows}
            more = {(key, turn): (turn / 4, "other"), ("L", turn % 40): (turn + 0.25, "other")}
            told = peer.load(more)
        except tidymerge.TidyMergeError as error:
            done.append((key, str(error), peer.hives in (start, {**start, **rows})))
            continue
        assert peer.hives == {**start, **more}
        tidymerge.undo(told.run)
        tidymerge.undo(fresh.run)
        assert peer.hives == start, key
    assert 0 < len(done) < 60, done
    assert [one for one in done if not one[-1]] == []

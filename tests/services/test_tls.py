"""Services with a certificate of their own: it is checked, and a job can name whom to trust."""

import ssl

import pytest
import trustme

import tidymerge
from conftest import database
from relay import Relay
from tidymerge.demo.lists.serve import served
from tidymerge.errors import WrittenPartly
from tidymerge.services.odata.session import Session


def context_of(authority, name):
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert(name).configure_cert(context)
    return context


@pytest.fixture
def place(folder, request):
    """What lies before a service whose certificate is for a name; and the file of who gave it."""
    authority = trustme.CA()
    context = context_of(authority, request.param)
    authority.cert_pem.write_to_path(str(folder / "ours.pem"))
    trustme.CA().cert_pem.write_to_path(str(folder / "others.pem"))
    (folder / "none.pem").write_text("nothing of that kind")
    database(folder / "coop.db", "CREATE TABLE hives (code TEXT PRIMARY KEY, kg INTEGER);", rows=[])
    (folder / "in.csv").write_text("code,kg\n" + "".join(f"a{at},{at}\n" for at in range(30)))
    with served(folder / "coop.db") as root, Relay(root, context) as relay:
        yield relay


def load(folder, place, trusted):
    port = place.port
    trust = f'[services."127.0.0.1:{port}"]\nca_file = "{trusted}"\n' if trusted else ""
    (folder / "job.toml").write_text(f'[target]\nat = "https://127.0.0.1:{port}/coop/#hives"\n{trust}')
    return tidymerge.load("in.csv", job="job.toml", accept_warnings=True)


@pytest.mark.parametrize("place", ["127.0.0.1"], indirect=True)
def test_who_is_trusted_is_asked(folder, place):
    receipt = load(folder, place, "ours.pem")
    assert receipt.rows.inserted == 30
    assert tidymerge.undo(receipt.run).rows.removed == 30


@pytest.mark.parametrize(
    ("place", "trusted", "words"),
    [
        ("127.0.0.1", None, "is not accepted: unable to get local issuer certificate"),
        ("127.0.0.1", "others.pem", "is not accepted: unable to get local issuer certificate"),
        ("lists.example.org", "ours.pem", "is not accepted: IP address mismatch"),
        ("127.0.0.1", "none.pem", "none.pem can't be read"),
        ("127.0.0.1", "no-such.pem", "no-such.pem can't be read"),
    ],
    indirect=["place"],
)
def test_others_are_not(folder, place, trusted, words):
    with pytest.raises(tidymerge.TidyMergeError) as told:
        load(folder, place, trusted)
    assert words in str(told.value)
    assert told.value.code == ("bad-address" if "read" in words else "server-away")


@pytest.mark.parametrize("place", ["127.0.0.1"], indirect=True)
def test_one_that_changes_in_the_middle_leaves_no_doubt(folder, place, monkeypatch):
    """What was sent before is in the log, and goes with the undo once the right one is back."""
    monkeypatch.setenv("TIDYMERGE_CHANGES_AT_ONCE", "10")
    monkeypatch.setenv("TIDYMERGE_WAIT", "1")
    ours, send, sent = place.tls, Session.patient, []

    def meanwhile(self, method, path, *rest, **more):
        sent.append(path)
        if sent.count("$batch") == 2 and place.tls is ours:
            place.tls = context_of(trustme.CA(), "127.0.0.1")
            place.cut(0, 1)
        return send(self, method, path, *rest, **more)

    with monkeypatch.context() as patch:
        patch.setattr(Session, "patient", meanwhile)
        with pytest.raises(WrittenPartly, match="is not accepted"):
            load(folder, place, "ours.pem")
    place.tls = ours
    one = tidymerge.runs()[0].run
    assert (one.state, one.receipt.rows.inserted) == ("partly", 10)
    assert tidymerge.undo(one.name).rows.removed == 10

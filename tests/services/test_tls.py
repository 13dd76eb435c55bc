"""Services with a certificate of their own: it is checked, and a job can name whom to trust."""

import ssl

import pytest
import trustme

import tidymerge
from conftest import database
from relay import Relay
from tidymerge.demo.lists.serve import served


@pytest.fixture
def place(folder, request):
    """The port of a service whose certificate is for a name, and the file of who gave it."""
    authority, context = trustme.CA(), ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert(request.param).configure_cert(context)
    authority.cert_pem.write_to_path(str(folder / "ours.pem"))
    trustme.CA().cert_pem.write_to_path(str(folder / "others.pem"))
    (folder / "none.pem").write_text("nothing of that kind")
    database(folder / "coop.db", "CREATE TABLE hives (code TEXT PRIMARY KEY, kg INTEGER);", rows=[])
    (folder / "in.csv").write_text("code,kg\na,1\n")
    with served(folder / "coop.db") as root, Relay(int(root.split(":")[2].split("/")[0]), context) as relay:
        yield relay.port


def load(folder, port, trusted):
    trust = f'[services."127.0.0.1:{port}"]\nca_file = "{trusted}"\n' if trusted else ""
    (folder / "job.toml").write_text(f'[target]\nat = "https://127.0.0.1:{port}/coop/#hives"\n{trust}')
    return tidymerge.load("in.csv", job="job.toml", accept_warnings=True)


@pytest.mark.parametrize("place", ["127.0.0.1"], indirect=True)
def test_who_is_trusted_is_asked(folder, place):
    receipt = load(folder, place, "ours.pem")
    assert receipt.rows.inserted == 1
    assert tidymerge.undo(receipt.run).rows.removed == 1


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
    assert told.value.code == "bad-address"

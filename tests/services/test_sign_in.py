"""Who we are to a service: which of the ways counts, and that nothing goes to a host that it is not for."""

import base64

import pytest

from tidymerge.address import parse
from tidymerge.errors import BadAddress, BadSetting, SignInRefused
from tidymerge.model.access import Access
from tidymerge.services.odata.session import Session
from tidymerge.services.sign_in import secrets_of

HOST = "lists.example.org"


def told(address=f"https://{HOST}/coop/#Hives", **said):
    return secrets_of(parse(address), HOST, Access(**said))


def basic(user, password):
    return "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()


def test_the_first_way_that_there_is_counts(folder, monkeypatch):
    assert told().headers == {}
    (folder / "netrc").write_text(
        f"machine {HOST} login alma password from-netrc\nmachine other.example.org login x password y\n"
    )
    monkeypatch.setenv("NETRC", str(folder / "netrc"))
    assert told().headers == {"Authorization": basic("alma", "from-netrc")}
    monkeypatch.setenv("LISTS_PASSWORD", "p@ss:w/rd")
    with_user = f"https://ben:${{LISTS_PASSWORD}}@{HOST}/coop/#Hives"
    assert told(with_user).headers == {"Authorization": basic("ben", "p@ss:w/rd")}
    monkeypatch.setenv("TIDYMERGE_TOKEN", "from-environment")
    with pytest.raises(BadSetting, match="TIDYMERGE_TOKEN_HOST"):
        told()
    monkeypatch.setenv("TIDYMERGE_TOKEN_HOST", "other.example.org")
    assert told(with_user).headers == {"Authorization": basic("ben", "p@ss:w/rd")}
    monkeypatch.setenv("TIDYMERGE_TOKEN_HOST", f"other.example.org {HOST}")
    assert told(with_user).headers == {"Authorization": "Bearer from-environment"}
    assert told(token_command=("echo", "from-command")).headers == {"Authorization": "Bearer from-command"}
    monkeypatch.setenv("JOB", "from-job")
    found = told(headers={"authorization": "Bearer ${JOB}", "X-Tenant": "coop"}, token_command=("false",))
    assert found.headers == {"authorization": "Bearer from-job", "X-Tenant": "coop"}
    assert found.hide("it said from-job, and Bearer from-job") == "it said …, and …"


@pytest.mark.parametrize("command", [("false",), ("no-such-command-here",), ("true",)])
def test_a_command_that_gives_no_token_is_said(command):
    with pytest.raises(SignInRefused, match=command[0]):
        told(token_command=command)


def test_headers_that_can_not_be_are_said(monkeypatch):
    with pytest.raises(BadAddress, match="NOT_SET"):
        told(headers={"X-Key": "${NOT_SET}"})
    monkeypatch.setenv("BROKEN", "a\r\nX-Other: b")
    with pytest.raises(BadAddress, match="signs"):
        told(headers={"X-Key": "${BROKEN}"})


@pytest.mark.parametrize(("address", "said", "words"), [
    ("http://lists.example.org/coop/#Hives", {}, "not encrypted"), ("https://lists.example.org/coop/?a=1#Hives", {}, "ends with its root"),
    ("https://lists.example.org/coop/#Hives", {"ca_file": "no-such.pem"}, "no-such.pem"),
])  # fmt: skip
def test_addresses_that_are_not_asked(address, said, words):
    with pytest.raises(BadAddress, match=words):
        Session(parse(address), Access(**said))

"""Addresses of servers: what may be shown of them, and what is written into a job file."""

from urllib.parse import unquote, urlsplit

import pytest

from tidymerge.address import parse, without_password


@pytest.mark.parametrize(
    ("text", "shown", "written"),
    [
        ("postgresql://h/coop#hives", "postgresql://h/coop#hives", "postgresql://h/coop#hives"),
        (
            "postgresql://alma:s3cret@h:5433/coop?sslmode=require&password=s3cret#a.b",
            "postgresql://alma@h:5433/coop#a.b",
            None,
        ),
        ("mariadb://alma:${SECRET}@h/coop#t", "mariadb://alma@h/coop#t", "mariadb://alma:${SECRET}@h/coop#t"),
        ("mariadb://alma:s3%40cret@h/coop", "mariadb://alma@h/coop", "mariadb://alma:${TIDYMERGE_PASSWORD}@h/coop"),
        (
            "postgresql://h/coop?password=s3cret&sslmode=require",
            "postgresql://h/coop",
            "postgresql://h/coop?password=${TIDYMERGE_PASSWORD}&sslmode=require",
        ),
        ("mysql://h/coop?unix_socket=/tmp/s#t #1", "mysql://h/coop#t #1", None),
    ],
)
def test_a_password_is_neither_shown_nor_written(monkeypatch, text, shown, written):
    monkeypatch.setenv("SECRET", "s3cret")
    assert str(parse(text)) == shown
    assert "s3%40cret" not in without_password(text)
    assert ":s3cret@" not in without_password(text)
    if written is not None:
        assert without_password(text) == written


def test_a_password_from_the_environment_may_hold_any_character(monkeypatch):
    monkeypatch.setenv("SECRET", "p/a:s@s#%?")
    address = parse("mariadb://alma:${SECRET}@h:3307/coop#t")
    assert str(address) == "mariadb://alma@h:3307/coop#t"
    assert unquote(urlsplit(address.server).password) == "p/a:s@s#%?"

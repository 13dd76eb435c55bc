"""Addresses of servers: what may be shown of them, and what is written into a job file."""

from urllib.parse import unquote, urlsplit

import pytest

from tidymerge.address import parse, same_place, same_table, without_password


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


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [
        ("coop.db#hives", "./coop.db", True), ("link.db", "coop.db", True), ("coop.db", "other.db", False),
        ("postgresql://alma@db.example.org/coop#a", "postgresql://bo:x@DB.example.org:5432/coop#b", True),
        ("postgresql://db.example.org/coop", "postgresql://db.example.org/other", False),
        ("mysql://h/coop", "mariadb://h:3306/coop", True), ("mariadb://h/coop", "mariadb://h:3307/coop", False),
        ("mariadb://localhost/c?unix_socket=/a", "mariadb://localhost/c?unix_socket=/b", False),
        ("coop.db", "postgresql://h/coop.db", False),
    ],
)  # fmt: skip
def test_places_are_compared_and_not_their_spelling(folder, one, other, same):
    (folder / "coop.db").touch()
    (folder / "link.db").symlink_to("coop.db")
    assert same_place(one, other) is same
    assert same_table("coop.db#a", "link.db#a")
    assert not same_table("coop.db#a", "link.db#b")

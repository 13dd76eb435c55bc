"""Addresses of servers: what may be shown of them, and what is written into a job file."""

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

"""Rows off MariaDB's wire, however the network cuts them up."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.databases.mariadb.packets import Rows, columns_of

CELLS = st.one_of(st.none(), st.binary(max_size=5), st.binary(min_size=250, max_size=260), st.just(b"x" * 70_000))


def on_the_wire(rows):
    """The rows as packets of the text protocol, and the packet that ends them."""
    packets = []
    for row in rows:
        payload = b""
        for cell in row:
            size = None if cell is None else len(cell)
            if size is None:
                payload += b"\xfb"
            elif size < 251:
                payload += bytes([size]) + cell
            else:
                payload += (
                    b"\xfc" + size.to_bytes(2, "little") if size < 2**16 else b"\xfd" + size.to_bytes(3, "little")
                ) + cell
        packets.append(payload)
    return b"".join(len(p).to_bytes(3, "little") + b"\x07" + p for p in [*packets, b"\xfe\x00\x00\x02\x00"])


@PROPERTY
@given(
    st.integers(1, 4).flatmap(
        lambda width: st.lists(st.lists(CELLS, min_size=width, max_size=width), min_size=1, max_size=12)
    ),
    st.data(),
)
def test_rows_arrive_whole_in_pieces_of_any_size(rows, data):
    sent, found, parsed = on_the_wire(rows), Rows(), []
    while sent:
        cut = data.draw(st.integers(1, len(sent)))
        found.feed(sent[:cut])
        sent = sent[cut:]
        if found.size and data.draw(st.booleans()):
            parsed += zip(*(column.to_pylist() for column in columns_of(*found.taken(), len(rows[0]))), strict=True)
    if found.size:
        parsed += zip(*(column.to_pylist() for column in columns_of(*found.taken(), len(rows[0]))), strict=True)
    assert parsed == [tuple(row) for row in rows]
    assert found.last == b"\xfe\x00\x00\x02\x00"


def test_an_error_in_the_middle_ends_the_rows():
    found = Rows()
    found.feed(on_the_wire([[b"a"]])[:-9] + b"\x04\x00\x00\x08\xff\x25\x05x")
    assert (found.last, found.size) == (b"\xff\x25\x05x", 6)


def test_a_row_of_several_packets_is_not_taken_for_one():
    with pytest.raises(OverflowError):
        Rows().feed(b"\xff\xff\xff\x00" + b"a" * 0xFFFFFF)

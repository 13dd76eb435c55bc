"""How text files are written: told by marks, zero bytes and strict UTF-8, never guessed; else said, and a warning."""

import random

import pytest

import tidymerge
from conftest import database, stored
from tidymerge import errors
from tidymerge.formats.csv.encoding import decoded

WORDS = (
    "forêt", "Besançon", "Nîmes", "Überlingen", "Straße", "schön", "Malmö", "Åre", "Ærø", "Tromsø", "Málaga", "año", "São", "coração",
    "naïve", "Zoë", "€ 5", "“quoted”", "œuvre", "Ÿ", "ðu", "Þór", "£3", "½ kg", "hive", "queen", "calm",
)  # fmt: skip


@pytest.mark.parametrize("seed", range(20))
def test_no_file_of_the_west_is_misread(seed):
    chance = random.Random(seed)
    text = "\n".join(",".join(chance.choices(WORDS, k=3)) for _ in range(chance.choice([1, 2, 5, 40]))) + "\n"
    for encoding in ("cp1252", "utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "utf-32"):
        found = decoded(text.encode(encoding), None, "in.csv")
        assert found.data.decode() == text
        assert found.assumed == (encoding == "cp1252" and not text.isascii())


def test_what_is_no_text_of_that_encoding_is_refused():
    for data, given in ((b"a\x81b\n", None), (b"\xff\xfea\0\xd8", None), ("é".encode("cp1252"), "utf-8")):
        with pytest.raises(errors.WrongEncoding):
            decoded(data, given, "in.csv")
    assert decoded(b"a,\0b\nc\n", None, "in.csv").encoding == "utf-8"  # a zero byte alone makes no UTF-16


def test_letters_that_an_assumed_encoding_would_change_are_a_warning(folder, run):
    target = database(
        folder / "a.db",
        "CREATE TABLE t (k INTEGER PRIMARY KEY, town TEXT)",
        "t",
        [(1, "Nîmes"), (2, "Paris"), (3, "Lyon")],
    )
    (folder / "in.csv").write_bytes("k,town\n1,Nîmes\n2,Orléans\n3,Metz\n".encode("cp1252"))
    stopped = run("load", "in.csv", "--into", target)
    assert stopped.status == 4
    assert "1 stored text to one with letters beyond ASCII: row 3 town 'Paris' becomes 'Orléans'" in " ".join(
        stopped.out.split()
    )
    assert run("load", "in.csv", "--into", target, "--encoding", "cp1252").status == 0
    assert [row[1].decode() for row in stored(target)] == ["Nîmes", "Orléans", "Metz"]
    (folder / "as_target.csv").write_bytes("k,town\n1,Nîmes\n".encode("cp1252"))
    tidymerge.load(folder / "in.csv", folder / "as_target.csv", key="k", accept_warnings=True)
    assert (folder / "as_target.csv").read_bytes().decode("cp1252") == "k,town\n1,Nîmes\n2,Orléans\n3,Metz\n"


@pytest.mark.parametrize(
    ("text", "quote"),
    [
        ("k,note\n1,'x'\n", '"'), ("k,note\n1,'x'\n2,'y'\n", '"'), ("'k','note'\n'1','a, b'\n", "'"), ("'k','note'\n1,2\n3,4\n5,6\n", '"'),
        ("'k';'note'\n'1';\"x\"\n", '"'), ("'k','note'\n'1','it's'\n", '"'),
    ],
)  # fmt: skip
def test_a_quote_is_not_told_by_one_cell(folder, text, quote):
    from tidymerge.model import ReadOptions
    from tidymerge.sources import open_source

    (folder / "in.csv").write_text(text)
    source = open_source(str(folder / "in.csv"), ReadOptions())
    assert source.quote == quote
    assert any("name the quote sign" in note for note in source.notes) == (quote == "'")

"""Two structures: what was done to one is what is told, no more and no less."""

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from tidymerge.core.infer.structure import differences
from tidymerge.model.structure import StoredColumn, Structure

_TYPES = {  # in families, each type holds all that the ones before hold
    "text": [("VARCHAR(5)", {"length": 5}), ("VARCHAR(9)", {"length": 9}), ("TEXT", {})],
    "decimal": [("DECIMAL(4, 1)", {"precision": 4, "scale": 1}), ("DECIMAL(8, 2)", {"precision": 8, "scale": 2})],
    "integer": [("SMALLINT", {"least": -(2**15), "most": 2**15 - 1}), ("INT", {"least": -(2**31), "most": 2**31 - 1})],
}
_TYPE = st.sampled_from([(kind, at) for kind, types in _TYPES.items() for at in range(len(types))])


def _column(name, kind, at, *, required):
    declared, bounds = _TYPES[kind][at]
    return StoredColumn(name, declared, kind, required=required, **bounds)


def _columns(names):
    return st.tuples(*(st.builds(lambda of, needed, name=name: _column(name, *of, required=needed), _TYPE, st.booleans())
                       for name in names))  # fmt: skip


def _structures():
    names = st.lists(st.sampled_from("abcdef"), unique=True, max_size=6)
    some = st.frozensets(st.sampled_from(["a", "a + b", "c"])).map(lambda found: tuple(sorted(found)))
    unique = some.map(lambda found: tuple(tuple(one.split(" + ")) for one in found))
    return st.builds(Structure, names.flatmap(_columns), st.sampled_from([(), ("a",)]), unique, some, some)


@given(_structures(), _structures())
def test_every_difference_is_told_once(before, after):
    told = {(one.part, one.name, one.before, one.after) for one in differences(before, after)}
    olds, news = ({one.name: one for one in side.columns} for side in (before, after))
    expected = {("column", name, olds[name].type, None) for name in olds.keys() - news.keys()}
    expected |= {("column", name, None, news[name].type) for name in news.keys() - olds.keys()}
    for name in olds.keys() & news.keys():
        old, new = olds[name], news[name]
        expected |= {("type", name, old.type, new.type)} if old.type != new.type else set()
        words = ["may not be blank" if one.required else "may be blank" for one in (old, new)]
        expected |= {("blanks", name, *words)} if old.required != new.required else set()
    sides = {
        "primary key": ({before.primary_key} - {()}, {after.primary_key} - {()}),
        "unique": (set(before.unique), set(after.unique)),
        "reference": ({(one,) for one in before.references}, {(one,) for one in after.references}),
        "check": ({(one,) for one in before.checks}, {(one,) for one in after.checks}),
    }
    for part, (old, new) in sides.items():
        expected |= {(part, " + ".join(one), " + ".join(one), None) for one in old - new}
        expected |= {(part, " + ".join(one), None, " + ".join(one)) for one in new - old}
    assert told == expected
    assert len(told) == len(differences(before, after))


@given(_TYPE, _TYPE)
def test_a_type_is_narrower_if_it_can_not_hold_what_the_other_held(one, other):
    before, after = (Structure((_column("x", *of, required=False),)) for of in (one, other))
    narrower = [found.narrower for found in differences(before, after)]
    if one == other:
        assert narrower == []
    elif one[0] == other[0]:
        assert narrower == [other[1] < one[1]]
    else:  # a number is at home in a text, and a whole one in a decimal with as many digits before the point
        assert narrower == [other[0] != "text" and (one, other) != (("integer", 0), ("decimal", 1))]


@given(_structures())
def test_types_that_the_data_told_differ_only_if_they_do_not_fit(before):
    seen = replace(before, told=True, columns=tuple(replace(one, name=one.name.upper()) for one in before.columns))
    assert differences(before, seen) == differences(seen, before) == ()
    texts = replace(seen, columns=tuple(replace(one, type="text", kind="text") for one in seen.columns))
    assert differences(before, texts) == ()
    dates = replace(seen, columns=tuple(replace(one, type="date", kind="date") for one in seen.columns))
    assert {one.name for one in differences(before, dates)} == {
        one.name.upper() for one in before.columns if one.kind != "text"
    }

"""What of a condition a database may tell by itself: whole numbers held against numbers, and nothing else."""

import pytest

from tidymerge.core.expressions import terms_of
from tidymerge.model.terms import Term


@pytest.mark.parametrize(
    ("condition", "terms"),
    [
        ("n = 3", [Term("n", "=", (3,))]),
        ("-3 <= n", [Term("n", ">=", (-3,))]),
        ("(existing.n in (1, 2)) and m <> 0", [Term("n", "in", (1, 2)), Term("m", "<>", (0,))]),
        ("n between -1 and 5 and m is not null", [Term("n", ">=", (-1,)), Term("n", "<=", (5,)), Term("m", "there")]),
        ('"n" is null', [Term("n", "null")]),
        ("n = 3 or m = 4", None), ("not n = 3", None), ("n = 3.5", None), ("n = '3'", None), ("n = m", None),
        ("n + 1 = 3", None), ("note = 3", None), ("n = 9223372036854775808", None), ("N = 3", None),
        ("n in (1, m)", None), ("n = 3 and note like 'a%'", None), ("10 / n > 1 and n = 3", None),
    ],
)  # fmt: skip
def test_terms_say_all_of_a_condition_or_nothing(condition, terms):
    assert terms_of(condition, {"n", "m"}) == (None if terms is None else tuple(terms))

"""What a client asks for in a URL, as SQL with bound parameters: `$filter`, and the keys in parentheses."""

import re
from typing import Any

from tidymerge.databases.contract.database import quoted
from tidymerge.demo.lists.store import EntitySet, Trouble
from tidymerge.demo.lists.types import BadValue, Property, to_stored

_TOKEN = re.compile(r"\s*(?:(?P<text>'(?:[^']|'')*')|(?P<binary>binary'[^']*')|(?P<mark>[(),])|(?P<word>[^\s(),']+))")
_NAMED = re.compile(r"(?:^|,)\s*(\w+)\s*=\s*('(?:[^']|'')*'|[^,']+)")
_COMPARES = {"eq": "=", "ne": "<>", "gt": ">", "ge": ">=", "lt": "<", "le": "<="}


class _Filter:
    """A `$filter` while it is read: comparisons of properties with literals, in, and, or, not, parentheses."""

    def __init__(self, text: str, one: EntitySet) -> None:
        self._set, self.values = one, list[Any]()
        self._tokens = _tokens(text)
        self._at = 0

    def sql(self) -> str:
        found = self._either()
        if self._at < len(self._tokens):
            raise Trouble(400, f"$filter can't be read at {self._tokens[self._at]!r}")
        return found

    def _next(self) -> str:
        if self._at >= len(self._tokens):
            raise Trouble(400, "$filter ends too early")
        self._at += 1
        return self._tokens[self._at - 1]

    def _is_next(self, word: str) -> bool:
        if self._at < len(self._tokens) and self._tokens[self._at] == word:
            self._at += 1
            return True
        return False

    def _either(self) -> str:
        terms = [self._both()]
        while self._is_next("or"):
            terms.append(self._both())
        return f"({' OR '.join(terms)})" if len(terms) > 1 else terms[0]

    def _both(self) -> str:
        terms = [self._one()]
        while self._is_next("and"):
            terms.append(self._one())
        return f"({' AND '.join(terms)})" if len(terms) > 1 else terms[0]

    def _one(self) -> str:
        if self._is_next("not"):
            return f"NOT {self._one()}"
        if self._is_next("("):
            found = self._either()
            if not self._is_next(")"):
                raise Trouble(400, "$filter misses a parenthesis")
            return found
        return self._comparison()

    def _comparison(self) -> str:
        name, how = self._next(), self._next()
        if name not in self._set.properties:
            raise Trouble(400, f"{self._set.name} has no property {name!r}")
        one = self._set.properties[name]
        if how == "in":
            return f"{quoted(name)} IN ({', '.join(self._list(one))})"
        if how not in _COMPARES:
            raise Trouble(400, f"$filter does not know {how!r}")
        if self._is_next("null"):
            if how not in ("eq", "ne"):
                raise Trouble(400, "null is compared by eq and ne")
            return f"{quoted(name)} IS {'NOT ' if how == 'ne' else ''}NULL"
        return f"{_compared(one)} {_COMPARES[how]} {self._literal(one)}"

    def _list(self, one: Property) -> list[str]:
        if not self._is_next("("):
            raise Trouble(400, "$filter: in takes a list in parentheses")
        marks = [self._literal(one)]
        while self._is_next(","):
            marks.append(self._literal(one))
        if not self._is_next(")"):
            raise Trouble(400, "$filter misses a parenthesis")
        return marks

    def _literal(self, one: Property) -> str:
        self.values.append(literal(self._next(), one))
        return "CAST(? AS NUMERIC)" if one.type == "Decimal" else "?"


def _compared(one: Property) -> str:
    return f"CAST({quoted(one.name)} AS NUMERIC)" if one.type == "Decimal" else quoted(one.name)


def _tokens(text: str) -> list[str]:
    found, at = [], 0
    while text[at:].strip():
        token = _TOKEN.match(text, at)
        if token is None:
            raise Trouble(400, f"this can't be read at {text[at : at + 20]!r}")
        found.append(token[0].strip())
        at = token.end()
    return found


def filtered(text: str | None, one: EntitySet) -> tuple[str, list[Any]]:
    """A `$filter` as a condition of SQL and its parameters. Raises Trouble."""
    if not text:
        return "1", []
    found = _Filter(text, one)
    return found.sql(), found.values


def literal(text: str, one: Property) -> Any:
    """A literal of a URL as it is stored. Raises Trouble."""
    value: Any = text
    if text.startswith("'"):
        value = text[1:-1].replace("''", "'")
    elif text.startswith("binary'"):
        value = text[7:-1]
    elif text in ("true", "false"):
        value = text == "true"
    elif one.type == "Double":
        value = float(text)
    elif one.type in ("SByte", "Int16", "Int32") and re.fullmatch(r"-?\d+", text):
        value = int(text)
    try:
        return to_stored(value, one)
    except (BadValue, ValueError):
        raise Trouble(400, f"{text[:80]} is no literal for {one.name}") from None


def key_in(text: str, one: EntitySet) -> list[Any]:
    """The values of a key as it stands in parentheses: one literal, or a name and a literal each. Raises Trouble."""
    named = dict(_NAMED.findall(text))
    if len(one.key) == 1 and not named:
        return [literal(text.strip(), one.properties[one.key[0]])]
    if set(named) != set(one.key):
        raise Trouble(400, f"a record of {one.name} is named by {', '.join(one.key)}")
    return [literal(named[name].strip(), one.properties[name]) for name in one.key]

"""Tables and how they refer to each other: as text, and where each stands in a picture."""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct


class Relation(Struct, frozen=True):
    """Columns of a table that must be found as `referred` columns of another one."""

    table: str
    columns: tuple[str, ...]
    other: str
    referred: tuple[str, ...]


class Node(Struct, frozen=True):
    """A table: its name, how many rows and columns it has, and its primary key."""

    name: str
    rows: int
    columns: int
    key: tuple[str, ...] = ()


def layers(nodes: Sequence[Node], relations: Iterable[Relation]) -> list[list[str]]:
    """The tables from left to right: parents before their children, those that belong together at about one height.

    Tables that refer to each other in a circle stand side by side.
    """
    names = [node.name for node in nodes]
    parents: dict[str, set[str]] = {name: set() for name in names}
    for one in relations:
        if one.other != one.table and one.table in parents and one.other in parents:
            parents[one.table].add(one.other)
    depth = _depths(names, parents)
    found: dict[int, list[str]] = defaultdict(list)
    for name in names:
        found[depth[name]].append(name)
    ordered = [found[at] for at in sorted(found)]
    place = {name: at for layer in ordered for at, name in enumerate(layer)}
    for layer in ordered[1:]:
        layer.sort(key=lambda name: (_middle(parents[name], place), name))
        place.update({name: at for at, name in enumerate(layer)})
    return ordered


def _depths(names: Sequence[str], parents: Mapping[str, set[str]]) -> dict[str, int]:
    """How many tables stand before each; those in a circle take the first place that is free of it."""
    depth: dict[str, int] = {}
    waiting = list(names)
    while waiting:
        ready = [name for name in waiting if parents[name] <= depth.keys()]
        ready = ready or [_in_first_circle(waiting, parents)]
        for name in ready:
            depth[name] = 1 + max((depth[parent] for parent in parents[name] if parent in depth), default=-1)
        waiting = [name for name in waiting if name not in depth]
    return depth


def _in_first_circle(waiting: Sequence[str], parents: Mapping[str, set[str]]) -> str:
    """A table in a circle that has no other circle before it: what is before it, it is before as well."""
    before = {name: parents[name] & set(waiting) for name in waiting}
    for _ in waiting:  # a step further each time, until nothing is new
        grown = {name: known.union(*(before[other] for other in known)) for name, known in before.items()}
        if grown == before:
            break
        before = grown
    return min(name for name in waiting if all(name in before[other] for other in before[name]))


def _middle(parents: Iterable[str], place: Mapping[str, int]) -> float:
    """The height of the parents, on average."""
    heights = [place[name] for name in parents if name in place]
    return sum(heights) / len(heights) if heights else 0.0


def as_mermaid(nodes: Sequence[Node], relations: Iterable[Relation]) -> str:
    """The tables as an entity relationship diagram in Mermaid's text form."""
    lines = ["erDiagram"]
    lines += [f"    {_name(node.name)}" for node in nodes]
    lines += [
        f"    {_name(one.other)} ||--o{{ {_name(one.table)} : {_name(' + '.join(one.columns))}" for one in relations
    ]
    return "\n".join(lines) + "\n"


def _name(text: str) -> str:
    kept = "".join(sign if sign.isprintable() and sign != '"' else "'" for sign in text)
    return f'"{kept}"'


def as_dot(nodes: Sequence[Node], relations: Iterable[Relation]) -> str:
    """The tables as a graph in the DOT language, parents at the left."""
    box = 'shape=box style="rounded,filled" fillcolor="#f6f3ea" fontname="DejaVu Sans"'
    lines = ["digraph {", f"  rankdir=LR; node [{box}];", '  edge [fontname="DejaVu Sans" fontsize=9 dir=back];']
    for node in nodes:
        parts = [node.name, f"{node.rows:,} rows", *([f"key: {' + '.join(node.key)}"] if node.key else [])]
        lines.append(f"  {_dotted(node.name)} [label={_dotted(*parts)}];")
    lines += [f"  {_dotted(one.other)} -> {_dotted(one.table)} [label={_dotted(*one.columns)}];" for one in relations]
    return "\n".join([*lines, "}"]) + "\n"


def _dotted(*parts: str) -> str:
    """A quoted text in DOT, of some lines."""
    kept = ("".join(sign if sign.isprintable() else "?" for sign in part) for part in parts)
    return '"' + "\\n".join(part.replace("\\", "\\\\").replace('"', '\\"') for part in kept) + '"'

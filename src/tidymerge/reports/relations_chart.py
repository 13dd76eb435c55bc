"""The tables of a database and how they refer to each other, as a picture: by graphviz if it is there, else by us."""

import shutil
import subprocess
from collections.abc import Iterator, Mapping, Sequence
from io import BytesIO
from pathlib import Path
from typing import Any

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import FancyArrowPatch, FancyBboxPatch
from PIL import Image  # which Matplotlib brings along
from PIL.PngImagePlugin import PngInfo

from tidymerge.core.explain.relations import Node, Relation, as_dot, layers
from tidymerge.errors import BadOption
from tidymerge.on_disk import replacing
from tidymerge.reports.bars import cut
from tidymerge.reports.charts import INK, PAPER, STYLE, save
from tidymerge.reports.ours import SIGN

_WIDE, _HIGH, _APART, _ABOVE = 2.5, 0.62, 1.7, 0.46  # inches: of a box, between layers, between boxes
_BOX, _LINE = "#f6f3ea", "#5a616b"
_CLEAR = {"facecolor": PAPER, "edgecolor": "none", "pad": 0.6}
_SECONDS = 60


def relations_chart(nodes: Sequence[Node], relations: Sequence[Relation], title: str, path: Path) -> None:
    """Draw them, as PNG or SVG. Raises BadOption if the file can't be written."""
    program = shutil.which("dot")
    if program and _by_graphviz(program, as_dot(nodes, relations), path):
        return
    found = layers(nodes, relations)
    most = max(map(len, found))
    width, height = len(found) * (_WIDE + _APART), most * (_HIGH + _ABOVE) + 0.9
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(max(width, 6), max(height, 2.4)))
        axes = figure.add_axes((0, 0, 1, 1))
        axes.set_axis_off()
        axes.set(xlim=(-0.3, max(width, 6) - 0.3), ylim=(-0.3, max(height, 2.4) - 0.3))
        axes.text(0, max(height, 2.4) - 0.62, cut(title), fontsize=12, fontweight="bold")
        step = _HIGH + _ABOVE
        places = {
            name: (at * (_WIDE + _APART), ((most - len(layer)) / 2 + len(layer) - 1 - row) * step)
            for at, layer in enumerate(found)
            for row, name in enumerate(layer)
        }
        for relation, height_in_box in _spread(relations, places):
            _arrow(axes, relation, places, height_in_box)
        for node in nodes:
            _box(axes, node, places[node.name])
        save(figure, path)


def _box(axes: Axes, node: Node, place: tuple[float, float]) -> None:
    x, y = place
    shape = "round,pad=0.02,rounding_size=0.08"
    axes.add_patch(FancyBboxPatch((x, y), _WIDE, _HIGH, boxstyle=shape, fc=_BOX, ec=INK, lw=0.9, zorder=3))
    key = f", key {' + '.join(node.key)}" if node.key else ""
    axes.text(x + 0.12, y + _HIGH * 0.62, cut(node.name, 26), fontsize=10, fontweight="bold", va="center", zorder=4)
    axes.text(x + 0.12, y + _HIGH * 0.25, cut(f"{node.rows:,} rows{key}", 40), fontsize=7, va="center", zorder=4)


def _spread(
    relations: Sequence[Relation], places: Mapping[str, tuple[float, float]]
) -> Iterator[tuple[Relation, float]]:
    """The relations, and where each leaves its table: those to higher parents further up, so that none crosses."""
    known = [one for one in relations if one.table in places and one.other in places]
    for table in dict.fromkeys(one.table for one in known):
        own = sorted((one for one in known if one.table == table), key=lambda one: places[one.other][1])
        leaving = [one for one in own if one.other != table]
        yield from ((one, 0.0) for one in own if one.other == table)
        yield from ((one, _HIGH * (at + 1) / (len(leaving) + 1)) for at, one in enumerate(leaving))


def _arrow(axes: Axes, relation: Relation, places: Mapping[str, tuple[float, float]], height: float) -> None:
    """From a child to its parent, with the columns beside the child; a table within itself has a loop at its top."""
    (x, y), (to_x, to_y) = places[relation.table], places[relation.other]
    label = cut(" + ".join(relation.columns), 24)
    if relation.table == relation.other:
        start, end, bend = (x + _WIDE * 0.74, y + _HIGH), (x + _WIDE * 0.9, y + _HIGH), -1.3
        axes.text(x + _WIDE * 0.71, y + _HIGH + 0.1, label, fontsize=7, ha="right", color=_LINE)
    else:
        same = x == to_x
        start = (x + (_WIDE if same else 0), y + height)
        end, bend = (to_x + _WIDE, to_y + _HIGH / 2), 0.4 if same else 0.08
        side, aside = ("left", 0.06) if same else ("right", -0.06)
        axes.text(start[0] + aside, start[1] + 0.05, label, fontsize=7, ha=side, color=_LINE, bbox=_CLEAR)
    looks: dict[str, Any] = {"arrowstyle": "-|>", "mutation_scale": 10, "color": _LINE, "lw": 0.9, "zorder": 2}
    axes.add_patch(FancyArrowPatch(start, end, connectionstyle=f"arc3,rad={bend}", **looks))


def _by_graphviz(program: str, graph: str, path: Path) -> bool:
    """Let graphviz draw them; whether it could."""
    kind = path.suffix.lower().lstrip(".")
    command = [program, f"-T{kind}"]
    try:
        done = subprocess.run(command, input=graph.encode(), capture_output=True, timeout=_SECONDS, check=False)  # noqa: S603 - no word of it is anybody's
    except (OSError, subprocess.TimeoutExpired):
        return False
    if done.returncode or not done.stdout:
        return False
    try:
        with replacing(path) as draft:
            if kind == "svg":
                draft.write_bytes(done.stdout + f"<!-- {SIGN} -->\n".encode())
            else:
                sign = PngInfo()
                sign.add_text("Software", SIGN)
                Image.open(BytesIO(done.stdout)).save(draft, format="png", pnginfo=sign)
    except OSError as error:
        raise BadOption(f"The picture can't be written to {path}: {error.strerror or error}.") from None
    return True

"""Two tables or files side by side: the `compare` command's own flow. Nothing is written to either."""

from collections.abc import Collection, Mapping, Sequence
from contextlib import ExitStack

import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.address import STANDARD_INPUT, parse, without_password
from tidymerge.core.account import account
from tidymerge.core.decide.side_by_side import differences, read_both
from tidymerge.core.explain.differing import all_that_differs
from tidymerge.core.infer.both import Both, Side, of_both
from tidymerge.core.naming.header import ROWS_SEARCHED, likely_header
from tidymerge.core.tidy.fill import merged_notes
from tidymerge.core.warn.caution import near_misses, uncalculated
from tidymerge.core.words import plural
from tidymerge.databases import is_database
from tidymerge.errors import BadOption, about
from tidymerge.formats.files import says_format
from tidymerge.model import EqualTexts, Incoming, ReadOptions, Sample
from tidymerge.model.changes import ChangeSet
from tidymerge.model.receipt import Action, Receipt, Request, State, Touch
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Collated, Target
from tidymerge.reports.changes_file import write_differences
from tidymerge.run.ask import equal_texts
from tidymerge.run.decided import Decided, Part
from tidymerge.run.opening import NO_OUTPUTS, QUIET, opened
from tidymerge.run.outputs import Outputs
from tidymerge.run.report import Clock, first_touches, make_receipt
from tidymerge.sources import open_source


class Comparison(Struct, frozen=True):
    """What is to be compared: two addresses, the key, and columns of the first that are called otherwise in the second.

    `only` limits the columns that are compared; `header_row` holds for both sides that are sheets or text files.
    """

    first: str
    second: str
    key: tuple[str, ...] = ()
    renames: Mapping[str, str] = field(default_factory=dict)
    only: tuple[str, ...] = ()
    read: ReadOptions = field(default_factory=ReadOptions)
    header_row: int | None = None


def compare(
    asked: Comparison, most: int = 0, *, outputs: Outputs = NO_OUTPUTS, progress: Progress = QUIET
) -> tuple[Receipt, list[Touch]]:
    """How the second table differs from the first, and the first `most` records that do. Both are held in memory.

    Of the `outputs`, page and chart are the caller's. Raises UsageError, SourceError and TargetError.
    """
    clock = Clock.begin(named=False)
    outputs.check(incoming=[asked.first, asked.second])
    if asked.header_row is not None and asked.header_row < 1:
        raise BadOption("Rows count from 1, so the row of the column names is 1 or more.")
    with ExitStack() as stack:
        texts = (asked.first, asked.second)
        targets = [stack.enter_context(opened(text, write=False)) if is_database(text) else None for text in texts]
        progress.stage("reading both sides")
        first, second = _sides(asked, targets)
        both = of_both(first, second, renames=asked.renames, only=asked.only, key=asked.key)
        progress.stage("comparing them")
        sides = read_both((first.incoming, both.first), (second.incoming, both.second), both.shape, clock.started)
        judge = next((target for target in targets if isinstance(target, Collated)), None)
        changes = differences(sides, _equal(both, sides.texts_to_ask, judge))
        known = [sides.keys_of_first]
    parts = [(lambda: second.incoming, changes.without_absent())]
    warnings = [
        *uncalculated(first.incoming, both.first.sources),
        *uncalculated(second.incoming, both.second.sources),
        *near_misses(parts, known, both.second, _near_miss),
    ]
    decided = _decided(first, second, both, changes, warnings)
    if outputs.changes is not None:
        write_differences(all_that_differs(second.incoming, changes), both.second.key, outputs.changes)
    return make_receipt(decided, State.PREVIEWED, clock), first_touches(decided, most)


def _sides(asked: Comparison, targets: Sequence[Target | None]) -> tuple[Side, Side]:
    """The rows of both sides. A database's are read first, as its names tell where those of a sheet stand."""
    found: dict[int, Side] = {}
    names = {*asked.renames, *asked.renames.values(), *asked.key}
    for at in sorted((0, 1), key=lambda at: targets[at] is None):
        text, target = (asked.first, asked.second)[at], targets[at]
        declared = None if target is None else target.describe()
        with about(address=without_password(text)):
            options = _options(asked.read, text) if target is None else ReadOptions()
            incoming = _read(text, options, 1 if target is not None else asked.header_row, names if found else ())
        found[at] = Side(incoming, declared)
        names |= {*found[at].names}
    return found[0], found[1]


def _options(read: ReadOptions, text: str) -> ReadOptions:
    """How a side is read; the format that is said is that of the side whose name says none."""
    named = text != STANDARD_INPUT and says_format(parse(text))
    return replace(read, format=None) if named else read


def _read(text: str, options: ReadOptions, header_row: int | None, names: Collection[str]) -> Incoming:
    """All rows at an address; the row of the column names is found by those of the other side, or by its look."""
    source = open_source(text, options)
    at = likely_header(source.head(ROWS_SEARCHED), names)[0] if header_row is None else header_row - 1
    return source.read(at)


def _equal(both: Both, texts: Mapping[str, pa.Array], judge: Target | None) -> dict[str, EqualTexts]:
    """Which of the texts in the key are equal, as the database of one side has it."""
    if judge is None or not texts:
        return {}
    columns = {name: both.judges[name] for name in texts}
    return {
        name: equal_texts(judge, [column], {column.name: texts[name]})[column.name] for name, column in columns.items()
    }


def _near_miss(difference: str, count: int, row: int, theirs: str, ours: str) -> str:
    words = plural(count, "key only in the second equals one", "keys only in the second equal some")
    return f"{count:,} {words} of the first but for {difference}: row {row} has {theirs!r}, the first has {ours!r}."


def _decided(first: Side, second: Side, both: Both, changes: ChangeSet, warnings: Sequence[str]) -> Decided:
    """What was found, proved as a load is: every row of the second has one end, every row of the first at most one."""
    tally = account.tally([changes])
    account.prove_tally(tally, changes, len(second.incoming.row_numbers))
    notes = (
        *first.incoming.notes,
        *merged_notes(first.incoming),
        *second.incoming.notes,
        *merged_notes(second.incoming),
    )
    return Decided(
        target=without_password(first.incoming.address),
        sample=Sample(second.incoming),
        shape=both.shape,
        pairing=both.second,
        rows_before=len(first.incoming.row_numbers),
        parts=(Part(lambda: second.incoming, changes, len(second.incoming.row_numbers)),),
        tally=tally,
        fingerprint=account.fingerprint([changes]),
        warnings=tuple(warnings),
        notes=tuple(dict.fromkeys(notes)),
        view=(),
        request=Request(Action.COMPARE),
    )

"""A run's entry in the log, a JSON file of the form `tidymerge-log/1` (docs/log.md).

The keys stand here by themselves: renaming a field of a record changes no key. A key that is younger than the form is
not required, so that older entries can still be read. Entries of the form before are turned into this one first.
"""

import json
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import NotRequired, TypedDict

from tidymerge.errors import LogDamaged
from tidymerge.history import earlier_form
from tidymerge.model import Definition
from tidymerge.model.receipt import State
from tidymerge.model.receipt_form import (
    ReceiptForm,
    receipt_from_dict,
    receipt_to_dict,
)
from tidymerge.model.request_form import RequestForm, request_from_dict, request_to_dict
from tidymerge.model.run import OtherTable, Run
from tidymerge.model.runs_form import OriginForm
from tidymerge.model.structure import StoredColumn, Structure

FORMAT = "tidymerge-log/1"
_DAMAGED = "The run log's file {path} can't be read: {said}. Move it away to go on without it."


class DefinitionForm(TypedDict):
    """How the target declared a column that went."""

    plain: str
    full: str
    required: NotRequired[bool]


class ColumnForm(TypedDict):
    """A column of the target, as it was at the end of the run; bounds that it has not are left out."""

    name: str
    type: str
    kind: str
    required: bool
    length: NotRequired[int]
    precision: NotRequired[int]
    scale: NotRequired[int]
    least: NotRequired[int]
    most: NotRequired[int]


class StructureForm(TypedDict):
    """The structure of the target at the end of the run; `told` says that the data told the types."""

    columns: tuple[ColumnForm, ...]
    primary_key: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...]
    references: tuple[str, ...]
    checks: tuple[str, ...]
    told: bool


class OtherTableForm(TypedDict):
    """A further table of the run."""

    called: str
    target: str
    key: tuple[str, ...]
    record_key: tuple[str, ...]
    marked: bool
    whole: bool
    definitions: NotRequired[Mapping[str, DefinitionForm]]
    structure: NotRequired[StructureForm | None]


class EntryForm(TypedDict):
    """The whole entry."""

    format: str
    run: str
    state: str
    settled: bool
    started: str
    user: str
    job: str | None
    incoming: tuple[OriginForm, ...]
    target: str
    undoes: str | None
    key: tuple[str, ...]
    record_key: tuple[str, ...]
    marked: bool
    latest: Mapping[str, str]
    message: str | None
    receipt: ReceiptForm | None
    newest: NotRequired[Mapping[str, str]]
    request: NotRequired[RequestForm | None]
    once: NotRequired[bool]
    appends: NotRequired[bool]
    whole: NotRequired[bool]
    definitions: NotRequired[Mapping[str, DefinitionForm]]
    structure: NotRequired[StructureForm | None]
    others: NotRequired[tuple[OtherTableForm, ...]]
    called: NotRequired[str]
    holds: NotRequired[Mapping[str, tuple[int, ...]]]


def to_json(run: Run) -> str:
    """The entry of a run."""
    form: EntryForm = {
        "format": FORMAT,
        "run": run.name,
        "state": run.state.value,
        "settled": run.settled,
        "started": run.started.isoformat(),
        "user": run.user,
        "job": run.job,
        "incoming": tuple({"address": address, "sha256": checksum} for address, checksum in run.files.items()),
        "target": run.target,
        "undoes": run.undoes,
        "key": run.key,
        "record_key": run.record_key,
        "marked": run.marked,
        "latest": dict(run.latest),
        "newest": dict(run.newest),
        "message": run.message,
        "receipt": None if run.receipt is None else receipt_to_dict(run.receipt),
        "request": request_to_dict(run.request),
        "once": run.once,
        "appends": run.appends,
        "whole": run.whole,
        "definitions": _definitions_to(run.definitions),
        "structure": _structure_to(run.structure),
    }
    form["called"] = run.called
    if run.holds is not None:
        form["holds"] = {str(table): places for table, places in run.holds.items()}
    form["others"] = tuple(
        {
            "called": one.called,
            "target": one.target,
            "key": one.key,
            "record_key": one.record_key,
            "marked": one.marked,
            "whole": one.whole,
            "definitions": _definitions_to(one.definitions),
            "structure": _structure_to(one.structure),
        }
        for one in run.others
    )
    return json.dumps(form, ensure_ascii=False, indent=1)


def _definitions_to(known: Mapping[str, Definition]) -> dict[str, DefinitionForm]:
    return {name: {"plain": one.plain, "full": one.full, "required": one.required} for name, one in known.items()}


def _definitions(form: Mapping[str, DefinitionForm]) -> dict[str, Definition]:
    return {name: Definition(one["plain"], one["full"], one.get("required", False)) for name, one in form.items()}


def _structure_to(known: Structure | None) -> StructureForm | None:
    if known is None:
        return None
    return {
        "columns": tuple(_column_to(one) for one in known.columns),
        "primary_key": known.primary_key,
        "unique": known.unique,
        "references": known.references,
        "checks": known.checks,
        "told": known.told,
    }


def _column_to(one: StoredColumn) -> ColumnForm:
    form: ColumnForm = {"name": one.name, "type": one.type, "kind": one.kind, "required": one.required}
    if one.length is not None:
        form["length"] = one.length
    if one.precision is not None:
        form["precision"] = one.precision
    if one.scale is not None:
        form["scale"] = one.scale
    if one.least is not None and one.most is not None:
        form |= {"least": one.least, "most": one.most}
    return form


def _structure(form: StructureForm | None) -> Structure | None:
    if form is None:
        return None
    columns = tuple(
        StoredColumn(
            one["name"], one["type"], one["kind"], one.get("length"), one.get("precision"), one.get("scale"),
            one.get("least"), one.get("most"), one["required"],
        )
        for one in form["columns"]
    )  # fmt: skip
    return Structure(
        columns, form["primary_key"], form["unique"], form["references"], form["checks"], told=form["told"]
    )


def read_entry(path: Path) -> Run:
    """The run of an entry. Raises LogDamaged."""
    import msgspec  # late: a load into a new log reads none

    try:
        data = msgspec.json.decode(path.read_bytes())
        if data["format"] == earlier_form.FORMAT:
            data = earlier_form.renewed(data, FORMAT)
        if data["format"] != FORMAT:
            raise ValueError(f"it is not of the format {FORMAT}")  # noqa: TRY301 - one place says what is damaged
        return _run(msgspec.convert(data, EntryForm))
    except (msgspec.MsgspecError, OSError, ValueError, LookupError, TypeError, AttributeError, RecursionError) as error:
        raise LogDamaged(_DAMAGED.format(path=path, said=str(error).partition("\n")[0]), file=str(path)) from None


def _run(form: EntryForm) -> Run:
    return Run(
        name=form["run"],
        state=State(form["state"]),
        started=datetime.fromisoformat(form["started"]),
        user=form["user"],
        target=form["target"],
        files={file["address"]: file["sha256"] for file in form["incoming"]},
        job=form["job"],
        undoes=form["undoes"],
        key=form["key"],
        record_key=form["record_key"],
        marked=form["marked"],
        settled=form["settled"],
        message=form["message"],
        latest=form["latest"],
        newest=form.get("newest", {}),
        receipt=None if form["receipt"] is None else receipt_from_dict(form["receipt"]),
        request=request_from_dict(form.get("request")),
        once=form.get("once", False),
        appends=form.get("appends", False),
        whole=form.get("whole", False),
        called=form.get("called", ""),
        holds={int(table): places for table, places in form["holds"].items()} if "holds" in form else None,
        others=tuple(
            OtherTable(
                one["called"],
                one["target"],
                one["key"],
                one["record_key"],
                one["marked"],
                one["whole"],
                _definitions(one.get("definitions", {})),
                _structure(one.get("structure")),
            )
            for one in form.get("others", ())
        ),
        definitions=_definitions(form.get("definitions", {})),
        structure=_structure(form.get("structure")),
    )


def is_settled(path: Path) -> bool:
    """Whether an entry's run is settled, told without taking all of it apart; one that is gone is no longer open."""
    try:
        return b'"settled": false' not in path.read_bytes()
    except FileNotFoundError:
        return True

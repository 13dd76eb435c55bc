"""The JSON Schemas (2020-12) of what is printed and kept for programs; they follow from the forms themselves."""

from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import Any

import msgspec

from tidymerge.core.infer.spellings import Values
from tidymerge.history import entries
from tidymerge.job.schema import json_schema as job_schema
from tidymerge.model import receipt_form, runs_form
from tidymerge.model.changes import Outcome
from tidymerge.model.comparison_form import FORMAT as COMPARISON
from tidymerge.model.comparison_form import ComparisonForm
from tidymerge.reports.error_json import FailureForm, StoppedForm
from tidymerge.run.draft import FORMAT as DRAFT
from tidymerge.run.draft import DraftForm
from tidymerge.run.look import FORMAT as LOOK
from tidymerge.run.look import VALUES, Overview, View
from tidymerge.run.look_structure import FORMAT as STRUCTURE
from tidymerge.run.look_structure import Compared
from tidymerge.run.would_hold import FORMAT as RULES
from tidymerge.run.would_hold import Verdicts

_DIALECT = "https://json-schema.org/draft/2020-12/schema"
_TEXT = {"type": ["string", "null"]}


def _one_of(forms: Mapping[type, str]) -> dict[str, Any]:
    """The schema of whatever is of one of these forms, each of which says its `format`."""
    roots, parts = msgspec.json.schema_components(forms)
    for form, said in forms.items():
        part = parts[form.__name__]
        part["properties"]["format"] = {"const": said}
        part["required"] = sorted({*part.get("required", ()), "format"})
    return {"$schema": _DIALECT, "anyOf": list(roots), "$defs": parts}


def _receipt() -> dict[str, Any]:
    said = receipt_form.FORMAT
    return _one_of({receipt_form.ReceiptForm: said, StoppedForm: said, FailureForm: said})


def _look() -> dict[str, Any]:
    schema = _one_of({View: LOOK, Overview: LOOK, Values: VALUES, Verdicts: RULES, Compared: STRUCTURE})
    schema["$defs"]["Values"]["properties"]["map"] = _TEXT
    return schema


def _changes() -> dict[str, Any]:
    """That of one line: it has the key columns of the run, which no schema knows."""
    outcomes = [outcome.name.lower() for outcome in Outcome]
    return {
        "$schema": _DIALECT,
        "type": "object",
        "properties": {
            "table": {"type": "string"}, "outcome": {"enum": outcomes}, "row": {"type": "integer"},
            "column": _TEXT, "before": _TEXT, "after": _TEXT,
        },
        "patternProperties": {"^key: ": _TEXT},
        "required": ["outcome", "row", "column", "before", "after"],
        "additionalProperties": False,
    }  # fmt: skip


SCHEMAS: Mapping[str, Callable[[], dict[str, Any]]] = MappingProxyType(
    {
        "job": job_schema,
        "receipt": _receipt,
        "runs": lambda: _one_of({runs_form.RunsForm: runs_form.FORMAT, runs_form.StoryForm: runs_form.FORMAT}),
        "changes": _changes,
        "comparison": lambda: _one_of({ComparisonForm: COMPARISON}),
        "draft": lambda: _one_of({DraftForm: DRAFT}),
        "look": _look,
        "log": lambda: _one_of({entries.EntryForm: entries.FORMAT}),
    }
)

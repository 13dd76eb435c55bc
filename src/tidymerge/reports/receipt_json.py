"""The receipt in its published form, `tidymerge-receipt/1` (docs/receipt.md)."""

from dataclasses import asdict
from typing import Any

from tidymerge.changes import Tally
from tidymerge.receipt import Receipt

FORMAT = "tidymerge-receipt/1"


def receipt_to_dict(receipt: Receipt) -> dict[str, Any]:
    """The receipt as plain data; keys are stable, more may be added."""
    return {
        "format": FORMAT,
        "run": receipt.run,
        "state": receipt.state.value,
        "incoming": {
            "address": receipt.incoming,
            "sheet": receipt.sheet,
            "header_row": receipt.header_row,
            "rows": receipt.rows.read,
        },
        "rows": _rows(receipt.rows),
        "fields_updated": receipt.fields_updated,
        "fingerprint": receipt.fingerprint,
        "verified": receipt.verified,
        "tables": [
            {**asdict(table), "rows": _rows(table.rows), "samples": [_sample(sample) for sample in table.samples]}
            for table in receipt.tables
        ],
        "rejects": asdict(receipt.rejects),
        "warnings": list(receipt.warnings),
        "notes": list(receipt.notes),
        "limits": list(receipt.limits),
        "undoes": receipt.undoes,
        "conflicts": [asdict(conflict) for conflict in receipt.conflicts],
        "started": receipt.started.isoformat(timespec="seconds").replace("+00:00", "Z"),
        "seconds": round(receipt.seconds, 3),
    }


def _rows(tally: Tally) -> dict[str, int]:
    return asdict(tally)


def _sample(sample: Any) -> dict[str, Any]:
    fields = [
        {"column": column, "before": before, "after": after, "changed": changed}
        for column, before, after, changed in sample.fields
    ]
    return {"row": sample.row, "outcome": sample.outcome, "fields": fields}


def failure_to_dict(state: str, code: str, message: str) -> dict[str, Any]:
    """What `--json` prints when a run ends before there is a receipt."""
    return {"format": FORMAT, "run": None, "state": state, "error": {"code": code, "message": message}}

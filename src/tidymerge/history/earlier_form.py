"""Entries that were written before the log had a form of its own: the program's records as they were then.

Such an entry is turned into today's form by its keys alone, so nothing of today's records stands in here.
"""

from typing import Any

from tidymerge.model.receipt_form import FORMAT as RECEIPT_FORMAT

FORMAT = "tidymerge-run/1"


def renewed(entry: dict[str, Any], form: str) -> dict[str, Any]:
    """The entry in today's `form`. KeyError, TypeError or AttributeError where it is damaged."""
    receipt = entry.get("receipt")
    return {
        "format": form,
        "run": entry["name"],
        "state": entry["state"],
        "settled": entry.get("settled", True),
        "started": entry["started"],
        "user": entry["user"],
        "job": entry.get("job"),
        "incoming": [{"address": at, "sha256": checksum} for at, checksum in entry.get("files", {}).items()],
        "target": entry["target"],
        "undoes": entry.get("undoes"),
        "key": entry.get("key", []),
        "record_key": entry.get("record_key", []),
        "marked": entry.get("marked", False),
        "latest": entry.get("latest", {}),
        "message": entry.get("message"),
        "receipt": None if receipt is None else _receipt(receipt),
    }


def _receipt(receipt: dict[str, Any]) -> dict[str, Any]:
    """A receipt in its published form."""
    rows = receipt["rows"]
    tables = [{**table, "samples": [_sample(one) for one in table["samples"]]} for table in receipt["tables"]]
    return {
        **receipt,
        "format": RECEIPT_FORMAT,
        "run": receipt.get("run"),
        "verified": receipt.get("verified"),
        "tables": tables,
        "fields_updated": sum(table["fields_updated"] for table in tables),
        "rejects": {"file": None, **receipt["rejects"]},
        "incoming": {
            "address": receipt["incoming"],
            "sheet": receipt["sheet"],
            "header_row": receipt["header_row"],
            "rows": sum(rows.values()),
        },
    }


def _sample(sample: dict[str, Any]) -> dict[str, Any]:
    fields = [dict(zip(("column", "before", "after", "changed"), field, strict=True)) for field in sample["fields"]]
    return {**sample, "fields": fields}

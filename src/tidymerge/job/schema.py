"""The definition of job files for editors."""

from typing import Any

from pydantic import TypeAdapter

from tidymerge.job.change_file import ChangeFile, RemovalFile
from tidymerge.job.file import JobFile


def json_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of job files: of loads, changes and removals."""
    every: TypeAdapter[JobFile | ChangeFile | RemovalFile] = TypeAdapter(JobFile | ChangeFile | RemovalFile)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **every.json_schema(by_alias=True)}

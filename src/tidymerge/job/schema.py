"""The definition of job files for editors."""

from typing import Any

from pydantic import TypeAdapter

from tidymerge.job.change_file import ChangeFile
from tidymerge.job.file import JobFile


def json_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of job files: of loads, and of changes."""
    both: TypeAdapter[JobFile | ChangeFile] = TypeAdapter(JobFile | ChangeFile)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **both.json_schema(by_alias=True)}

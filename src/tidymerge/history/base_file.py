"""The rows of an extract as one Parquet file, which the log keeps, and which a workbook may carry."""

import json

import pyarrow as pa
import pyarrow.parquet as pq

from tidymerge.errors import LogDamaged
from tidymerge.model.base import Base

FORMAT = "tidymerge-base/1"
_ABOUT = b"tidymerge"


def to_bytes(base: Base) -> bytes:
    """The file."""
    about = {
        "format": FORMAT, "run": base.run, "target": base.target, "key": list(base.key), "guarded": base.guarded,
    }  # fmt: skip
    sink = pa.BufferOutputStream()
    table = base.values.replace_schema_metadata({_ABOUT: json.dumps(about).encode()})
    pq.write_table(table, sink, compression="zstd")
    return bytes(sink.getvalue().to_pybytes())


def from_bytes(data: bytes, place: str) -> Base:
    """The rows again. Raises LogDamaged; `place` is where the file is, for people."""
    try:
        table = pq.read_table(pa.BufferReader(data))
        table.validate(full=True)
        about = json.loads((table.schema.metadata or {})[_ABOUT])
        if about["format"] != FORMAT:
            raise LogDamaged(f"What rows were in {place} is of the form {about['format']!r}, which is not known here.")
        values = table.replace_schema_metadata(None).combine_chunks()
        key = tuple(map(str, about["key"]))
        values.select(key)  # which has them, or this raises
        return Base(str(about["run"]), str(about["target"]), key, values, guarded=bool(about["guarded"]))
    except (pa.ArrowException, ValueError, KeyError, TypeError) as error:
        raise LogDamaged(f"What the rows were when they were taken out can't be read in {place} ({error}).") from None

"""A Parquet file's footer taken apart and put together again, so that row groups can be copied as they are.

The footer is a structure of Thrift's compact protocol (apache/parquet-format, parquet.thrift). Fields are kept by
their numbers, with their types, so that what is not known here is passed on.
"""

from collections.abc import Iterable, Iterator
from typing import Any, BinaryIO

MAGIC = b"PAR1"
_STOP, _TRUE, _FALSE, _BYTE, _I16, _I32, _I64, _DOUBLE, _BINARY, _LIST, _SET, _MAP, _STRUCT = range(13)
_LONG_LIST = 15
# Field numbers of parquet.thrift.
_SCHEMA, _NUM_ROWS, _ROW_GROUPS, _ENCRYPTION = 2, 3, 4, 8  # of FileMetaData
_CHILDREN = 5  # of SchemaElement
_STORED = (1, 2, 3, 4, 5, 6, 7, 8, 10)  # of SchemaElement: all but the field's number
_COLUMNS, _BYTES, _GROUP_ROWS, _SORTED, _FILE_OFFSET, _PACKED, _ORDINAL = range(1, 8)  # of RowGroup
_CHUNK_PATH, _CHUNK_OFFSET, _CHUNK_DATA, _CHUNK_INDEXES = 1, 2, 3, (4, 5, 6, 7)  # of ColumnChunk
_PATH, _UNPACKED, _SIZE, _PAGES, _BLOOM = 3, 6, 7, (9, 10, 11), (14, 15)  # of ColumnMetaData

Struct = dict[int, tuple[int, Any]]  # a field's number: its type and value


class _Reader:
    def __init__(self, data: bytes) -> None:
        self._data = data
        self._at = 0

    def _byte(self) -> int:
        self._at += 1
        return self._data[self._at - 1]

    def _varint(self) -> int:
        found, shift = 0, 0
        while True:
            byte = self._byte()
            found |= (byte & 0x7F) << shift
            if byte < 0x80:  # noqa: PLR2004 - the last byte has no continuation bit
                return found
            shift += 7

    def _signed(self) -> int:
        found = self._varint()
        return found >> 1 ^ -(found & 1)

    def _bytes(self, count: int) -> bytes:
        self._at += count
        return self._data[self._at - count : self._at]

    def struct(self) -> Struct:
        """The fields of a structure."""
        found: Struct = {}
        number = 0
        while (head := self._byte()) != _STOP:
            number = number + (head >> 4) if head >> 4 else self._signed()
            kind = head & 0xF
            found[number] = (kind, kind == _TRUE if kind in (_TRUE, _FALSE) else self._value(kind))
        return found

    def _value(self, kind: int) -> Any:
        match kind:
            case 1 | 2:  # in a list, a byte an element
                return self._byte()
            case 3:
                return self._byte()
            case 4 | 5 | 6:
                return self._signed()
            case 7:
                return self._bytes(8)
            case 8:
                return self._bytes(self._varint())
            case 9 | 10:
                head = self._byte()
                count = head >> 4 if head >> 4 < _LONG_LIST else self._varint()
                return head & 0xF, [self._value(head & 0xF) for _ in range(count)]
            case 11:
                count = self._varint()
                kinds = self._byte() if count else 0
                return kinds, [(self._value(kinds >> 4), self._value(kinds & 0xF)) for _ in range(count)]
            case _:
                return self.struct()


def _varint(value: int) -> bytes:
    found = bytearray()
    while value >= 0x80:  # noqa: PLR2004 - more than fits one byte
        found.append(value & 0x7F | 0x80)
        value >>= 7
    return bytes([*found, value])


def _signed(value: int) -> bytes:
    return _varint(value << 1 ^ (-1 if value < 0 else 0))


def _encoded(kind: int, value: Any) -> bytes:
    match kind:
        case 1 | 2 | 3:
            return bytes([value])
        case 4 | 5 | 6:
            return _signed(value)
        case 7:
            found: bytes = value
            return found
        case 8:
            return b"".join((_varint(len(value)), value))
        case 9 | 10:
            inner, values = value
            count = len(values)
            head = bytes([count << 4 | inner]) if count < _LONG_LIST else bytes([0xF0 | inner]) + _varint(count)
            return head + b"".join(_encoded(inner, one) for one in values)
        case 11:
            kinds, pairs = value
            body = b"".join(_encoded(kinds >> 4, key) + _encoded(kinds & 0xF, one) for key, one in pairs)
            return _varint(len(pairs)) + (bytes([kinds]) if pairs else b"") + body
        case _:
            return encode(value)


def decode(data: bytes) -> Struct:
    """The structure that some bytes begin with."""
    return _Reader(data).struct()


def encode(fields: Struct) -> bytes:
    """The bytes of a structure."""
    found, last = bytearray(), 0
    for number in sorted(fields):
        kind, value = fields[number]
        if kind in (_TRUE, _FALSE):
            kind = _TRUE if value else _FALSE
        step = number - last
        found += bytes([step << 4 | kind]) if 0 < step < 16 else bytes([kind]) + _signed(number)  # noqa: PLR2004 - four bits
        if kind not in (_TRUE, _FALSE):
            found += _encoded(kind, value)
        last = number
    return bytes([*found, _STOP])


class RowGroups:
    """The bytes of a Parquet file, and its footer. Raises ValueError where it is none that we can take apart."""

    def __init__(self, data: bytes | memoryview) -> None:
        self._data = memoryview(data)
        if bytes(self._data[:4]) != MAGIC or bytes(self._data[-4:]) != MAGIC:
            raise ValueError("the file is encrypted or damaged")
        size = int.from_bytes(self._data[-8:-4], "little")
        try:
            self.footer = decode(bytes(self._data[-8 - size : -8]))
        except (IndexError, RecursionError):
            raise ValueError("the footer can't be read") from None
        if _ENCRYPTION in self.footer:
            raise ValueError("the file is encrypted")
        self.groups: list[Struct] = self.footer[_ROW_GROUPS][1][1]

    def extent(self, group: Struct) -> tuple[int, int]:
        """Where the bytes of a row group start and end."""
        ends = [_extent(chunk) for chunk in group[_COLUMNS][1][1]]
        return min(low for low, _ in ends), max(high for _, high in ends)

    def copy(self, group: Struct, file: BinaryIO) -> Struct:
        """Copy a row group to the end of another file; its description there, without page indexes and filters."""
        start, end = self.extent(group)
        shift = file.tell() - start
        file.write(self._data[start:end])
        chunks = [_shifted(chunk, shift) for chunk in group[_COLUMNS][1][1]]
        moved = {**group, _COLUMNS: (_LIST, (_STRUCT, chunks))}
        if _FILE_OFFSET in group:
            moved[_FILE_OFFSET] = (_I64, group[_FILE_OFFSET][1] + shift)
        return moved

    def copy_with(self, group: Struct, fresh: "RowGroups", file: BinaryIO) -> Struct:
        """Copy a row group with the columns of another file, of one row group, in place of its own; as `copy`.

        Raises ValueError where those are stored otherwise.
        """
        instead = {path: (chunk, kind) for path, chunk, kind in fresh._columns(fresh.groups[0])}  # noqa: SLF001
        if not instead.keys() <= {path for path, _, _ in self._columns(group)}:
            raise ValueError("the file does not have the columns by those names")
        moved = []
        for path, chunk, kind in self._columns(group):
            other, other_kind = instead.get(path, (None, kind))
            if other_kind != kind:
                raise ValueError("another program wrote the file, and other types for its columns")
            source = self if other is None else fresh
            moved.append(source._copied(other or chunk, file))  # noqa: SLF001 - of the same class
        sizes = {field: sum(chunk[_CHUNK_DATA][1][of][1] for chunk in moved) for field, of in _SIZES if field in group}
        kept = {number: field for number, field in group.items() if number != _SORTED}
        found = {**kept, _COLUMNS: (_LIST, (_STRUCT, moved)), **{field: (_I64, size) for field, size in sizes.items()}}
        if _FILE_OFFSET in group:
            found[_FILE_OFFSET] = (_I64, _extent(moved[0])[0])
        return found

    def _columns(self, group: Struct) -> Iterator[tuple[tuple[bytes, ...], Struct, list[Any]]]:
        """Each column of a row group: the names that lead to it, its description, and how its values are stored."""
        elements: list[Struct] = self.footer[_SCHEMA][1][1]
        leaves = [[one.get(number) for number in _STORED] for one in elements if _CHILDREN not in one]
        for chunk, stored in zip(group[_COLUMNS][1][1], leaves, strict=True):
            _extent(chunk)  # which refuses what is not here
            yield tuple(chunk[_CHUNK_DATA][1][_PATH][1][1]), chunk, stored

    def _copied(self, chunk: Struct, file: BinaryIO) -> Struct:
        start, end = _extent(chunk)
        shift = file.tell() - start
        file.write(self._data[start:end])
        return _shifted(chunk, shift)


_SIZES = ((_BYTES, _UNPACKED), (_PACKED, _SIZE))  # of a row group, and of which fields of its columns each is the sum


def _extent(chunk: Struct) -> tuple[int, int]:
    """Where the bytes of a column of a row group start and end. Raises ValueError."""
    if _CHUNK_PATH in chunk or _CHUNK_DATA not in chunk:
        raise ValueError("some columns are in other files, or encrypted")
    meta = chunk[_CHUNK_DATA][1]
    start = min(meta[field][1] for field in _PAGES if field in meta and meta[field][1] > 0)
    return start, start + meta[_SIZE][1]


def _shifted(chunk: Struct, shift: int) -> Struct:
    meta = {number: field for number, field in chunk[_CHUNK_DATA][1].items() if number not in _BLOOM}
    meta |= {number: (_I64, meta[number][1] + shift) for number in _PAGES if number in meta and meta[number][1] > 0}
    moved = {number: field for number, field in chunk.items() if number not in _CHUNK_INDEXES}
    if chunk[_CHUNK_OFFSET][1] > 0:
        moved[_CHUNK_OFFSET] = (_I64, chunk[_CHUNK_OFFSET][1] + shift)
    return {**moved, _CHUNK_DATA: (_STRUCT, meta)}


def layout(footer: Struct) -> list[list[Any]]:
    """All that says how values are stored, of every element of the schema but its root, whose name may be any."""
    elements: list[Struct] = footer[_SCHEMA][1][1]
    return [[element.get(number) for number in _STORED] for element in elements[1:]]


def finish(file: BinaryIO, footer: Struct, groups: Iterable[Struct]) -> None:
    """Write the footer of a file that has these row groups now."""
    numbered = [
        {**group, _ORDINAL: (_I16, index)} if _ORDINAL in group else group for index, group in enumerate(groups)
    ]
    rows = sum(group[_GROUP_ROWS][1] for group in numbered)
    data = encode({**footer, _NUM_ROWS: (_I64, rows), _ROW_GROUPS: (_LIST, (_STRUCT, numbered))})
    file.write(data + len(data).to_bytes(4, "little") + MAGIC)

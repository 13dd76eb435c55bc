"""How a text file is written. Nothing is guessed from how often letters occur.

A byte-order mark, else UTF-16 by its zero bytes, else strict UTF-8, else Windows' western encoding, which is said.
"""

import codecs
import re

from msgspec import Struct

from tidymerge.errors import BadOption, WrongEncoding

WESTERN = "cp1252"
_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_MARKED = ("utf-16", "utf-32", "utf-8-sig")  # names that leave the rest to the mark


class Text(Struct, frozen=True):
    """A file's text as UTF-8 without its byte-order `mark`, and the encoding; `assumed` where nothing told it."""

    data: bytes
    encoding: str = "utf-8"
    mark: bytes = b""
    assumed: bool = False


def decoded(data: bytes, given: str | None, name: str) -> Text:
    """The text of a file called `name`, in the encoding `given` or found. Raises WrongEncoding and BadOption."""
    if given is not None and _known(given) not in _MARKED:
        return _as_given(data, given, name)
    for mark, encoding in _MARKS:
        if data.startswith(mark):
            return _strictly(data[len(mark) :], encoding, name, mark, named=given is not None)
    if given is not None:
        return _as_given(data, given, name)
    wide = _wide(data)
    if wide:
        return _strictly(data, wide, name, named=False)
    try:
        data.decode("utf-8")
    except UnicodeDecodeError:
        pass
    else:
        return Text(data)
    try:
        return Text(data.decode(WESTERN).encode(), WESTERN, assumed=True)
    except UnicodeDecodeError as error:
        raise WrongEncoding(
            f"{name} is neither UTF-8 nor {WESTERN} text: line {_line(data, error)} holds bytes that {WESTERN} does "
            "not have. Say which encoding it has.",
            give=((("encoding", "NAME"),),),
        ) from None


def _known(given: str) -> str:
    try:
        "".encode(given)  # there are also codecs that make no text of bytes
        return codecs.lookup(given).name
    except (LookupError, ValueError):
        raise BadOption(f"There is no encoding called {given!r}; try utf-8, cp1252 or utf-16.") from None


def _as_given(data: bytes, given: str, name: str) -> Text:
    for mark, encoding in _MARKS:
        if data.startswith(mark) and encoding == _known(given):
            return _strictly(data[len(mark) :], encoding, name, mark)
    return _strictly(data, given, name)


def _strictly(data: bytes, encoding: str, name: str, mark: bytes = b"", *, named: bool = True) -> Text:
    """The text, all of whose bytes must be of the encoding, which the person `named` or the file began with."""
    try:
        if _known(encoding) == "utf-8":
            data.decode("utf-8")
            return Text(data, "utf-8", mark)
        return Text(data.decode(encoding).encode(), encoding, mark)
    except UnicodeError as error:
        where = f"line {_line(data, error)}" if isinstance(error, UnicodeDecodeError) else "the file"
        holds = f"{where} holds bytes that {encoding} does not have."
        if not named:
            raise WrongEncoding(
                f"{name} begins as {encoding} text, but {holds} It may be cut off or damaged: get it again. "
                "Or say which encoding it has.",
                give=((("encoding", "NAME"),),),
            ) from None
        raise WrongEncoding(
            f"{name} is not {encoding} text: {holds} "
            "Name no encoding to have it found, or another one, such as cp1252.",
            give=((("encoding", "cp1252"),),),
        ) from None


def _line(data: bytes, error: UnicodeDecodeError) -> int:
    return data.count(b"\n", 0, error.start) + 1


def _wide(data: bytes) -> str | None:
    """UTF-16 without a mark: a line feed has its zero byte on one side, and all zero bytes are on that side."""
    if b"\0" not in data or len(data) % 2:
        return None
    for encoding, side, line_feed in (("utf-16-le", 1, rb"\n\0"), ("utf-16-be", 0, rb"\0\n")):
        other_side = data[1 - side :: 2]
        ends = [found.start() for found in re.finditer(line_feed, data) if found.start() % 2 == 0]
        if ends and b"\0" not in other_side:
            return encoding
    return None

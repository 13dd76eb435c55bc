"""What is wrong with SQL that can't be parsed, in words that need no knowledge of the parser."""

from sqlglot.errors import ParseError, SqlglotError


def said(error: SqlglotError | RecursionError) -> str:
    """What is wrong, and where: the sign that the parser stopped at, and its line and place, both from 1."""
    if isinstance(error, RecursionError):
        return "it is nested too deep"
    details = error.errors[0] if isinstance(error, ParseError) and error.errors else {}
    if not details:
        return "a quote is not closed, or a sign is not known"  # all that ends the splitting into words
    words, sign = details.get("description") or "", details.get("highlight") or ""
    if words.startswith("Required"):
        what = f"something is missing near {sign!r}"
    elif words.startswith("Expect") and "<" not in words:
        what = f"{words[0].lower()}{words[1:]}".rstrip(".")
    else:
        what = f"{sign!r} does not fit there"
    line, place = details.get("line") or 1, (details.get("col") or 1) - max(len(sign), 1) + 1
    return f"{what} ({f'line {line}, ' if line > 1 else ''}position {place})"

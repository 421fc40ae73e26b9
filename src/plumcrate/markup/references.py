"""Character references in attribute values (HTML standard, sections 13.2.5.72 to 13.2.5.80 and 13.3)."""

from __future__ import annotations

from html.entities import html5

_ALNUM = frozenset("0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
_LONGEST = max(map(len, html5))
_BEYOND = 0x110000


def decoded(value: str) -> str:
    """An attribute's value as the parser reads it. A name without semicolon counts only where neither ``=``
    nor a letter or digit follows, so that ``?a=1&copy=2`` stays what it is."""
    if "&" not in value:
        return value
    out, at = [], 0
    while (found := value.find("&", at)) >= 0:
        out.append(value[at:found])
        text, at = _reference(value, found)
        out.append(text)
    return "".join((*out, value[at:]))


def _reference(value: str, at: int) -> tuple[str, int]:
    """What stands for the reference at an ampersand, and where it ends."""
    if value.startswith("#", at + 1):
        digits = "0123456789abcdefABCDEF" if value[at + 2 : at + 3] in ("x", "X") else "0123456789"
        first = at + 3 if len(digits) > 10 else at + 2
        end = first
        while end < len(value) and value[end] in digits:
            end += 1
        if end == first:
            return "&", at + 1
        stop = end + 1 if value.startswith(";", end) else end
        return _numbered(value[first:end].lstrip("0"), 16 if len(digits) > 10 else 10), stop
    for length in range(min(_LONGEST, len(value) - at - 1), 0, -1):
        name = value[at + 1 : at + 1 + length]
        if name not in html5:
            continue
        end = at + 1 + length
        if not name.endswith(";") and (value.startswith("=", end) or value[end : end + 1] in _ALNUM):
            return "&", at + 1
        return html5[name], end
    return "&", at + 1


def _numbered(digits: str, base: int) -> str:
    """The character with a number (section 13.2.5.80)."""
    number = int(digits, base) if 0 < len(digits) <= 7 else (0 if not digits else _BEYOND)
    if number == 0 or number >= _BEYOND or 0xD800 <= number <= 0xDFFF:
        return "\ufffd"
    if 0x80 <= number <= 0x9F:
        # As windows-1252 has it, but for the five numbers that it leaves free.
        return bytes([number]).decode("cp1252", "ignore") or chr(number)
    return chr(number)


def escaped(text: str) -> str:
    """A value to stand between double quotes."""
    return text.replace("&", "&amp;").replace('"', "&quot;")

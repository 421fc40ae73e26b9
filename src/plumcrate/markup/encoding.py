"""In what way a page's bytes are read, so that they can be written again as they were.

Encodings that hold ASCII as ASCII are read byte by byte: an edit is ASCII, and all else passes through
untouched, well-formed or not. The others are decoded and encoded again (Encoding standard; HTML standard,
section 13.2.3).
"""

from __future__ import annotations

import codecs
import re
from dataclasses import dataclass

import webencodings

_MARKS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))
#: Two bytes a character, or with escape sequences: not to be read byte by byte.
_WIDE = frozenset(("utf-16-le", "utf-16-be", "utf-16"))
#: Left as they are: some hold ASCII characters that mean something else, the last two are no codecs of ours.
_UNREAD = frozenset(("iso2022_jp", "hz", "utf-7", "iso2022_kr", "johab", "replacement", "x-user-defined"))
_META = re.compile(rb"""<meta[^>]+charset\s*=\s*["']?\s*([A-Za-z0-9_.:-]+)""", re.IGNORECASE)
#: Labels of the "replacement" encoding (Encoding standard, section 4.2), with which no page is shown.
_REPLACED = frozenset(
    ("replacement", "csiso2022kr", "hz-gb-2312", "iso-2022-cn", "iso-2022-cn-ext", "iso-2022-kr")
)
#: So many bytes are looked through for what a page says of itself.
PRESCAN = 1_024


class CannotRead(Exception):
    """The page's encoding is not one that can be edited; the text says which."""


@dataclass(frozen=True, slots=True)
class Encoding:
    """``name``: what addresses are written in; ``bytewise``: the page is read a byte a character."""

    name: str
    bytewise: bool

    def text_of(self, written: str) -> str:
        """What a piece of the page says, of which the page's reader sees bytes."""
        if not self.bytewise or written.isascii():
            return written
        return written.encode("latin-1").decode(self.name, "replace")

    def decoder(self) -> codecs.IncrementalDecoder:
        return codecs.getincrementaldecoder("latin-1" if self.bytewise else self.name)("strict")

    def encode(self, text: str) -> bytes:
        return text.encode("latin-1" if self.bytewise else self.name)


def encoding_of(start: bytes, declared: str | None = None) -> Encoding:
    """By byte order mark, by the charset that was sent along, by the page's own word; else UTF-8, else
    windows-1252. Raises :class:`CannotRead`."""
    for mark, name in _MARKS:
        if start.startswith(mark):
            return Encoding(name, name not in _WIDE)
    for label in (declared, _own_word(start)):
        known = _known(label)
        if known in _UNREAD:
            raise CannotRead(f"pages in {label} are left as they are")
        if known is not None and not (known in _WIDE and label is not declared):
            return Encoding("utf-16-le" if known == "utf-16" else known, known not in _WIDE)
    try:
        codecs.getincrementaldecoder("utf-8")("strict").decode(start)
    except UnicodeDecodeError:
        return Encoding("cp1252", True)
    return Encoding("utf-8", True)


def _own_word(start: bytes) -> str | None:
    match = _META.search(start[:PRESCAN])
    return match[1].decode("ascii") if match else None


def _known(label: str | None) -> str | None:
    """The codec of a label (Encoding standard, section 4.2): Latin-1 is windows-1252 on the web."""
    label = label.strip(" \"'") if label is not None else ""
    if label.lower() in _REPLACED:
        return "replacement"
    found = webencodings.lookup(label)
    if found is None or found.name in _UNREAD:
        return None if found is None else found.name
    return codecs.lookup(found.codec_info.name).name

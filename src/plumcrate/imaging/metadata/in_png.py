"""Where PNG carries metadata, and what of it is kept there: eXIf, tIME and text chunks."""

from __future__ import annotations

import zlib

from ..kinds import EVERYTHING, Keep, Kind
from ..png.chunks import Chunk
from . import exif, xmp

#: The keyword under which PNG carries XMP.
_XMP_KEYWORD = b"XML:com.adobe.xmp"
_TEXT_KINDS = {
    b"Author": Kind.RIGHTS,
    b"Copyright": Kind.RIGHTS,
    b"Disclaimer": Kind.RIGHTS,
    b"Creation Time": Kind.TIME,
}


def built_chunks(profile: bytes | None, tiff: bytes | None) -> list[Chunk]:
    """Chunks of a colour profile and an EXIF block (PNG, sections 11.3.2.3 and 11.3.4.5)."""
    out = [] if not profile else [Chunk(b"iCCP", b"icc\0\0" + zlib.compress(profile, 9))]
    return out if not tiff else [*out, Chunk(b"eXIf", tiff)]


def png_chunks(chunks: list[Chunk], keep: Keep, *, upright: bool = False) -> list[Chunk]:
    """Ancillary chunks with only what is kept; those that change looks are not touched. ``upright``: the
    orientation was applied to the pixels."""
    out = []
    for chunk in chunks:
        if chunk.name == b"eXIf":
            body = exif.kept(chunk.body, keep, upright=upright)
            if body:
                out.append(Chunk(chunk.name, body))
        elif chunk.name in (b"tEXt", b"zTXt", b"iTXt"):
            changed = _text(chunk, keep)
            if changed is not None:
                out.append(changed)
        elif chunk.name == b"tIME":
            if Kind.REST in keep:
                out.append(chunk)
        else:
            out.append(chunk)
    return out


def _text(chunk: Chunk, keep: Keep) -> Chunk | None:
    if keep == EVERYTHING:
        return chunk
    keyword, _, rest = chunk.body.partition(b"\0")
    if keyword == _XMP_KEYWORD and chunk.name == b"iTXt":
        packet = _itxt_text(rest)
        body = xmp.kept(packet, keep) if packet is not None else b""
        return Chunk(b"iTXt", keyword + b"\0\0\0\0\0" + body) if body else None
    return chunk if _TEXT_KINDS.get(keyword, Kind.REST) in keep else None


_MOST_TEXT = 16_000_000


def _itxt_text(rest: bytes) -> bytes | None:
    """The text of an iTXt chunk behind its keyword; None when it is damaged."""
    if len(rest) < 2:
        return None
    parts = rest[2:].split(b"\0", 2)
    if len(parts) < 3:
        return None
    if not rest[0]:
        return parts[2]
    try:
        return zlib.decompressobj().decompress(parts[2], _MOST_TEXT)
    except zlib.error:
        return None

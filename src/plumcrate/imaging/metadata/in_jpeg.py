"""Where JPEG carries metadata, and what of it is kept there: APPn and COM segments."""

from __future__ import annotations

from ..kinds import EVERYTHING, Keep, Kind
from . import exif, iptc, xmp

_EXIF_PREFIX = b"Exif\0\0"
_XMP_PREFIX = b"http://ns.adobe.com/xap/1.0/\0"
_MORE_XMP_PREFIX = b"http://ns.adobe.com/xmp/extension/\0"
_ICC_PREFIX = b"ICC_PROFILE\0"


def jpeg_segments(segments: list[bytes], keep: Keep) -> list[bytes]:
    """APPn and COM segments, markers included, with only what is kept."""
    out = []
    for segment in segments:
        changed = _jpeg_segment(segment, keep)
        if changed:
            out.append(changed)
    return out


def _jpeg_segment(segment: bytes, keep: Keep) -> bytes:
    marker, body = segment[1], segment[4:]
    if marker == 0xE1 and body.startswith(_EXIF_PREFIX):
        return _rewritten(segment, _EXIF_PREFIX, exif.kept(body[6:], keep))
    if marker == 0xE1 and body.startswith(_XMP_PREFIX):
        return _rewritten(segment, _XMP_PREFIX, xmp.kept(body[len(_XMP_PREFIX) :], keep))
    if marker == 0xED and body.startswith(iptc.PREFIX):
        return _rewritten(segment, iptc.PREFIX, iptc.kept(body[len(iptc.PREFIX) :], keep))
    if marker == 0xE0 and body.startswith(b"JFXX"):
        return b""  # a thumbnail
    if marker in (0xE0, 0xEE) or (marker == 0xE2 and body.startswith(_ICC_PREFIX)):
        return segment
    if keep == EVERYTHING:
        return segment
    return segment if Kind.REST in keep and not body.startswith(_MORE_XMP_PREFIX) else b""


def _rewritten(segment: bytes, prefix: bytes, body: bytes) -> bytes:
    if not body:
        return b""
    if segment[4 + len(prefix) :] == body:
        return segment
    return segment[:2] + (len(prefix) + len(body) + 2).to_bytes(2, "big") + prefix + body

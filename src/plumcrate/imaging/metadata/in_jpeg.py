"""Where JPEG carries metadata, and what of it is kept there: APPn and COM segments."""

from __future__ import annotations

from ..kinds import EVERYTHING, Keep, Kind
from . import exif, iptc, xmp

_EXIF_PREFIX = b"Exif\0\0"
_XMP_PREFIX = b"http://ns.adobe.com/xap/1.0/\0"
_MORE_XMP_PREFIX = b"http://ns.adobe.com/xmp/extension/\0"
_ICC_PREFIX = b"ICC_PROFILE\0"
#: An index of further pictures in the file, and what announces that one of them is a gain map (ISO 21496-1).
_OF_FURTHER = (b"MPF\0", b"urn:iso:std:iso:ts:21496:-1\0")
#: Bytes of a segment without its length.
_MOST = 65_533


def is_profile(segment: bytes) -> bool:
    """Whether a segment holds a colour profile, or a part of one."""
    return segment[1] == 0xE2 and segment[4:].startswith(_ICC_PREFIX)


def built_segments(profile: bytes | None, tiff: bytes | None, packet: bytes | None) -> list[bytes]:
    """Segments of a colour profile (ICC.1, annex B.4), EXIF and XMP blocks; what is too long for one is left
    out, but the profile never."""
    out = []
    for prefix, body in ((_EXIF_PREFIX, tiff), (_XMP_PREFIX, packet)):
        if body and len(prefix) + len(body) <= _MOST:
            out.append(b"\xff\xe1" + (len(prefix) + len(body) + 2).to_bytes(2, "big") + prefix + body)
    part = _MOST - len(_ICC_PREFIX) - 2
    parts = [(profile or b"")[at : at + part] for at in range(0, len(profile or b""), part)]
    for number, body in enumerate(parts, 1):
        head = _ICC_PREFIX + bytes((number, len(parts)))
        out.append(b"\xff\xe2" + (len(head) + len(body) + 2).to_bytes(2, "big") + head + body)
    return out


def jpeg_segments(
    segments: list[bytes], keep: Keep, *, upright: bool = False, further: bool = False
) -> list[bytes]:
    """APPn and COM segments, markers included, with only what is kept; ``upright``: the orientation was
    applied to the pixels; ``further``: pictures that followed in the file still do, so what tells of them
    stays, and else goes."""
    out = []
    for segment in segments:
        if segment[1] == 0xE2 and segment[4:].startswith(_OF_FURTHER):
            changed = segment if further else b""
        else:
            changed = _jpeg_segment(segment, keep, upright, further)
        if changed:
            out.append(changed)
    return out


def _jpeg_segment(segment: bytes, keep: Keep, upright: bool, further: bool) -> bytes:
    marker, body = segment[1], segment[4:]
    if marker == 0xE1 and body.startswith(_EXIF_PREFIX):
        return _rewritten(segment, _EXIF_PREFIX, exif.kept(body[6:], keep, upright=upright))
    if marker == 0xE1 and body.startswith(_XMP_PREFIX):
        return _rewritten(segment, _XMP_PREFIX, xmp.kept(body[len(_XMP_PREFIX) :], keep, further))
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

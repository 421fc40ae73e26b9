"""Pictures that follow a picture in its file, such as the gain map of a screen with more light (ISO 21496-1).

Their index (CIPA DC-007, Multi-Picture Format, 5.2) counts from itself: it is mended when the picture before
them changes its length.
"""

from __future__ import annotations

import struct

from .segments import SOS, JpegError, read_word

_INDEX = b"MPF\0"
#: The segment and the XMP namespace by which a gain map is announced.
_ANNOUNCED = (b"urn:iso:std:iso:ts:21496:-1\0", b"http://ns.adobe.com/hdr-gain-map/1.0/")
#: And by which a film is.
_FILM = (b"MotionPhoto", b"MicroVideo")
_ENTRIES, _ENTRY, _MOST = 0xB002, 16, 64


def has_gain_map(metadata: list[bytes], rest: bytes) -> bool:
    """Whether a picture's APPn segments announce a gain map, and index what follows its end."""
    return (
        rest.startswith(b"\xff\xd8")
        and any(map(is_index, metadata))
        and any(announced in segment for segment in metadata for announced in _ANNOUNCED)
    )


def has_film(metadata: list[bytes]) -> bool:
    """Whether a film of seconds follows the picture, by what its XMP tells."""
    return any(told in segment for segment in metadata for told in _FILM)


def is_index(segment: bytes) -> bool:
    """Whether an APPn segment is an index of further pictures."""
    return segment[4:].startswith(_INDEX)


def with_further(picture: bytes, rest: bytes, source: bytes, *, whole: bool) -> bytes:
    """A picture with what followed it in ``source``, and its index of that, if it has one, set right; unless
    ``whole``, only as far as the last picture of the index.

    Raises JpegError for an index that points at anything but what follows: then nothing can be set right.
    """
    at, was_at = _index_in(picture), _index_in(source)
    if at is None or was_at is None:
        return picture + rest
    order = {b"II*\0": "<", b"MM\0*": ">"}.get(picture[at : at + 4])
    if order is None:
        raise JpegError("the index of further pictures has no byte order")
    out, ends = bytearray(picture), 0
    for number, entry in enumerate(_entries(picture, at, order)):
        size, offset = struct.unpack_from(f"{order}II", picture, entry + 4)
        if number == 0:
            struct.pack_into(f"{order}II", out, entry + 4, len(picture), 0)
            continue
        begins = was_at + offset - (len(source) - len(rest))
        if not 0 <= begins <= begins + size <= len(rest):
            raise JpegError("the index of further pictures points beside them")
        struct.pack_into(f"{order}I", out, entry + 8, len(picture) + begins - at)
        ends = max(ends, begins + size)
    return bytes(out) + (rest if whole else rest[:ends])


def _index_in(picture: bytes) -> int | None:
    """Where an index begins: at its byte order."""
    at = 2
    while at + 4 <= len(picture) and picture[at] == 0xFF and picture[at + 1] != SOS:
        if picture[at + 4 : at + 8] == _INDEX:
            return at + 8
        at += 2 + read_word(picture, at + 2)
    return None


def _entries(picture: bytes, at: int, order: str) -> list[int]:
    """Where each entry of an index begins. Raises JpegError for an index that cannot be read."""
    try:
        directory = at + struct.unpack_from(f"{order}I", picture, at + 4)[0]
        for number in range(struct.unpack_from(f"{order}H", picture, directory)[0]):
            tag, _, count, value = struct.unpack_from(f"{order}HHII", picture, directory + 2 + 12 * number)
            if tag == _ENTRIES and count % _ENTRY == 0 and count // _ENTRY <= _MOST:
                begins = at + value
                struct.unpack_from(f"{count}s", picture, begins)
                return [begins + _ENTRY * entry for entry in range(count // _ENTRY)]
    except struct.error:
        pass
    raise JpegError("the index of further pictures cannot be read")

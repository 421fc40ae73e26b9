"""IPTC records in Photoshop image resources: IPTC-IIM 4.2, section 1.5; resource 0x0404."""

from __future__ import annotations

import struct
from collections.abc import Iterator

from ..kinds import EVERYTHING, Keep, Kind

PREFIX = b"Photoshop 3.0\0"
_RECORDS = 0x0404
_THUMBNAILS = (0x0409, 0x040C)
_KIND = {
    80: Kind.RIGHTS,
    85: Kind.RIGHTS,
    110: Kind.RIGHTS,
    115: Kind.RIGHTS,
    116: Kind.RIGHTS,
    118: Kind.RIGHTS,
    55: Kind.TIME,
    60: Kind.TIME,
    62: Kind.TIME,
    63: Kind.TIME,
    26: Kind.PLACE,
    27: Kind.PLACE,
    90: Kind.PLACE,
    92: Kind.PLACE,
    95: Kind.PLACE,
    100: Kind.PLACE,
    101: Kind.PLACE,
}


def kept(block: bytes, keep: Keep) -> bytes:
    """Image resources (without the prefix) with the datasets to keep, never thumbnails; or nothing."""
    out = b""
    changed = False
    for number, name, body in _resources(block):
        if number in _THUMBNAILS:
            changed = True
            continue
        if number == _RECORDS and keep != EVERYTHING:
            body = _datasets(body, keep)
            changed = True
            if not body:
                continue
        elif number != _RECORDS and Kind.REST not in keep:
            changed = True
            continue
        out += b"8BIM" + struct.pack(">H", number) + name + struct.pack(">I", len(body))
        out += body + b"\0" * (len(body) % 2)
    return out if changed else block


def _resources(block: bytes) -> list[tuple[int, bytes, bytes]]:
    out = []
    at = 0
    while at + 12 <= len(block) and block[at : at + 4] == b"8BIM":
        (number,) = struct.unpack_from(">H", block, at + 4)
        length = block[at + 6] + 1
        length += length % 2
        name = block[at + 6 : at + 6 + length]
        at += 6 + length
        if at + 4 > len(block):
            break
        (size,) = struct.unpack_from(">I", block, at)
        out.append((number, name, block[at + 4 : at + 4 + size]))
        at += 4 + size + size % 2
    return out


def datasets(block: bytes) -> Iterator[tuple[int, bytes]]:
    """Numbers and values of the datasets of record 2 in image resources (without the prefix)."""
    for number, _, body in _resources(block):
        if number == _RECORDS:
            for record, dataset, whole in _each(body):
                if record == 2:
                    yield dataset, whole[5:]


def _each(body: bytes) -> Iterator[tuple[int, int, bytes]]:
    """Record, dataset and the whole of each."""
    at = 0
    while at + 5 <= len(body) and body[at] == 0x1C:
        (size,) = struct.unpack_from(">H", body, at + 3)
        if size & 0x8000:
            return  # extended sizes: no web picture needs them
        yield body[at + 1], body[at + 2], body[at : at + 5 + size]
        at += 5 + size


def _datasets(body: bytes, keep: Keep) -> bytes:
    out = b""
    own = False
    for record, dataset, whole in _each(body):
        structure = record == 1 or dataset == 0
        if structure or _KIND.get(dataset, Kind.REST) in keep:
            out += whole
            own = own or not structure
    return out if own else b""

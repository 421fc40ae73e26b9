"""Exif: a TIFF structure of tags (CIPA DC-008, Exif 3.0; TIFF 6.0, section 2), read and written anew."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

from ..identification import exif_orientation
from ..kinds import EVERYTHING, Keep, Kind

_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 129: 1}
_EXIF, _GPS, _INTEROP = 0x8769, 0x8825, 0xA005
ORIENTATION = 0x0112
#: Resolution, colour space and structure: small, and needed to understand the rest.
_STRUCTURE = {ORIENTATION, 0x011A, 0x011B, 0x0128, 0x0213, 0xA001, 0x9000, 0xA000}
_RIGHTS = {0x013B, 0x8298, 0x9C9D, 0xA437}
_TIME = {0x0132, 0x9003, 0x9004, 0x9010, 0x9011, 0x9012, 0x9290, 0x9291, 0x9292}
#: Tags of the first directory that are about the camera; in the Exif directory most are.
_CAMERA = {0x010F, 0x0110, 0xC614}
_REST_OF_EXIF = {0x9286, 0xA420, 0xA436, 0xA438, 0xA439, 0xA43A, 0xA43B, 0xA43C}
_MOST_TAGS = 4096


class ExifError(ValueError):
    """A block that is not a TIFF structure."""


@dataclass(frozen=True, slots=True)
class Tag:
    """One entry: type as in TIFF, how many values, and their bytes."""

    kind: int
    count: int
    value: bytes


@dataclass(slots=True)
class Exif:
    """The directories of a block: the picture's, Exif's and the place's. The thumbnail's is not read."""

    order: str = "<"
    picture: dict[int, Tag] = field(default_factory=dict)
    camera: dict[int, Tag] = field(default_factory=dict)
    place: dict[int, Tag] = field(default_factory=dict)
    has_thumbnail: bool = False

    @property
    def empty(self) -> bool:
        return not (self.picture or self.camera or self.place)


def parse(block: bytes) -> Exif:
    """Reads a TIFF block (without a leading ``Exif\\0\\0``). Raises :class:`ExifError`."""
    order = {b"II": "<", b"MM": ">"}.get(block[:2])
    if order is None or len(block) < 8 or struct.unpack_from(order + "H", block, 2)[0] != 42:
        raise ExifError("the Exif block is not a TIFF structure")
    out = Exif(order)
    first = struct.unpack_from(order + "I", block, 4)[0]
    out.picture, following = _directory(block, first, order)
    out.has_thumbnail = bool(following)
    for tag, target in ((_EXIF, "camera"), (_GPS, "place")):
        pointer = out.picture.pop(tag, None)
        if pointer is not None and len(pointer.value) == 4:
            setattr(out, target, _directory(block, struct.unpack(order + "I", pointer.value)[0], order)[0])
    out.camera.pop(_INTEROP, None)
    return out


def _directory(block: bytes, at: int, order: str) -> tuple[dict[int, Tag], int]:
    if not 8 <= at <= len(block) - 2:
        raise ExifError("the Exif block points outside itself")
    (count,) = struct.unpack_from(order + "H", block, at)
    if count > _MOST_TAGS or at + 2 + 12 * count > len(block):
        raise ExifError("the Exif block ends within a directory")
    tags: dict[int, Tag] = {}
    for number in range(count):
        place = at + 2 + 12 * number
        tag, kind, values = struct.unpack_from(order + "HHI", block, place)
        size = _SIZES.get(kind, 0) * values
        start = place + 8 if size <= 4 else struct.unpack_from(order + "I", block, place + 8)[0]
        if kind in _SIZES and start + size <= len(block):
            tags[tag] = Tag(kind, values, block[start : start + size])
    end = at + 2 + 12 * count
    following = struct.unpack_from(order + "I", block, end)[0] if end + 4 <= len(block) else 0
    return tags, following


def build(exif: Exif) -> bytes:
    """The TIFF block of the directories; empty bytes when there is nothing in them."""
    if exif.empty:
        return b""
    picture = dict(exif.picture)
    for tag, content in ((_EXIF, exif.camera), (_GPS, exif.place)):
        if content:
            picture[tag] = Tag(4, 1, b"\0\0\0\0")
    at = 8
    places: dict[int, int] = {}
    blocks: list[tuple[int, dict[int, Tag]]] = []
    for tag, content in ((0, picture), (_EXIF, exif.camera), (_GPS, exif.place)):
        if content or tag == 0:
            places[tag] = at
            blocks.append((at, content))
            at += _size(content)
    for tag in (_EXIF, _GPS):
        if tag in places:
            picture[tag] = Tag(4, 1, struct.pack(exif.order + "I", places[tag]))
    head = (b"II*\0" if exif.order == "<" else b"MM\0*") + struct.pack(exif.order + "I", 8)
    return head + b"".join(_written(content, place, exif.order) for place, content in blocks)


def _size(tags: dict[int, Tag]) -> int:
    return 6 + 12 * len(tags) + sum(_even(len(t.value)) for t in tags.values() if len(t.value) > 4)


def _even(size: int) -> int:
    return size + size % 2


def _written(tags: dict[int, Tag], at: int, order: str) -> bytes:
    out = struct.pack(order + "H", len(tags))
    values = b""
    beyond = at + 6 + 12 * len(tags)
    for number in sorted(tags):
        tag = tags[number]
        out += struct.pack(order + "HHI", number, tag.kind, tag.count)
        if len(tag.value) <= 4:
            out += tag.value.ljust(4, b"\0")
        else:
            out += struct.pack(order + "I", beyond + len(values))
            values += tag.value.ljust(_even(len(tag.value)), b"\0")
    return out + b"\0\0\0\0" + values


def kept(block: bytes, keep: Keep, *, upright: bool = False) -> bytes:
    """The block with only the kinds to keep; ``upright``: the orientation was applied to the pixels.

    A block that would stay as it is stays byte for byte. One that cannot be read is kept only
    when everything is, and orientation need not be taken out.
    """
    try:
        exif = parse(block)
    except (ExifError, struct.error):
        return block if keep == EVERYTHING and not upright else b""
    turned = upright and exif_orientation(block) != 1
    if keep == EVERYTHING and not exif.has_thumbnail and not turned:
        return block
    exif.picture = {tag: value for tag, value in exif.picture.items() if _of_picture(tag, keep)}
    exif.camera = {tag: value for tag, value in exif.camera.items() if _of_camera(tag, keep)}
    if Kind.PLACE not in keep:
        exif.place = {}
    if upright:
        exif.picture.pop(ORIENTATION, None)
    meaningful = set(exif.picture) | set(exif.camera) - _STRUCTURE
    stays_turned = not upright and exif_orientation(block) != 1
    if not exif.place and not (meaningful - (_STRUCTURE - {ORIENTATION})) and not stays_turned:
        return b""
    return build(exif)


def _of_picture(tag: int, keep: Keep) -> bool:
    if tag in _STRUCTURE:
        return True
    for tags, kind in ((_RIGHTS, Kind.RIGHTS), (_TIME, Kind.TIME), (_CAMERA, Kind.CAMERA)):
        if tag in tags:
            return kind in keep
    return Kind.REST in keep


def _of_camera(tag: int, keep: Keep) -> bool:
    if tag in _TIME:
        return Kind.TIME in keep
    if tag in _RIGHTS:
        return Kind.RIGHTS in keep
    if tag in _REST_OF_EXIF:
        return Kind.REST in keep
    if tag in _STRUCTURE:
        return bool(keep)
    return Kind.CAMERA in keep

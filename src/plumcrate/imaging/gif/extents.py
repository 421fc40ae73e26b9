"""How large what a GIF shows is, by its headers alone. GIF89a, sections 17 to 20."""

from __future__ import annotations

import struct
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Extents:
    """``width`` and ``height``: of the screen and all frames on it together; ``pixels``: of all frames, each
    as large as that."""

    width: int
    height: int
    pixels: int


def extents(data: bytes) -> Extents:
    """Takes time in proportion to the file, and no memory. What makes no sense ends the look; decoding says
    what it is."""
    width = height = frames = 0
    try:
        width, height, flags = struct.unpack_from("<HHB", data, 6)
        at = 13 + (3 << (flags & 7) + 1 if flags & 0x80 else 0)
        while data[at] != 0x3B:
            if data[at] == 0x2C:
                left, top, across, down, flags = struct.unpack_from("<HHHHB", data, at + 1)
                width, height = max(width, left + across), max(height, top + down)
                frames += 1
                at += 11 + (3 << (flags & 7) + 1 if flags & 0x80 else 0)
            elif data[at] == 0x21:
                at += 2
            else:
                break
            while data[at]:
                at += 1 + data[at]
            at += 1
    except (IndexError, struct.error):
        pass
    return Extents(width, height, width * height * max(frames, 1))

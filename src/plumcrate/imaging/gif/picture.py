"""A GIF taken apart, and the pictures its frames compose. GIF89a, sections 17 to 27."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..metadata.in_gif import XMP_APPLICATION, Application
from . import lzw

U8 = NDArray[np.uint8]
#: What happens to a frame before the next one. Section 23.
KEEP, BACKGROUND, PREVIOUS = 1, 2, 3
_MOST_FRAMES = 20_000
#: XMP stands in a GIF as it is, not in sub-blocks; readers that know nothing of it are led out by the trailer
#: (Adobe XMP Specification, Part 3, 1.1.2).
XMP_TRAILER = b"\x01" + bytes(range(0xFF, -1, -1)) + b"\x00"


class GifError(Exception):
    """A file that is not read here; the text says why."""


@dataclass(slots=True)
class Frame:
    """One frame: where it lies, its indexes (height, width) and colours (n, 3).

    ``delay`` is in hundredths of a second; ``transparent`` the index that shows what is below.
    """

    left: int
    top: int
    indexes: U8
    colours: U8
    transparent: int | None
    delay: int
    disposal: int


@dataclass(slots=True)
class GifFile:
    """A whole file. ``loops`` is None when it plays once, 0 for ever."""

    width: int
    height: int
    frames: list[Frame]
    loops: int | None
    comments: list[bytes] = field(default_factory=list)
    #: XMP, ICC and other application data but the loop count, as (identifier, data blocks).
    applications: list[Application] = field(default_factory=list)

    def composed(self) -> Iterator[U8]:
        """What is shown at each frame, (height, width, 4); the ground is transparent, as browsers have it."""
        canvas = np.zeros((self.height, self.width, 4), np.uint8)
        for frame in self.frames:
            before = canvas.copy() if frame.disposal == PREVIOUS else None
            place = _place(frame, self)
            draw(canvas, frame)
            yield canvas.copy()
            if frame.disposal == BACKGROUND:
                canvas[place] = 0
            elif before is not None:
                canvas = before


def _place(frame: Frame, file: GifFile) -> tuple[slice, slice]:
    height, width = frame.indexes.shape
    return slice(frame.top, min(frame.top + height, file.height)), slice(
        frame.left, min(frame.left + width, file.width)
    )


def draw(canvas: U8, frame: Frame) -> None:
    """Draws a frame's visible pixels over a canvas (height, width, 4)."""
    part = canvas[frame.top :, frame.left :][: frame.indexes.shape[0], : frame.indexes.shape[1]]
    indexes = frame.indexes[: part.shape[0], : part.shape[1]]
    colours = np.zeros((256, 4), np.uint8)
    colours[:, 3] = 255
    colours[: len(frame.colours), :3] = frame.colours
    shown = colours[indexes]
    if frame.transparent is None:
        part[:] = shown
    else:
        visible = indexes != frame.transparent
        part[visible] = shown[visible]


def read_gif(data: bytes, most_pixels: int) -> GifFile:
    """Reads a still or animated GIF. Raises :class:`GifError`.

    ``most_pixels`` bounds the pixels of all frames together, each counted as the whole picture it shows.
    """
    try:
        return _read(data, most_pixels)
    except (IndexError, struct.error):
        raise GifError("the GIF ends too early") from None


def _read(data: bytes, most_pixels: int) -> GifFile:
    if data[:6] not in (b"GIF87a", b"GIF89a"):
        raise GifError("this is not a GIF")
    width, height, flags = struct.unpack_from("<HHB", data, 6)
    if not width or not height:
        raise GifError("the GIF has no pixels")
    at = 13
    shared: U8 | None = None
    if flags & 0x80:
        shared, at = _colours(data, at, flags)
    file = GifFile(width, height, [], None)
    control = (0, 0, None)  # disposal, delay, transparent
    pixels = 0
    while data[at] != 0x3B:
        if data[at] == 0x2C:
            left, top, across, down, flags = struct.unpack_from("<HHHHB", data, at + 1)
            at += 10
            own = shared
            if flags & 0x80:
                own, at = _colours(data, at, flags)
            if own is None:
                raise GifError("the GIF has a frame without colours")
            pixels += max(across * down, width * height)
            if pixels > most_pixels or len(file.frames) >= _MOST_FRAMES:
                raise GifError("the GIF has more pixels or frames than the limit")
            if not across or not down:
                raise GifError("the GIF has a frame without pixels")
            code_width = data[at]
            coded, at = _blocks(data, at + 1)
            if not 2 <= code_width <= 8:
                raise GifError("the GIF's compressed data make no sense")
            indexes = lzw.decode(coded, code_width, across * down)
            if indexes is None:
                raise GifError("the GIF's compressed data are damaged or end too early")
            grid = indexes.reshape(down, across)
            if flags & 0x40:
                grid = _in_order(grid)
            disposal, delay, transparent = control
            if int(grid.max()) >= len(own) and transparent != int(grid.max()):
                raise GifError("the GIF uses a colour that its palette does not have")
            file.frames.append(Frame(left, top, grid, own, transparent, delay, disposal))
            control = (0, 0, None)
        elif data[at] == 0x21:
            label = data[at + 1]
            if label == 0xF9 and data[at + 2] == 4:
                packed, delay, index = struct.unpack_from("<BHB", data, at + 3)
                control = ((packed >> 2) & 7, delay, index if packed & 1 else None)
                _, at = _blocks(data, at + 2)
            elif label == 0xFF:
                size = data[at + 2]
                name = data[at + 3 : at + 3 + size]
                body, at = _application(data, at + 3 + size, name)
                if name in (b"NETSCAPE2.0", b"ANIMEXTS1.0") and len(body) >= 3 and body[0] == 1:
                    file.loops = body[1] | body[2] << 8
                else:
                    file.applications.append((name, body))
            else:
                body, at = _blocks(data, at + 2)
                if label == 0xFE:
                    file.comments.append(body)
                elif label == 0x01:
                    raise GifError("the GIF has plain text frames, which are left alone")
        else:
            raise GifError("the GIF has a block that makes no sense")
        if at >= len(data):
            raise GifError("the GIF ends before its end marker")
    if not file.frames:
        raise GifError("the GIF has no frames")
    return file


def _application(data: bytes, at: int, name: bytes) -> tuple[bytes, int]:
    """The body of an application extension, and the place after its end."""
    if name == XMP_APPLICATION:
        end = data.find(XMP_TRAILER, at)
        if end >= 0:
            return data[at:end], end + len(XMP_TRAILER)
    return _blocks(data, at)


def _colours(data: bytes, at: int, flags: int) -> tuple[U8, int]:
    size = 3 * (2 << (flags & 7))
    if at + size > len(data):
        raise GifError("the GIF ends within its colours")
    return np.frombuffer(data, np.uint8, size, at).reshape(-1, 3), at + size


def _blocks(data: bytes, at: int) -> tuple[bytes, int]:
    """Joins data sub-blocks; the place after their end. Section 15."""
    parts = []
    while size := data[at]:
        parts.append(data[at + 1 : at + 1 + size])
        at += 1 + size
    return b"".join(parts), at + 1


def _in_order(grid: U8) -> U8:
    """Interlaced rows put in order. Appendix E."""
    height = grid.shape[0]
    out = np.empty_like(grid)
    rows = [*range(0, height, 8), *range(4, height, 8), *range(2, height, 4), *range(1, height, 2)]
    out[rows] = grid
    return out

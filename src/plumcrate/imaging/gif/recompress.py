"""Making a GIF smaller without changing what any frame shows.

Each frame is cut down to what changes, unchanged pixels inside may become transparent, the colours
are pruned and shared, and the codes are written again. Frames, timing and loops stay.
"""

from __future__ import annotations

import struct

import numpy as np
from numpy.typing import NDArray

from ..kinds import EVERYTHING, Keep
from ..metadata.in_gif import XMP_APPLICATION, gif_applications, gif_comments
from . import lzw
from .picture import (
    BACKGROUND,
    KEEP,
    XMP_TRAILER,
    Frame,
    GifError,
    GifFile,
    read_gif,
)

U8 = NDArray[np.uint8]
U32 = NDArray[np.uint32]
_CLEAR = np.uint32(0)


def recompress(data: bytes, most_pixels: int, keep: Keep = EVERYTHING) -> bytes:
    """The same GIF in fewer bytes, with the metadata to ``keep``, or ``data`` itself. Raises
    :class:`GifError`."""
    file = read_gif(data, most_pixels)
    file.applications = gif_applications(file.applications, keep)
    file.comments = gif_comments(file.comments, keep)
    smaller = _written(file)
    if len(smaller) >= len(data):
        return data
    again = read_gif(smaller, most_pixels)
    if not same_animation(file, again):
        raise GifError("the recompressed GIF was not identical, so it was thrown away")
    return smaller


def same_animation(first: GifFile, second: GifFile) -> bool:
    """Whether both show the same frames for the same time, as often."""
    if (first.loops, len(first.frames)) != (second.loops, len(second.frames)):
        return False
    if [frame.delay for frame in first.frames] != [frame.delay for frame in second.frames]:
        return False
    return all(
        np.array_equal(_seen(ours), _seen(theirs))
        for ours, theirs in zip(first.composed(), second.composed(), strict=True)
    )


def _seen(canvas: U8) -> U32:
    """Pixels as single figures; all transparent ones alike."""
    packed = np.ascontiguousarray(canvas).view(np.uint32)[..., 0]
    return np.where(canvas[..., 3] > 0, packed, _CLEAR)


def _written(file: GifFile) -> bytes:
    shown = [_seen(canvas) for canvas in file.composed()]
    plan = _planned(shown, file)
    shared = _shared_colours(plan)
    out = [b"GIF89a", struct.pack("<HH", file.width, file.height)]
    if shared is not None:
        bits = _table_bits(len(shared) + any(part.holes.any() or part.stays.any() for part in plan))
        out += [bytes([0x80 | 0x70 | bits - 1, 0, 0]), _table(shared, bits)]
    else:
        out.append(bytes([0x70, 0, 0]))
    if file.loops is not None:
        out.append(b"\x21\xff\x0bNETSCAPE2.0\x03\x01" + struct.pack("<H", file.loops) + b"\x00")
    for name, body in file.applications:
        blocks = body + XMP_TRAILER if name == XMP_APPLICATION else _sub_blocks(body)
        out.append(b"\x21\xff" + bytes([len(name)]) + name + blocks)
    for comment in file.comments:
        out.append(b"\x21\xfe" + _sub_blocks(comment))
    for part, source in zip(plan, file.frames, strict=True):
        out.append(_frame(part, source, shared, len(file.frames) > 1))
    out.append(b"\x3b")
    return b"".join(out)


class _Part:
    """What one frame must draw: a box of the canvas, its pixels, which may stay as they are."""

    def __init__(self, box: tuple[int, int, int, int], pixels: U32, stays: NDArray[np.bool_]) -> None:
        self.left, self.top = box[0], box[1]
        self.pixels, self.stays = pixels, stays
        self.disposal = 0

    @property
    def holes(self) -> NDArray[np.bool_]:
        """Pixels that must be transparent, since they show nothing."""
        return np.asarray(self.pixels == _CLEAR)

    @property
    def colours(self) -> U32:
        """The colours that must be drawn."""
        return np.unique(self.pixels[~self.holes & ~self.stays])


def _planned(shown: list[U32], file: GifFile) -> list[_Part]:
    height, width = shown[0].shape
    canvas = np.zeros((height, width), np.uint32)
    parts: list[_Part] = []
    for number, wanted in enumerate(shown):
        box = _box(wanted != canvas)
        following = shown[number + 1] if number + 1 < len(shown) else None
        vanishing = (
            np.zeros_like(wanted, bool) if following is None else (wanted != _CLEAR) & (following == _CLEAR)
        )
        clears = bool(vanishing.any())
        if clears:  # the frame must cover what is to be cleared after it
            box = _box((wanted != canvas) | vanishing)
        left, top, right, bottom = box
        inside = np.s_[top:bottom, left:right]
        part = _Part(box, wanted[inside], wanted[inside] == canvas[inside])
        part.disposal = BACKGROUND if clears else KEEP if len(shown) > 1 else 0
        parts.append(part)
        canvas = wanted.copy()
        if clears:
            canvas[inside] = _CLEAR
    return parts


def _box(mask: NDArray[np.bool_]) -> tuple[int, int, int, int]:
    """The smallest box around what is set: left, top, right, bottom; one pixel when nothing is."""
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    if not rows.size:
        return 0, 0, 1, 1
    return int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1


def _shared_colours(parts: list[_Part]) -> U32 | None:
    """All frames' colours when one table holds them and a transparent entry; None when not."""
    every = np.unique(np.concatenate([part.colours for part in parts]))
    return every if len(every) <= 255 else None


def _frame(part: _Part, source: Frame, shared: U32 | None, animated: bool) -> bytes:
    choices = [_encoded(part, shared, through=False)]
    if (part.stays & ~part.holes).any():
        choices.append(_encoded(part, shared, through=True))
    if shared is not None and len(part.colours) <= len(shared) // 2:
        choices += [_encoded(part, None, through=True), _encoded(part, None, through=False)]
    possible = [choice for choice in choices if choice is not None]
    if not possible:
        raise GifError("the GIF has a frame of more than 256 colours")
    transparent, body = min(possible, key=lambda choice: len(choice[1]))
    if not animated and transparent is None:
        return body
    packed = part.disposal << 2 | (transparent is not None)
    control = struct.pack("<BHB", packed, source.delay, transparent or 0)
    return b"\x21\xf9\x04" + control + b"\x00" + body


def _encoded(part: _Part, shared: U32 | None, *, through: bool) -> tuple[int | None, bytes] | None:
    """The image block with a table of its own or the shared one; None when colours do not fit.

    ``through``: pixels that stay as they are become transparent where that continues a run.
    """
    holes = part.holes | part.stays if through else part.holes
    colours = shared
    if colours is None:
        colours = np.unique(part.pixels[~holes]) if not holes.all() else np.zeros(1, np.uint32)
    elif not through and not np.isin(part.pixels[~holes], colours).all():
        return None
    needs_hole = bool(holes.any())
    if len(colours) + needs_hole > 256:
        return None
    transparent = len(colours) if needs_hole else None
    indexes = np.searchsorted(colours, part.pixels).clip(0, len(colours) - 1).astype(np.uint8)
    if transparent is not None:
        indexes[holes] = transparent
    entries = len(colours) + needs_hole
    code_width = max(2, (entries - 1).bit_length())
    height, width = part.pixels.shape
    head = struct.pack("<BHHHH", 0x2C, part.left, part.top, width, height)
    if shared is None:
        bits = _table_bits(entries)
        head += bytes([0x80 | bits - 1]) + _table(colours, bits)
    else:
        head += b"\x00"
    return transparent, head + bytes([code_width]) + _sub_blocks(lzw.encode(indexes, code_width))


def _table_bits(entries: int) -> int:
    return max(1, (entries - 1).bit_length())


def _table(colours: U32, bits: int) -> bytes:
    rgb = np.ascontiguousarray(colours).view(np.uint8).reshape(-1, 4)[:, :3]
    return rgb.tobytes().ljust(3 << bits, b"\x00")


def _sub_blocks(body: bytes) -> bytes:
    parts = [body[at : at + 255] for at in range(0, len(body), 255)]
    return b"".join(bytes([len(part)]) + part for part in parts) + b"\x00"

"""The exact forms a picture can be stored in: fewer channels, fewer bits, a palette, a key.

Every form shows the same pixels; which of them is smallest only compressing tells. W3C PNG third
edition, sections 6 and 11.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .chunks import GREY, GREY_ALPHA, PALETTE, RGB, RGBA, Header
from .picture import Picture
from .rows import U8, Samples

U32 = NDArray[np.uint32]
_MOST_COLOURS = 256


@dataclass(frozen=True, slots=True)
class Allowed:
    """What a recipe lets change: hidden colour cleared; and whether the profile ties the colour family.

    ``hidden``: colour under full transparency may be cleared. ``family``: a colour picture may
    become grey and the other way round; not with an ICC profile, which is for one of them.
    """

    hidden: bool = True
    family: bool = True


@njit(cache=True, nogil=True)
def _distinct(pixels: U32, colours: U32, counts: NDArray[np.int64], indexes: U8) -> int:
    """The colours in order of appearance and each pixel's; 257 when there are more than 256."""
    table = np.full(1024, -1, np.int32)
    count = 0
    last = pixels[0] ^ np.uint32(1)
    last_index = 0
    for i in range(pixels.size):
        pixel = pixels[i]
        if pixel == last:
            counts[last_index] += 1
            indexes[i] = last_index
            continue
        slot = np.int64((pixel * np.uint32(2654435761)) >> np.uint32(22)) & 1023
        while table[slot] >= 0 and colours[table[slot]] != pixel:
            slot = (slot + 1) & 1023
        if table[slot] < 0:
            if count == 256:
                return 257
            table[slot] = count
            colours[count] = pixel
            count += 1
        last = pixel
        last_index = table[slot]
        counts[last_index] += 1
        indexes[i] = last_index
    return count


def forms(picture: Picture, allowed: Allowed) -> list[Picture]:
    """Every form worth compressing, the picture as it stands not among them."""
    rgba = picture.rgba()
    if rgba.dtype == np.uint16 and bool((rgba % 257 == 0).all()):
        rgba = (rgba >> 8).astype(np.uint8)
    full = 65535 if rgba.dtype == np.uint16 else 255
    alpha = rgba[..., 3]
    opaque = bool((alpha == full).all())
    clear = np.zeros(0, bool) if opaque else alpha == 0
    if not opaque and allowed.hidden and clear.any():
        rgba = rgba.copy()
        rgba[clear, :3] = 0
        alpha = rgba[..., 3]
    grey = _is_grey(rgba)
    was_grey = picture.header.colour in (GREY, GREY_ALPHA)
    wants_grey = grey if allowed.family else was_grey
    binary = not opaque and bool((clear | (alpha == full)).all())
    out = [_direct(rgba, wants_grey and grey, opaque)]
    if not opaque and allowed.hidden and clear.any() and not clear.all():
        out.append(_direct(_filled(rgba, grey), wants_grey and grey, opaque))
    if binary and _uniform_where(rgba, clear):
        keyed = _keyed(rgba, wants_grey and grey, clear)
        if keyed is not None:
            out.append(keyed)
    if rgba.dtype == np.uint8 and (allowed.family or not was_grey):
        out.extend(_palettes(rgba))
    return out


def of_rgba(rgba: U8) -> list[Picture]:
    """Every form worth compressing of 8-bit pixels (height, width, 4)."""
    header = Header(rgba.shape[1], rgba.shape[0], 8, RGBA)
    return forms(Picture(header, rgba), Allowed())


def _is_grey(rgba: Samples) -> bool:
    return bool(np.array_equal(rgba[..., 0], rgba[..., 1]) and np.array_equal(rgba[..., 1], rgba[..., 2]))


def _uniform_where(rgba: Samples, clear: NDArray[np.bool_]) -> bool:
    hidden = rgba[clear, :3]
    return bool((hidden == hidden[0]).all())


def _filled(rgba: Samples, grey: bool) -> Samples:
    """Hidden pixels in the colour of the one to their left, or else above, for filters that look there."""
    out = rgba.copy()
    _fill(out, 1 if grey else 3)
    return out


@njit(cache=True, nogil=True)
def _fill(rgba: Samples, channels: int) -> None:
    height, width = rgba.shape[:2]
    for y in range(height):
        for x in range(width):
            if rgba[y, x, 3] != 0 or (x == 0 and y == 0):
                continue
            for channel in range(channels):
                rgba[y, x, channel] = rgba[y, x - 1, channel] if x > 0 else rgba[y - 1, x, channel]


def _header(rgba: Samples, depth: int, colour: int) -> Header:
    return Header(rgba.shape[1], rgba.shape[0], depth, colour)


def _direct(rgba: Samples, grey: bool, opaque: bool) -> Picture:
    """Samples as they are, without what is not needed."""
    depth = 16 if rgba.dtype == np.uint16 else 8
    channels = [0] if grey else [0, 1, 2]
    if opaque and grey and depth == 8:
        return _shallow_grey(rgba, None)
    if not opaque:
        channels.append(3)
    colour = (GREY if opaque else GREY_ALPHA) if grey else (RGB if opaque else RGBA)
    samples: Samples = np.ascontiguousarray(rgba[..., channels])
    return Picture(_header(rgba, depth, colour), samples)


def _shallow_grey(rgba: Samples, key: int | None) -> Picture:
    """Grey of the fewest bits that hold every value, and the key."""
    values = rgba[..., :1]
    used = np.flatnonzero(np.bincount(values.ravel(), minlength=256))
    depth, step = next(
        (depth, step)
        for depth, step in ((1, 255), (2, 85), (4, 17), (8, 1))
        if not (used % step).any() and (key is None or key % step == 0)
    )
    header = _header(rgba, depth, GREY)
    stored_key = None if key is None else (key // step,)
    return Picture(header, np.ascontiguousarray(values // np.uint8(step)), key=stored_key)


def _keyed(rgba: Samples, grey: bool, clear: NDArray[np.bool_]) -> Picture | None:
    """One colour that nothing visible has stands for full transparency."""
    depth = 16 if rgba.dtype == np.uint16 else 8
    visible = rgba[~clear]
    if grey:
        used = np.bincount(visible[:, 0], minlength=1 << depth) > 0
        free = np.flatnonzero(~used)
        if free.size == 0:
            return None
        # A value that fits few bits, if the others do.
        key = int(min(free, key=lambda value: (value % 255 != 0, value % 85 != 0, value % 17 != 0, value)))
        samples = rgba.copy()
        samples[clear, :3] = key
        if depth == 8:
            return _shallow_grey(samples, key)
        return Picture(_header(rgba, 16, GREY), np.ascontiguousarray(samples[..., :1]), key=(key,))
    chosen = _free_colour(visible[:, :3], depth)
    if chosen is None:
        return None
    samples = np.ascontiguousarray(rgba[..., :3])
    samples[clear] = chosen
    return Picture(_header(rgba, depth, RGB), samples, key=chosen)


def _free_colour(visible: Samples, depth: int) -> tuple[int, int, int] | None:
    top = (1 << depth) - 1
    corners = [(r, g, b) for r in (0, top) for g in (0, top) for b in (0, top)]
    for colour in [*corners, *((value, 0, value) for value in range(1, 17))]:
        if not bool((visible == np.array(colour, visible.dtype)).all(axis=1).any()):
            return colour
    return None


def _palettes(rgba: Samples) -> list[Picture]:
    """The picture with a palette, in a few orders, when it has at most 256 colours."""
    height, width = rgba.shape[:2]
    pixels = np.ascontiguousarray(rgba).view(np.uint32).reshape(-1)
    colours, counts = np.zeros(_MOST_COLOURS, np.uint32), np.zeros(_MOST_COLOURS, np.int64)
    indexes = np.empty(pixels.size, np.uint8)
    count = _distinct(pixels, colours, counts, indexes)
    if count > _MOST_COLOURS:
        return []
    values = colours[:count].view(np.uint8).reshape(-1, 4)
    return [
        indexed(indexes.reshape(height, width), values, order) for order in _orders(values, counts[:count])
    ]


def indexed(indexes: U8, colours: U8, order: NDArray[np.int64] | None = None) -> Picture:
    """A palette picture of indexes (height, width) into colours (n, 4); transparent ones come first."""
    if order is None:
        order = _orders(colours, np.ones(len(colours), np.int64))[0]
    place = np.empty(256, np.uint8)
    place[order] = np.arange(len(order), dtype=np.uint8)
    sorted_colours = colours[order]
    transparent = int((sorted_colours[:, 3] < 255).sum())
    depth = next(d for d in (1, 2, 4, 8) if len(colours) <= 1 << d)
    header = Header(indexes.shape[1], indexes.shape[0], depth, PALETTE)
    alpha = np.ascontiguousarray(sorted_colours[:transparent, 3]) if transparent else None
    return Picture(header, place[indexes][:, :, None], np.ascontiguousarray(sorted_colours[:, :3]), alpha)


def _orders(colours: U8, counts: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """Orders of a palette, those not opaque always first: by luma, by count, and each by its nearest."""
    solid = colours[:, 3] == 255
    luma = colours[:, :3].astype(np.int64) @ np.array([299, 587, 114])
    by_luma = np.lexsort((luma, solid))
    by_count = np.lexsort((-counts, solid))
    return [by_luma, by_count, _chained(colours, by_count, solid)]


def _chained(colours: U8, start: NDArray[np.int64], solid: NDArray[np.bool_]) -> NDArray[np.int64]:
    """From the commonest colour always to the nearest one left, as deltas between indexes stay small."""
    values = colours.astype(np.int64)
    out: list[int] = []
    for group in (start[~solid[start]], start[solid[start]]):
        left = list(group)
        at = left.pop(0) if left else None
        while at is not None:
            out.append(int(at))
            if not left:
                break
            distances = ((values[left] - values[at]) ** 2).sum(axis=1)
            at = left.pop(int(np.argmin(distances)))
    return np.array(out, np.int64)

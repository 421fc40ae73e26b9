"""Making pictures smaller in size: in linear light, with a good filter, never larger.

Lanczos-3 (C. E. Duchon, "Lanczos filtering in one and two dimensions", J. Applied Meteorology 18, 1979),
widened by the scale, on light and not on sample values, colour multiplied by alpha. A picture that becomes
much smaller is averaged by whole pixels first, down to about three times what is wanted.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .pixels import Pixels
from .shapes import Sharpening
from .srgb import LIGHT, to_values

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]
I64 = NDArray[np.int64]

_LOBES = 3
#: What is averaged by whole pixels stays at least so many times as large as what is wanted.
_GAP = 3
#: sRGB codes of linear light in steps of 1 / 8191; fine enough for every code near black.
_STEPS = 8191


def _codes() -> U8:
    light = (np.arange(_STEPS + 1) + 0.0) / _STEPS
    return np.rint(to_values(light) * 255).astype(np.uint8)


_CODES = _codes()
_OPAQUE = np.empty((0, 0), np.uint8)


def fitted(width: int, height: int, largest: tuple[int, int]) -> tuple[int, int]:
    """The size that fits into ``largest`` (0: no limit) with the same proportions; never larger."""
    scale = min(
        [1.0, *(limit / side for limit, side in zip(largest, (width, height), strict=True) if limit > 0)]
    )
    return max(1, round(width * scale)), max(1, round(height * scale))


def _weights(size: int, wanted: int, cell: int) -> tuple[I64, F32]:
    """First cell and weights of each output sample, for ``size`` samples averaged by ``cell``.

    What the filter would take from beyond the edges is taken from the outermost cells.
    """
    cells = -(-size // cell)
    scale = size / cell / wanted
    reach = _LOBES * scale
    taps = min(math.ceil(2 * reach) + 1, cells)
    centres = (np.arange(wanted) + 0.5) * scale - 0.5
    begin = np.ceil(centres - reach).astype(np.int64)
    places = begin[:, None] + np.arange(math.ceil(2 * reach) + 1)[None, :]
    off = (places - centres[:, None]) / scale
    weights = np.sinc(off) * np.sinc(off / _LOBES) * (np.abs(off) < _LOBES)
    weights /= weights.sum(axis=1, keepdims=True)
    first = np.clip(begin, 0, cells - taps)
    folded = np.zeros((wanted, taps))
    inside = np.clip(np.clip(places, 0, cells - 1) - first[:, None], 0, taps - 1)
    np.add.at(folded, (np.arange(wanted)[:, None], inside), weights)
    return first, folded.astype(np.float32)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _row_of_cells(rgb: U8, alpha: U8, light: F32, top: int, cell: int, row: F32) -> None:
    """One row of cells, planar, (3 or 4, cells): the mean light of ``cell`` by ``cell`` samples."""
    width = rgb.shape[1]
    if cell == 1 and row.shape[0] == 3:
        for x in range(width):
            row[0, x] = light[rgb[top, x, 0]]
            row[1, x] = light[rgb[top, x, 1]]
            row[2, x] = light[rgb[top, x, 2]]
        return
    row[:] = 0
    bottom = min(top + cell, rgb.shape[0])
    for y in range(top, bottom):
        for x in range(row.shape[1]):
            for k in range(x * cell, min(x * cell + cell, width)):
                opacity = np.float32(1)
                if row.shape[0] == 4:
                    opacity = np.float32(alpha[y, k]) * np.float32(1 / 255)
                    row[3, x] += opacity
                row[0, x] += light[rgb[y, k, 0]] * opacity
                row[1, x] += light[rgb[y, k, 1]] * opacity
                row[2, x] += light[rgb[y, k, 2]] * opacity
    last = row.shape[1] - 1
    for c in range(row.shape[0]):
        for x in range(last):
            row[c, x] /= np.float32(cell * (bottom - top))
        row[c, last] /= np.float32((width - last * cell) * (bottom - top))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _mixed(rows: F32, tall: F32, first: int, mixed: F32) -> None:
    """The weighted sum of rows of cells, of which row y is kept at y modulo their number."""
    taps = tall.size
    for c in range(mixed.shape[0]):
        for x in range(mixed.shape[1]):
            mixed[c, x] = tall[0] * rows[first % taps, c, x]
        for k in range(1, taps):
            row, weight = (first + k) % taps, tall[k]
            for x in range(mixed.shape[1]):
                mixed[c, x] += weight * rows[row, c, x]


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy")
def _resampled(
    rgb: U8,
    alpha: U8,
    tables: tuple[F32, U8],
    cell: int,
    across: I64,
    wide: F32,
    down: I64,
    tall: F32,
    out: U8,
) -> None:
    """Fills ``out`` (height, width, 3 or 4), row by row; rows of cells are kept as long as they are
    needed."""
    light, codes = tables
    columns, taps = -(-rgb.shape[1] // cell), tall.shape[1]
    rows = np.empty((taps, out.shape[2], columns), np.float32)
    mixed = np.empty((out.shape[2], columns), np.float32)
    top = np.float32(codes.size - 1)
    ready = 0
    for y in range(out.shape[0]):
        ready = max(ready, down[y])
        while ready < down[y] + taps:
            _row_of_cells(rgb, alpha, light, ready * cell, cell, rows[ready % taps])
            ready += 1
        _mixed(rows, tall[y], down[y], mixed)
        for x in range(out.shape[1]):
            at = across[x]
            r = g = b = a = np.float32(0)
            for k in range(wide.shape[1]):
                weight = wide[x, k]
                r += weight * mixed[0, at + k]
                g += weight * mixed[1, at + k]
                b += weight * mixed[2, at + k]
            if out.shape[2] == 4:
                for k in range(wide.shape[1]):
                    a += wide[x, k] * mixed[3, at + k]
                a = min(max(a, np.float32(0)), np.float32(1))
                out[y, x, 3] = np.uint8(a * np.float32(255) + np.float32(0.5))
                a = max(a, np.float32(1e-4))
                r, g, b = r / a, g / a, b / a
            out[y, x, 0] = codes[np.uint32(min(max(r, np.float32(0)), np.float32(1)) * top + np.float32(0.5))]
            out[y, x, 1] = codes[np.uint32(min(max(g, np.float32(0)), np.float32(1)) * top + np.float32(0.5))]
            out[y, x, 2] = codes[np.uint32(min(max(b, np.float32(0)), np.float32(1)) * top + np.float32(0.5))]


def downscale(pixels: Pixels, width: int, height: int) -> Pixels:
    """The picture at a smaller size. Raises ValueError when it would be larger."""
    if width > pixels.size[0] or height > pixels.size[1]:
        raise ValueError("pictures are not made larger")
    cell = max(1, int(min(pixels.size[0] / width, pixels.size[1] / height) / _GAP))
    alpha = _OPAQUE if pixels.alpha is None else np.ascontiguousarray(pixels.alpha)
    small = np.empty((height, width, 3 if pixels.alpha is None else 4), np.uint8)
    across, wide = _weights(pixels.size[0], width, cell)
    down, tall = _weights(pixels.size[1], height, cell)
    rgb = np.ascontiguousarray(pixels.rgb)
    _resampled(rgb, alpha, (LIGHT, _CODES), cell, across, wide, down, tall, small)
    if pixels.alpha is None:
        return Pixels(small)
    return Pixels(np.ascontiguousarray(small[:, :, :3]), np.ascontiguousarray(small[:, :, 3]))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def blurred(plane: F32, taps: F32) -> F32:
    """A plane (height, width) blurred in both directions by ``taps``, an odd number of them; edges are
    continued."""
    height, width = plane.shape
    reach = taps.size // 2
    wide = np.empty((height, width), np.float32)
    padded = np.empty(width + 2 * reach, np.float32)
    for y in range(height):
        padded[:reach] = plane[y, 0]
        padded[reach : reach + width] = plane[y]
        padded[reach + width :] = plane[y, width - 1]
        for x in range(width):
            total = np.float32(0)
            for k in range(taps.size):
                total += taps[k] * padded[x + k]
            wide[y, x] = total
    out = np.zeros((height, width), np.float32)
    for y in range(height):
        for k in range(taps.size):
            place = min(max(y + k - reach, 0), height - 1)
            for x in range(width):
                out[y, x] += taps[k] * wide[place, x]
    return out


def gaussian(radius: float) -> F32:
    """The weights of a Gaussian blur of a standard deviation in samples."""
    reach = max(1, math.ceil(3 * radius))
    taps = np.exp(-0.5 * (np.arange(-reach, reach + 1) / radius) ** 2)
    return (taps / taps.sum()).astype(np.float32)


def sharpened(pixels: Pixels, how: Sharpening) -> Pixels:
    """Luma sharpened by unsharp masking; colour and alpha stay."""
    if how.amount <= 0:
        return pixels
    rgb = pixels.rgb.astype(np.float32)
    luma = rgb @ np.array([0.299, 0.587, 0.114], np.float32)
    detail = luma - blurred(luma, gaussian(how.radius))
    detail = np.where(np.abs(detail) >= how.threshold, detail * np.float32(how.amount), 0)
    return Pixels(np.clip(np.rint(rgb + detail[:, :, None]), 0, 255).astype(np.uint8), pixels.alpha)

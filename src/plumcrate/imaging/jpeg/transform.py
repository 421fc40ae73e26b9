"""Between pixels and unquantized DCT coefficients: JFIF colour, chroma at half size, T.81 A.3.3."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TypeAlias

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .arrays import I16, U8
from .segments import Component, Frame

F32: TypeAlias = NDArray[np.float32]

#: Zigzag position to raster position, Figure A.6.
_PATH = sorted(
    ((v, u) for v in range(8) for u in range(8)), key=lambda p: (p[0] + p[1], p[(p[0] + p[1] + 1) % 2])
)
ZIGZAG: NDArray[np.int32] = np.array([8 * v + u for v, u in _PATH], np.int32)

#: Rows that are looked at together: whole blocks, also of chroma at half size.
_BAND = 256

#: Rows are frequencies, columns samples: the orthonormal DCT-II, which is T.81's scaling.
BASIS: F32 = np.array(
    [
        [math.sqrt((1 if u == 0 else 2) / 8) * math.cos((2 * x + 1) * u * math.pi / 16) for x in range(8)]
        for u in range(8)
    ],
    np.float32,
)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _to_planes(rgb: U8, luma: F32, blue: F32, red: F32) -> None:
    """JFIF YCbCr, level-shifted: every plane lies around 0."""
    height, width, _ = rgb.shape
    for y in range(height):
        for x in range(width):
            r = np.float32(rgb[y, x, 0])
            g = np.float32(rgb[y, x, 1])
            b = np.float32(rgb[y, x, 2])
            luma[y, x] = (
                np.float32(0.299) * r + np.float32(0.587) * g + np.float32(0.114) * b - np.float32(128)
            )
            blue[y, x] = np.float32(-0.168735892) * r - np.float32(0.331264108) * g + np.float32(0.5) * b
            red[y, x] = np.float32(0.5) * r - np.float32(0.418687589) * g - np.float32(0.081312411) * b


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _from_planes(luma: F32, blue: F32, red: F32, rgb: U8) -> None:
    for y in range(luma.shape[0]):
        for x in range(luma.shape[1]):
            grey = luma[y, x] + np.float32(128.5)
            b = blue[y, x]
            r = red[y, x]
            rgb[y, x, 0] = np.uint8(min(max(grey + np.float32(1.402) * r, np.float32(0)), np.float32(255)))
            green = grey - np.float32(0.344136286) * b - np.float32(0.714136286) * r
            rgb[y, x, 1] = np.uint8(min(max(green, np.float32(0)), np.float32(255)))
            rgb[y, x, 2] = np.uint8(min(max(grey + np.float32(1.772) * b, np.float32(0)), np.float32(255)))


def half_chroma(rgb: U8, alpha: U8 | None = None) -> list[F32]:
    """Cb and Cr of a picture (height, width, 3) at half size, each the mean of 2 x 2 pixels, odd edges
    repeated; weighed by ``alpha`` (height, width), so that no hidden colour bleeds into what is seen."""
    height, width = rgb.shape[:2]
    out = [np.empty(((height + 1) // 2, (width + 1) // 2), np.float32) for _ in range(2)]
    for rows in bands(height):
        _, *chroma = planes_of(rgb[rows])
        half = slice(rows.start // 2, (rows.stop + 1) // 2)
        for plane, target in zip(chroma, out, strict=True):
            if alpha is None:
                target[half] = halved(plane)
            else:  # where nothing is seen at all, any colour will do
                weight = alpha[rows].astype(np.float32) + np.float32(1e-3)
                target[half] = halved(plane * weight) / halved(weight)
    return out


def halved(plane: F32) -> F32:
    """The mean of each 2 x 2 block; odd edges repeat."""
    height, width = plane.shape
    even = np.pad(plane, ((0, height % 2), (0, width % 2)), mode="edge")
    return (even[0::2, 0::2] + even[0::2, 1::2] + even[1::2, 0::2] + even[1::2, 1::2]) * np.float32(0.25)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _forward(plane: F32, basis: F32, zigzag: NDArray[np.int32], stride: int, out: F32) -> None:
    """DCT of each block of a plane whose sides are multiples of 8; ``out`` is (blocks, 64) in zigzag."""
    rows = np.empty((8, 8), np.float32)
    block = np.empty((8, 8), np.float32)
    for index in range(out.shape[0]):
        top = index // stride * 8
        left = index % stride * 8
        for v in range(8):
            for x in range(8):
                total = np.float32(0)
                for y in range(8):
                    total += basis[v, y] * plane[top + y, left + x]
                rows[v, x] = total
        for v in range(8):
            for u in range(8):
                total = np.float32(0)
                for x in range(8):
                    total += rows[v, x] * basis[u, x]
                block[v, u] = total
        for k in range(64):
            raster = zigzag[k]
            out[index, k] = block[raster >> 3, raster & 7]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _spectrum(rgb: U8, basis: F32, zigzag: NDArray[np.int32], every: int, out: F32) -> None:
    samples = np.empty((3, 8, 8), np.float32)
    rows = np.empty((8, 8), np.float32)
    across = (rgb.shape[1] // 8 + every - 1) // every
    for index in range(out.shape[0]):
        top = index // across * every * 8
        left = index % across * every * 8
        for y in range(8):
            for x in range(8):
                r = np.float32(rgb[top + y, left + x, 0])
                g = np.float32(rgb[top + y, left + x, 1])
                b = np.float32(rgb[top + y, left + x, 2])
                luma = np.float32(0.299) * r + np.float32(0.587) * g + np.float32(0.114) * b
                samples[0, y, x] = luma - np.float32(128)
                samples[1, y, x] = (b - luma) * np.float32(0.5643341)
                samples[2, y, x] = (r - luma) * np.float32(0.7132668)
        for plane in range(3):
            for v in range(8):
                for x in range(8):
                    total = np.float32(0)
                    for y in range(8):
                        total += basis[v, y] * samples[plane, y, x]
                    rows[v, x] = total
            for k in range(64):
                v = zigzag[k] >> 3
                u = zigzag[k] & 7
                total = np.float32(0)
                for x in range(8):
                    total += rows[v, x] * basis[u, x]
                out[index, plane, k] = total


def block_spectrum(rgb: U8, every: int) -> F32:
    """DCT of every so many blocks each way, (blocks, Y Cb Cr, 64) in zigzag; at least 8 x 8 pixels."""
    across, down = -(-(rgb.shape[1] // 8) // every), -(-(rgb.shape[0] // 8) // every)
    out = np.empty((across * down, 3, 64), np.float32)
    _spectrum(rgb, BASIS, ZIGZAG, every, out)
    return out


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _inverse(blocks: I16, table: F32, basis: F32, zigzag: NDArray[np.int32], stride: int, plane: F32) -> None:
    """The samples of quantized blocks; most have few coefficients, so it sums over those."""
    rows = np.empty((8, 8), np.float32)
    for index in range(blocks.shape[0]):
        top = index // stride * 8
        left = index % stride * 8
        rows[:] = 0
        for k in range(64):
            level = blocks[index, k]
            if level:
                value = np.float32(level) * table[k]
                v = zigzag[k] >> 3
                u = zigzag[k] & 7
                for x in range(8):
                    rows[v, x] += value * basis[u, x]
        for y in range(8):
            for x in range(8):
                total = np.float32(0)
                for v in range(8):
                    total += basis[v, y] * rows[v, x]
                plane[top + y, left + x] = total


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _double(half: F32, first: int, out: F32) -> None:
    """Twice the size with a triangle filter, as decoders do: 9, 3, 3 and 1 sixteenths; the rows of ``out``
    begin at ``first``."""
    last_row, last_column = half.shape[0] - 1, half.shape[1] - 1
    across = np.empty(half.shape[1] + 2, np.float32)
    for y in range(out.shape[0]):
        near = (first + y) >> 1
        far = max(near - 1, 0) if (first + y) & 1 == 0 else min(near + 1, last_row)
        for x in range(half.shape[1]):
            across[x + 1] = np.float32(0.75) * half[near, x] + np.float32(0.25) * half[far, x]
        across[0] = across[1]
        across[last_column + 2] = across[last_column + 1]
        for x in range(out.shape[1]):
            at = (x >> 1) + 1
            out[y, x] = np.float32(0.75) * across[at] + np.float32(0.25) * across[at - 1 + 2 * (x & 1)]


def stored_chroma(frame: Frame, levels: I16) -> list[F32]:
    """Both chroma planes of quantized coefficients as they are stored, at full or half size."""
    planes = []
    down, across = frame.height, frame.width
    if frame.components[0].horizontal == 2:
        down, across = (down + 1) // 2, (across + 1) // 2
    for component in frame.components[1:]:
        plane = np.empty((component.rows * 8, component.stride * 8), np.float32)
        table = frame.quantization[component.table].astype(np.float32)
        _inverse(levels[component.blocks], table, BASIS, ZIGZAG, component.stride, plane)
        planes.append(plane[:down, :across])
    return planes


def shown_rows(stored: F32, rows: slice, shape: tuple[int, ...]) -> F32:
    """Some rows of a chroma plane, stored at full or half size, as decoders show them in a picture of
    ``shape`` (height, width)."""
    if stored.shape == shape:
        return stored[rows]
    out = np.empty((min(rows.stop, shape[0]) - rows.start, shape[1]), np.float32)
    _double(stored, rows.start, out)
    return out


def frame_for(width: int, height: int, *, grey: bool, subsampled: bool) -> Frame:
    """A frame of one or three components with a table each, chroma at full or half size."""
    luma = 2 if subsampled and not grey else 1
    components = [Component(1, luma, luma, 0)]
    if not grey:
        components += [Component(2, 1, 1, 1), Component(3, 1, 1, 2)]
    frame = Frame(width, height, False, components, {})
    frame.lay_out()
    return frame


def planes_of(rgb: U8) -> tuple[F32, F32, F32]:
    """JFIF Y, Cb and Cr of a picture (height, width, 3), each (height, width) around 0."""
    height, width = rgb.shape[:2]
    luma, blue, red = (np.empty((height, width), np.float32) for _ in range(3))
    _to_planes(rgb, luma, blue, red)
    return luma, blue, red


def whole_blocks(plane: F32, rows: int, stride: int) -> F32:
    """A plane with its edges repeated up to so many rows of so many blocks; itself where it is so large."""
    below, right = rows * 8 - plane.shape[0], stride * 8 - plane.shape[1]
    if not (below or right):
        return np.ascontiguousarray(plane)
    return np.ascontiguousarray(np.pad(plane, ((0, below), (0, right)), mode="edge"))


def bands(height: int) -> Iterator[slice]:
    """Rows of a picture, so many whole blocks of them together that what is reckoned of them stays small."""
    for first in range(0, height, _BAND):
        yield slice(first, min(first + _BAND, height))


def blocks_of(plane: F32, rows: int, stride: int) -> F32:
    """Unquantized coefficients, (rows * stride, 64) in zigzag, of a plane with its edges repeated."""
    out = np.empty((rows * stride, 64), np.float32)
    for some in bands(len(plane)):
        first, last = some.start // 8, rows if some.stop == len(plane) else some.stop // 8
        whole = whole_blocks(plane[some], last - first, stride)
        _forward(whole, BASIS, ZIGZAG, stride, out[first * stride : last * stride])
    return out


def coefficients_of(planes: tuple[F32, F32, F32], frame: Frame) -> F32:
    """Unquantized coefficients of a picture's planes, laid out as the frame says; grey takes the first."""
    if len(frame.components) == 3 and frame.components[0].horizontal == 2:
        planes = (planes[0], halved(planes[1]), halved(planes[2]))
    pairs = zip(frame.components, planes, strict=False)
    return np.concatenate([blocks_of(plane, of.rows, of.stride) for of, plane in pairs])


def in_rgb(luma: F32, blue: F32, red: F32) -> U8:
    """A picture (height, width, 3) of its JFIF planes, each (height, width) around 0."""
    out = np.empty((*luma.shape, 3), np.uint8)
    _from_planes(luma, blue, red, out)
    return out

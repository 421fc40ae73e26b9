"""From pixels to unquantized DCT coefficients: JFIF colour, chroma at half size, T.81 A.3.3."""

from __future__ import annotations

import math
from typing import TypeAlias

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .arrays import U8
from .segments import Component, Frame

F32: TypeAlias = NDArray[np.float32]

#: Zigzag position to raster position, Figure A.6.
_PATH = sorted(
    ((v, u) for v in range(8) for u in range(8)), key=lambda p: (p[0] + p[1], p[(p[0] + p[1] + 1) % 2])
)
ZIGZAG: NDArray[np.int32] = np.array([8 * v + u for v, u in _PATH], np.int32)

#: Rows are frequencies, columns samples: the orthonormal DCT-II, which is T.81's scaling.
_BASIS: F32 = np.array(
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


def _half(plane: F32) -> F32:
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


def frame_for(width: int, height: int, *, grey: bool, subsampled: bool) -> Frame:
    """A frame of one or three components, chroma at full or half size."""
    luma = 2 if subsampled and not grey else 1
    components = [Component(1, luma, luma, 0)]
    if not grey:
        components += [Component(2, 1, 1, 1), Component(3, 1, 1, 1)]
    frame = Frame(width, height, False, components, {})
    frame.lay_out()
    return frame


def coefficients_of(rgb: U8, frame: Frame) -> F32:
    """Unquantized coefficients of a picture (height, width, 3), laid out as the frame says.

    A grey frame takes the first channel, which equals the others.
    """
    height, width = rgb.shape[:2]
    luma, blue, red = (np.empty((height, width), np.float32) for _ in range(3))
    _to_planes(rgb, luma, blue, red)
    planes = [luma, blue, red]
    if len(frame.components) == 3 and frame.components[0].horizontal == 2:
        planes = [luma, _half(blue), _half(red)]
    out = np.empty((frame.total_blocks, 64), np.float32)
    for component, plane in zip(frame.components, planes, strict=False):
        below, right = component.rows * 8 - plane.shape[0], component.stride * 8 - plane.shape[1]
        padded = np.ascontiguousarray(np.pad(plane, ((0, below), (0, right)), mode="edge"))
        blocks = out[component.first : component.first + component.rows * component.stride]
        _forward(padded, _BASIS, ZIGZAG, component.stride, blocks)
    return out

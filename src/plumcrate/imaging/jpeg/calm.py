"""Calm places: where a picture is smooth, and how blocks are kept from showing there.

A blurred background or a sky has little to code, and next to nothing of it counts for a score; a coarse mean
and a lost slope leave each block its own shade there, in chroma over 16 pixels. Two things keep them even:
finer steps for the mean and the slope in a picture that has such places, and rounding which looks at the
neighbours. Of the two levels on either side of a coefficient that one is taken with which the error runs on
across the edges of its block, as long as that is worth the bits. After the idea of J. Jarvis, C. Judice and
W. Ninke's error diffusion ("A survey of techniques for the display of continuous tone pictures on bilevel
displays", Computer Graphics and Image Processing 5 (1), 1976), in the transform.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .arrays import I16, U16
from .segments import Component, Frame
from .transform import BASIS, F32, ZIGZAG, whole_blocks

#: The mean steepness of a block, in sample values a pixel, from which on it is not calm; half of it is.
_STEEP = 3.0
#: The part of chroma's blocks that are calm from which on a picture is a calm one.
_MUCH = 0.2
#: What a step across a block's edge counts, for chroma and for luma, against an error of the same size in a
#: coefficient, and the bits of one that was not there.
_STEP_OF_CHROMA, _STEP_OF_LUMA = 20.0, 4.0
_BITS = 8.0
_TURNS = 2
#: Samples on each side of an edge whose mean a step is reckoned from.
_REACH = 2

_UNITS = list(ZIGZAG)
_ALONG = np.array([_UNITS.index(u) for u in range(8)])
_DOWN = np.array([_UNITS.index(8 * v) for v in range(8)])
#: What a coefficient of each horizontal frequency adds to the mean of a block's first and last columns.
_FIRST = np.asarray(BASIS[:, :_REACH].mean(axis=1) * BASIS[0, 0], np.float32)
_LAST = np.asarray(BASIS[:, 8 - _REACH :].mean(axis=1) * BASIS[0, 0], np.float32)


@njit(cache=True, nogil=True, error_model="numpy")
def _steepness(luma: F32, blue: F32, red: F32, stride: int, out: F32) -> None:
    """The mean over each block of the largest difference of any plane's sample to those left and above."""
    for index in range(out.shape[0]):
        top = index // stride * 8
        left = index % stride * 8
        total = np.float32(0)
        for y in range(top, top + 8):
            for x in range(left, left + 8):
                to_left = max(x - 1, 0)
                above = max(y - 1, 0)
                total += max(
                    abs(luma[y, x] - luma[y, to_left]),
                    abs(luma[y, x] - luma[above, x]),
                    abs(blue[y, x] - blue[y, to_left]),
                    abs(blue[y, x] - blue[above, x]),
                    abs(red[y, x] - red[y, to_left]),
                    abs(red[y, x] - red[above, x]),
                )
        out[index] = total / np.float32(64)


def calmness(planes: tuple[F32, F32, F32], frame: Frame) -> F32:
    """How calm each block of the frame is, 0 to 1; a chroma block is as calm as the least calm below it."""
    luma, *chroma = frame.components
    steep = np.empty(luma.rows * luma.stride, np.float32)
    y, blue, red = (whole_blocks(plane, luma.rows, luma.stride) for plane in planes)
    _steepness(y, blue, red, luma.stride, steep)
    calm = np.clip(2 - 2 * steep / np.float32(_STEEP), 0, 1).reshape(luma.rows, luma.stride)
    grids = [calm.ravel()]
    for component in chroma:
        over = calm.reshape(component.rows, luma.vertical // component.vertical, component.stride, -1)
        grids.append(over.min(axis=(1, 3)).ravel())
    return np.concatenate(grids).astype(np.float32)


def calm_part(calm: F32, frame: Frame) -> float:
    """How much a picture is a calm one, 0 to 1."""
    return min(1.0, float(calm[frame.components[-1].blocks].mean()) / _MUCH)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _joined(
    values: F32,
    table: F32,
    calm: F32,
    stride: int,
    first: F32,
    last: F32,
    along: NDArray[np.int64],
    down: NDArray[np.int64],
    counts: float,
    of_bits: F32,
    turns: int,
    levels: I16,
) -> None:
    count = values.shape[0]
    edges = np.zeros((count, 4), np.float32)  # mean error at the left, right, upper and lower edge
    for b in range(count):
        for u in range(8):
            k = along[u]
            error = np.float32(levels[b, k]) * table[k] - values[b, k]
            edges[b, 0] += error * first[u]
            edges[b, 1] += error * last[u]
            k = down[u]
            error = np.float32(levels[b, k]) * table[k] - values[b, k]
            edges[b, 2] += error * first[u]
            edges[b, 3] += error * last[u]
    moved = np.empty(4, np.float32)
    beside = np.array([-1, 1, -stride, stride])
    for _ in range(turns):
        for b in range(count):
            if calm[b] <= 0:
                continue
            x = b % stride
            there = (x > 0, x < stride - 1, b >= stride, b + stride < count)
            for which in range(3):  # the mean, the slope across, the slope down
                k = along[1] if which == 1 else down[1] if which == 2 else 0
                exact = values[b, k]
                level = np.int32(levels[b, k])
                off = np.float32(level) * table[k] - exact
                other = level - 1 if off > 0 else level + 1
                other_off = np.float32(other) * table[k] - exact
                if abs(other_off) > table[k]:
                    continue  # it is not one of the two beside the value
                step = other_off - off
                u = min(which, 1)
                moved[0] = step * first[u] if which != 2 else np.float32(0)
                moved[1] = step * last[u] if which != 2 else np.float32(0)
                moved[2] = step * first[u] if which != 1 else np.float32(0)
                moved[3] = step * last[u] if which != 1 else np.float32(0)
                costs = other_off * other_off - off * off
                if which and level == 0:
                    costs += of_bits[b] * table[k] * table[k]
                elif which and other == 0:
                    costs -= of_bits[b] * table[k] * table[k]
                for side in range(4):
                    if there[side]:
                        neighbour = b + beside[side]
                        weight = counts * min(calm[b], calm[neighbour])
                        apart = edges[b, side] - edges[neighbour, side ^ 1]
                        costs += weight * moved[side] * (np.float32(2) * apart + moved[side])
                if costs < 0:
                    levels[b, k] = other
                    for side in range(4):
                        edges[b, side] += moved[side]


def join(values: F32, table: U16, calm: F32, weights: F32, component: Component, levels: I16) -> None:
    """Rounds the mean and the slopes of calm blocks anew, in place, so that errors run on across their edges.

    ``values`` (blocks, 64) are unquantized coefficients, ``calm`` and ``weights`` each block's calmness and
    lambda, in squared steps a bit.
    """
    if not calm.any():
        return
    counts = _STEP_OF_LUMA if component.identifier == 1 else _STEP_OF_CHROMA
    _joined(
        values,
        table.astype(np.float32),
        calm,
        component.stride,
        _FIRST,
        _LAST,
        _ALONG,
        _DOWN,
        counts,
        weights * np.float32(_BITS),
        _TURNS,
        levels,
    )

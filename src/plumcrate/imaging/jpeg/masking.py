"""How much error each block hides: texture masks it, flat ground shows it.

The structure term of SSIM divides a pixel's error by the local variance of its surroundings
(Z. Wang, A. Bovik et al., "Image quality assessment: from error visibility to structural similarity",
IEEE Trans. Image Processing 13 (4), 2004). A block is therefore as tolerant as the harmonic mean of
its pixels' variances: one flat corner is enough to make it careful.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from .segments import Frame
from .transform import F32, whole_blocks

#: Variance, in squared sample values, that even flat ground hides.
_GROUND = 160.0
#: How strongly lambda follows tolerance, and how far from the picture's usual it may go.
_POWER = 0.65
_LEAST, _MOST = 0.25, 4.0


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _tolerance(luma: F32, stride: int, ground: float, out: F32) -> None:
    """Harmonic mean over each block of the variance in the 5 x 5 samples around, plus ``ground``."""
    height, width = luma.shape
    sums = np.empty((height, width), np.float32)
    squares = np.empty((height, width), np.float32)
    for y in range(height):
        for x in range(2, width - 2):
            total = np.float32(0)
            square = np.float32(0)
            for d in range(-2, 3):
                value = luma[y, x + d]
                total += value
                square += value * value
            sums[y, x] = total
            squares[y, x] = square
        for x in (0, 1):
            sums[y, x], squares[y, x] = sums[y, 2], squares[y, 2]
        for x in (width - 2, width - 1):
            sums[y, x], squares[y, x] = sums[y, width - 3], squares[y, width - 3]
    careful = np.zeros(width, np.float32)
    for top in range(0, height, 8):
        careful[:] = 0
        for y in range(top, top + 8):
            middle = min(max(y, 2), height - 3)
            for x in range(width):
                total = np.float32(0)
                square = np.float32(0)
                for d in range(-2, 3):
                    total += sums[middle + d, x]
                    square += squares[middle + d, x]
                mean = total * np.float32(0.04)
                variance = max(square * np.float32(0.04) - mean * mean, np.float32(0))
                careful[x] += np.float32(1) / (variance + np.float32(ground))
        for left in range(stride):
            total = np.float32(0)
            for x in range(left * 8, left * 8 + 8):
                total += careful[x]
            out[top // 8, left] = np.float32(64) / total


def masking(luma: F32, frame: Frame) -> F32:
    """For each block of the frame the factor of lambda, about 1; ``luma`` is the Y plane."""
    first = frame.components[0]
    tolerance = np.empty((first.rows, first.stride), np.float32)
    _tolerance(whole_blocks(luma, first.rows, first.stride), first.stride, _GROUND, tolerance)
    logarithms = np.log(tolerance)
    factors = np.clip(np.exp(_POWER * (logarithms - logarithms.mean())), _LEAST, _MOST)
    return over_chroma(factors, frame)


def over_chroma(factors: F32, frame: Frame) -> F32:
    """Factors of luma's blocks (rows, columns) for every block of the frame: a chroma block takes the mean of
    the luma blocks that lie over it."""
    first = frame.components[0]
    grids = [factors]
    for component in frame.components[1:]:
        grouped = factors.reshape(component.rows, first.vertical // component.vertical, component.stride, -1)
        grids.append(grouped.mean(axis=(1, 3)))
    return np.concatenate([grid.ravel() for grid in grids]).astype(np.float32)

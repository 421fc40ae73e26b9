"""A fourth measure, for what is photographed: fine grain and texture stay.

A score forgives that the grain of a film, of a sensor, of cloth or skin is smoothed away, where it is faint
everywhere; at 200 %, or beside the original, it is the first thing that is seen. So the energy of what is
finer than two pixels is compared window by window: luma less itself blurred by a pixel (five taps,
standard deviation one pixel), its root mean square over 16 by 16 pixels. Windows count whose grain is seen
on its own (more than a step of eight bits) and is no edge, which every other measure looks after. Detail that
a codec invented in one window makes up for nothing that it took from another.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]

#: Side of a window in pixels; of its rows each second one is looked at, which tells nearly as much.
_WINDOW, _EACH = 16, 2
#: Grain of a window, in steps of eight bits, that is seen and is no edge.
_SEEN, _EDGE = 1.0, 14.0
#: Such a part of the windows must have grain, else nothing is said of it.
_LEAST_PART = 0.02


class Grain:
    """A picture's fine grain, to be compared with that of candidates of its size."""

    def __init__(self, rgb: U8) -> None:
        """``rgb`` is (height, width, 3) uint8."""
        self._grain = _grain_of(rgb)
        self._counts = (self._grain >= _SEEN) & (self._grain <= _EDGE)
        self._speaks = self._counts.size > 0 and bool(self._counts.mean() >= _LEAST_PART)

    def kept(self, rgb: U8) -> float:
        """What a candidate keeps of the grain, on the mean of the windows, 0 to 1; 1 for a picture that has
        none to speak of."""
        if not self._speaks:
            return 1.0
        parts = _grain_of(rgb)[self._counts] / self._grain[self._counts]
        return float(np.minimum(parts, 1.0).mean())


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _grain_of(rgb: U8) -> F32:
    """Root mean squares of the grain in all whole windows, (rows, columns)."""
    height, width = rgb.shape[:2]
    rows, columns = height // _WINDOW, width // _WINDOW
    grain = np.zeros((rows, columns), np.float32)
    # Five rows of luma around the one in hand, each with two samples more at its ends.
    luma = np.empty((5, width + 4), np.float32)
    down = np.empty(width + 4, np.float32)
    energy = np.empty(columns, np.float32)
    for row in range(-2, rows * _WINDOW + 2):
        _luma_of(rgb[min(max(row, 0), height - 1)], luma[row % 5])
        middle = row - 2
        if middle < 0 or middle % _EACH:
            continue
        if middle % _WINDOW == 0:
            energy[:] = 0
        above, before, here = luma[(middle - 2) % 5], luma[(middle - 1) % 5], luma[middle % 5]
        after, below = luma[(middle + 1) % 5], luma[(middle + 2) % 5]
        for at in range(width + 4):
            outer, inner = above[at] + below[at], before[at] + after[at]
            down[at] = outer + np.float32(4) * inner + np.float32(6) * here[at]
        for column in range(columns):
            squares = np.float32(0)
            for at in range(column * _WINDOW, (column + 1) * _WINDOW):
                outer, inner = down[at] + down[at + 4], down[at + 1] + down[at + 3]
                across = outer + np.float32(4) * inner + np.float32(6) * down[at + 2]
                fine = here[at + 2] - across * np.float32(1 / 256)
                squares += fine * fine
            energy[column] += squares
        if middle % _WINDOW == _WINDOW - _EACH:
            for column in range(columns):
                mean = energy[column] / np.float32(_WINDOW * _WINDOW // _EACH)
                grain[middle // _WINDOW, column] = np.sqrt(mean)
    return grain


@njit(inline="always")
def _luma_of(rgb: U8, luma: F32) -> None:
    """Luma of a row of 8-bit RGB (ITU-R BT.601-7, 2.5.1), its ends said twice more."""
    width = rgb.shape[0]
    for at in range(width):
        luma[at + 2] = (
            np.float32(0.299) * rgb[at, 0] + np.float32(0.587) * rgb[at, 1] + np.float32(0.114) * rgb[at, 2]
        )
    luma[0] = luma[1] = luma[2]
    luma[width + 2] = luma[width + 3] = luma[width + 1]

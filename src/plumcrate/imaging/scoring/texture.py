"""A fourth measure: fine grain and texture stay as they are, and none comes where there was none.

A score forgives that the grain of a film, of a sensor, of cloth or skin is smoothed away where it is faint
everywhere, and that a palette's dots stand in a glow; at 200 %, or beside the original, both are the first
thing that is seen. So the energy of fine detail is compared window by window, 16 by 16 pixels, in two bands:
luma less itself blurred by a pixel (five taps, standard deviation one pixel), which is finer than some two
pixels, and that blurred luma less itself blurred once more, over samples two apart.

* What is *kept*: in windows whose fine band is seen on its own (more than a step of eight bits) and is no
  edge, which every other measure looks after. Detail that a codec invented in one window makes up for nothing
  that it took from another.
* What is *seen*: a change of a band's energy, lost or invented, against one step of eight bits and the energy
  that was there, which hides its like (contrast masking: G. E. Legge, J. M. Foley, Journal of the Optical
  Society of America 70 (12), 1980). The bands' limits differ as the eye's sensitivity to them does (J. L.
  Mannos, D. J. Sakrison, IEEE Transactions on Information Theory 20 (4), 1974), and were set by what was seen
  of 200 crops (``script/bench eye``).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]

#: Side of a window in pixels; of its rows each second one is looked at, which tells nearly as much.
_WINDOW, _EACH = 16, 2
#: Fine grain of a window, in steps of eight bits, that is seen and is no edge.
_SEEN, _EDGE = 1.0, 14.0
#: Such a part of the windows must have grain, else nothing is said of what is kept.
_LEAST_PART = 0.02
#: A place is so many windows high and wide; a change is seen there where so much of it changes by more than
#: these limits: in the fine band, in the one above.
_PLACE, _MUCH_OF_IT = 5, 0.21
_LIMITS = np.array([0.24, 0.16], np.float32)


@dataclass(frozen=True, slots=True)
class TextureShift:
    """What became of fine detail. ``kept``: the part of the grain that is still there, on the mean of the
    windows that have some, 0 to 1, and 1 for a picture without. ``seen``: the part of its places in which a
    change is seen at 100 or 200 %, 0 to 1."""

    kept: float
    seen: float


class Texture:
    """A picture's fine detail, to be compared with that of candidates of its size."""

    def __init__(self, rgb: U8) -> None:
        """``rgb`` is (height, width, 3) uint8."""
        self._bands = _bands_of(rgb)
        fine = self._bands[0]
        self._counts = (fine >= _SEEN) & (fine <= _EDGE)
        self._speaks = self._counts.size > 0 and bool(self._counts.mean() >= _LEAST_PART)

    def judge(self, rgb: U8) -> TextureShift:
        """A candidate's."""
        bands = _bands_of(rgb)
        if not bands.size:
            return TextureShift(1.0, 0.0)
        kept = 1.0
        if self._speaks:
            parts = bands[0][self._counts] / self._bands[0][self._counts]
            kept = float(np.minimum(parts, 1.0).mean())
        changed = _change(self._bands, bands) >= 1
        return TextureShift(kept, float((_places(changed).max(0) >= _MUCH_OF_IT).mean()))


def change_of(rgb: U8, candidate: U8) -> F32:
    """How far each window's texture changed, in both bands, (2, rows, columns); 1 is where it is seen."""
    return _change(_bands_of(rgb), _bands_of(candidate))


def _change(before: F32, after: F32) -> F32:
    return np.asarray(np.abs(after - before) / (1 + before) / _LIMITS[:, None, None], np.float32)


def _places(changed: NDArray[np.bool_]) -> F32:
    """The part of each place's windows that changed, (2, rows, columns); places lie half over one another."""
    size = tuple(min(_PLACE, extent) for extent in changed.shape[1:])
    around = sliding_window_view(changed, size, axis=(1, 2))[:, :: _PLACE // 2, :: _PLACE // 2]
    return np.asarray(around.mean((3, 4)), np.float32)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _bands_of(rgb: U8) -> F32:
    """Root mean squares of both bands in all whole windows, (2, rows, columns)."""
    height, width = rgb.shape[:2]
    rows, columns = height // _WINDOW, width // _WINDOW
    bands = np.zeros((2, rows, columns), np.float32)
    across = columns * _WINDOW
    # Five rows of luma around the one in hand, with two samples more at their ends; and five blurred ones of
    # those looked at, with four more.
    luma = np.empty((5, width + 4), np.float32)
    down = np.empty(width + 4, np.float32)
    blurred = np.empty((5, across + 8), np.float32)
    wide = np.empty(across + 8, np.float32)
    for row in range(-2, rows * _WINDOW + 2):
        _luma_of(rgb[min(max(row, 0), height - 1)], luma[row % 5])
        middle = row - 2
        if middle < 0 or middle % _EACH:
            continue
        here, looked = luma[middle % 5], middle // _EACH
        _weighted(luma, middle, middle - 2, middle + 2, down)
        into = blurred[looked % 5]
        for column in range(columns):
            squares = np.float32(0)
            for at in range(column * _WINDOW, (column + 1) * _WINDOW):
                outer, inner = down[at] + down[at + 4], down[at + 1] + down[at + 3]
                soft = outer + np.float32(4) * inner + np.float32(6) * down[at + 2]
                soft *= np.float32(1 / 256)
                into[at + 4] = soft
                off = here[at + 2] - soft
                squares += off * off
            bands[0, middle // _WINDOW, column] += squares
        into[:4] = into[4]
        into[across + 4 :] = into[across + 3]
        # The row that has two blurred ones below it by now, or the last ones said twice more.
        last = looked == rows * _WINDOW // _EACH - 1
        for at in range(looked - 2, looked + 1 if last else looked - 1):
            if at < 0 or at % _EACH:
                continue
            _weighted(blurred, at, 0, looked, wide)
            _add_coarse(blurred[at % 5], wide, bands[1, at * _EACH // _WINDOW])
    for row in range(rows):
        for column in range(columns):
            bands[0, row, column] = np.sqrt(bands[0, row, column] / np.float32(_WINDOW * _WINDOW // _EACH))
            bands[1, row, column] = np.sqrt(bands[1, row, column] / np.float32(_WINDOW * _WINDOW // _EACH**2))
    return bands


@njit(inline="always")
def _weighted(ring: F32, at: int, first: int, last: int, down: F32) -> None:
    """The five rows around one of a ring, weighted 1, 4, 6, 4, 1; none before the first or past the last."""
    above, before, here = ring[max(at - 2, first) % 5], ring[max(at - 1, first) % 5], ring[at % 5]
    after, below = ring[min(at + 1, last) % 5], ring[min(at + 2, last) % 5]
    for at in range(down.size):
        outer, inner = above[at] + below[at], before[at] + after[at]
        down[at] = outer + np.float32(4) * inner + np.float32(6) * here[at]


@njit(inline="always")
def _add_coarse(here: F32, wide: F32, coarse: F32) -> None:
    """Adds the squares of a blurred row less itself blurred once more, over samples two apart."""
    for column in range(coarse.size):
        squares = np.float32(0)
        for at in range(column * _WINDOW, (column + 1) * _WINDOW):
            outer, inner = wide[at] + wide[at + 8], wide[at + 2] + wide[at + 6]
            soft = outer + np.float32(4) * inner + np.float32(6) * wide[at + 4]
            off = here[at + 4] - soft * np.float32(1 / 256)
            squares += off * off
        coarse[column] += squares


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

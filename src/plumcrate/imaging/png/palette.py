"""Our palette maker: few colours, well placed, and error diffusion where it hides.

Colours live in Oklab (B. Ottosson, "A perceptual color space for image processing", 2020), multiplied by
alpha, with alpha as fourth axis: distances are what the eye sees over any ground. A split of
the histogram at the mean of its widest axis (after X. Wu, "Efficient statistical computations for
optimal color quantization", Graphics Gems II, 1991) seeds k-means. Flat colours are pinned: they are in the
palette as they are. Errors are diffused as R. Floyd and L. Steinberg (Proc. SID 17 (2), 1976) do,
serpentine; not on the ground of pinned colours, where a pattern would show, and less at edges.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..scoring.flatness import LEAST_AREA, NO_LABEL, flat_colours, labelled, pack
from ..srgb import LIGHT, to_values

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]
F64 = NDArray[np.float64]

_TURNS = 8
#: Common colours count a little less than by their pixels, so that small bright things keep theirs.
_COMMONNESS = 0.85
#: Alpha against the other axes.
_ALPHA = 0.6
#: Differences between neighbours, in Oklab, from which on it is an edge.
_EDGE = 0.12
#: What is so near to a pinned colour, in Oklab, needs no other.
_AS_PINNED = 0.006
#: The part of a picture from which on a flat colour is pinned where there is room, and that room.
_WORTH_PINNING, _ROOM = 0.0004, 0.75
_AT_EDGES = 0.4
_FEW_CELLS = 1500
#: Rows that are converted at once.
_BAND = 64

_TO_LMS = np.array(
    [
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ]
)
_TO_LAB = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ]
)


def to_space(colours: U8) -> F32:
    """Colours (..., 4) of sRGB and straight alpha in the space described above."""
    if colours.ndim == 3 and colours.shape[0] > _BAND:  # in bands, since doubles take much room
        out = np.empty(colours.shape, np.float32)
        for top in range(0, colours.shape[0], _BAND):
            out[top : top + _BAND] = to_space(colours[top : top + _BAND])
        return out
    linear = LIGHT[colours[..., :3]].astype(np.float64)
    lab = np.cbrt(linear @ _TO_LMS.T) @ _TO_LAB.T
    alpha = colours[..., 3:].astype(np.float64) / 255
    return np.concatenate([lab * alpha, alpha * _ALPHA], axis=-1).astype(np.float32)


def _from_space(values: F64) -> U8:
    """The nearest colours of points of the space, (n, 4) uint8."""
    alpha = np.clip(values[:, 3:] / _ALPHA, 0, 1)
    lab = values[:, :3] / np.maximum(alpha, 1e-3)
    lms = (lab @ np.linalg.inv(_TO_LAB).T) ** 3
    linear = np.clip(lms @ np.linalg.inv(_TO_LMS).T, 0, 1)
    out = np.rint(np.concatenate([to_values(linear), alpha], axis=1) * 255).astype(np.uint8)
    out[out[:, 3] == 0] = 0
    return out


class Histogram:
    """The colours of a picture (height, width, 4), gathered in cells of 8 levels, 16 of alpha."""

    def __init__(self, rgba: U8) -> None:
        flat = rgba.reshape(-1, 4)
        cells = (
            (flat[:, 0] >> 3).astype(np.int32) << 14
            | (flat[:, 1] >> 3).astype(np.int32) << 9
            | (flat[:, 2] >> 3).astype(np.int32) << 4
            | flat[:, 3] >> 4
        )
        counts = np.bincount(cells, minlength=1 << 19)
        used = np.flatnonzero(counts)
        self.cells = len(used)
        means = np.stack(
            [np.bincount(cells, flat[:, c], minlength=1 << 19)[used] / counts[used] for c in range(4)], axis=1
        )
        solid = np.bincount(cells, flat[:, 3] == 255, minlength=1 << 19)[used] == counts[used]
        colours = np.rint(means).astype(np.uint8)
        colours[solid, 3] = 255
        numbers = counts[used]
        if len(used) < _FEW_CELLS:  # so few that each colour can count for itself
            packed, numbers = np.unique(np.ascontiguousarray(flat).view(np.uint32), return_counts=True)
            colours = packed.view(np.uint8).reshape(-1, 4)
        self.points = to_space(colours)
        self.weights: F64 = numbers.astype(np.float64) ** _COMMONNESS

    def palette(self, size: int, pinned: U8) -> U8:
        """At most ``size`` colours, (n, 4) uint8, the pinned ones (fewer than that) among them."""
        points, weights = self.points, self.weights
        if len(pinned):
            pins = to_space(pinned)
            near = np.full(len(points), np.inf, np.float32)
            for pin in pins:
                near = np.minimum(near, ((points - pin) ** 2).sum(axis=1))
            others = near > _AS_PINNED**2
            points, weights = points[others], weights[others]
        left = size - len(pinned)
        if len(points) <= left:
            colours = _from_space(points.astype(np.float64))
        else:
            centres = _split(points.astype(np.float64), weights, left)
            _refine(points, weights, centres, _TURNS)
            colours = _from_space(centres)
        return np.unique(np.concatenate([pinned, colours]), axis=0)


class Pins:
    """The flat colours of a picture (height, width, 4), which palettes keep as they are."""

    def __init__(self, rgba: U8) -> None:
        self._packed = pack(rgba)
        self._packed = np.where(self._packed >> 24 == 0, np.uint32(0), self._packed)
        self._every = flat_colours(self._packed, _WORTH_PINNING)
        self.needed = len(flat_colours(self._packed, LEAST_AREA))

    def of(self, size: int) -> U8 | None:
        """The colours (n, 4) pinned in a palette of a size; None when those that must stay do not fit."""
        if self.needed > size or (self.needed == size and len(self._every) > size):
            return None
        count = len(self._every) if len(self._every) <= size * _ROOM else max(self.needed, int(size * _ROOM))
        return np.ascontiguousarray(self._every[:count]).view(np.uint8).reshape(-1, 4)

    def ground(self, pinned: U8) -> NDArray[np.bool_]:
        """Where pixels of the pinned colours lie in areas."""
        return np.asarray(labelled(self._packed, pack(pinned)) != NO_LABEL)


def _split(points: F64, weights: F64, size: int) -> F64:
    boxes = [np.arange(len(points))]
    spreads = [_spread(points, weights, boxes[0])]
    while len(boxes) < size:
        widest = max(range(len(boxes)), key=lambda i: spreads[i][0])
        total, axis, mean = spreads[widest]
        if total <= 0:
            break
        box = boxes[widest]
        low = points[box, axis] <= mean
        halves = [box[low], box[~low]]
        if not len(halves[0]) or not len(halves[1]):
            spreads[widest] = (0.0, 0, 0.0)
            continue
        boxes[widest : widest + 1] = halves
        spreads[widest : widest + 1] = [_spread(points, weights, half) for half in halves]
    return np.array([np.average(points[box], axis=0, weights=weights[box]) for box in boxes])


def _spread(points: F64, weights: F64, box: NDArray[np.int64]) -> tuple[float, int, float]:
    """Weighted squared deviation along the widest axis, that axis, and the mean on it."""
    if len(box) < 2:
        return 0.0, 0, 0.0
    mean = np.average(points[box], axis=0, weights=weights[box])
    deviation = (weights[box, None] * (points[box] - mean) ** 2).sum(axis=0)
    axis = int(np.argmax(deviation))
    return float(deviation[axis]), axis, float(mean[axis])


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _refine(points: F32, weights: F64, centres: F64, turns: int) -> None:
    """k-means in place."""
    count = centres.shape[0]
    sums = np.empty((count, 5), np.float64)
    for _ in range(turns):
        sums[:] = 0
        for i in range(points.shape[0]):
            best = 0
            least = 1e30
            for c in range(count):
                d = 0.0
                for k in range(4):
                    off = points[i, k] - centres[c, k]
                    d += off * off
                if d < least:
                    least = d
                    best = c
            for k in range(4):
                sums[best, k] += weights[i] * points[i, k]
            sums[best, 4] += weights[i]
        for c in range(count):
            if sums[c, 4] > 0:
                for k in range(4):
                    centres[c, k] = sums[c, k] / sums[c, 4]


@njit(inline="always")
def _nearest(colours: F32, light: float, a: float, b: float, t: float, start: int) -> int:
    """The nearest of colours sorted by lightness, searching outwards from ``start``."""
    count = colours.shape[0]
    best = start
    least = np.float32(1e30)
    up = start
    down = start - 1
    while up < count or down >= 0:
        if up < count:
            d = colours[up, 0] - light
            d *= d
            if d >= least and colours[up, 0] > light:
                up = count
            else:
                da = colours[up, 1] - a
                db = colours[up, 2] - b
                dt = colours[up, 3] - t
                d += da * da + db * db + dt * dt
                if d < least:
                    least = d
                    best = up
                up += 1
        if down >= 0:
            d = colours[down, 0] - light
            d *= d
            if d >= least and colours[down, 0] < light:
                down = -1
            else:
                da = colours[down, 1] - a
                db = colours[down, 2] - b
                dt = colours[down, 3] - t
                d += da * da + db * db + dt * dt
                if d < least:
                    least = d
                    best = down
                down -= 1
    return best


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _diffuse(values: F32, colours: F32, strength: float, ground: NDArray[np.bool_], out: U8) -> None:
    """Maps (height, width, 4) values to the sorted colours, diffusing errors but on flat ground."""
    height, width, _ = values.shape
    here = np.zeros((width + 2, 4), np.float32)
    below = np.zeros((width + 2, 4), np.float32)
    last = 0
    for y in range(height):
        step = 1 if y & 1 == 0 else -1
        x = 0 if step == 1 else width - 1
        for _ in range(width):
            widest = np.float32(0)
            for dy, dx in ((0, -1), (0, 1), (-1, 0), (1, 0)):
                yy = min(max(y + dy, 0), height - 1)
                xx = min(max(x + dx, 0), width - 1)
                for k in range(4):
                    widest = max(widest, abs(values[y, x, k] - values[yy, xx, k]))
            share = np.float32(strength)
            if ground[y, x]:
                share = np.float32(0)
            elif widest > _EDGE:
                share *= np.float32(_AT_EDGES)
            light = values[y, x, 0] + share * here[x + 1, 0]
            a = values[y, x, 1] + share * here[x + 1, 1]
            b = values[y, x, 2] + share * here[x + 1, 2]
            t = values[y, x, 3] + share * here[x + 1, 3]
            last = _nearest(colours, light, a, b, t, last)
            out[y, x] = last
            for k in range(4):
                wanted = light if k == 0 else a if k == 1 else b if k == 2 else t
                error = wanted - colours[last, k]
                error = min(max(error, np.float32(-0.1)), np.float32(0.1))
                here[x + 1 + step, k] += error * np.float32(7 / 16)
                below[x + 1 - step, k] += error * np.float32(3 / 16)
                below[x + 1, k] += error * np.float32(5 / 16)
                below[x + 1 + step, k] += error * np.float32(1 / 16)
            x += step
        here, below = below, here
        below[:] = 0


def apply_palette(values: F32, palette: U8, strength: float, ground: NDArray[np.bool_]) -> tuple[U8, U8]:
    """Indexes (height, width) and colours (n, 4) of a picture given in the space.

    ``strength``: of the error diffusion, 0 (none) to 1; none is on flat ``ground``. Colours that no pixel
    has are left out.
    """
    points = to_space(palette)
    order = np.argsort(points[:, 0], kind="stable")
    indexes = np.empty(values.shape[:2], np.uint8)
    _diffuse(values, np.ascontiguousarray(points[order]), strength, ground, indexes)
    used = np.bincount(indexes.ravel(), minlength=len(palette)) > 0
    place = np.cumsum(used) - 1
    return place.astype(np.uint8)[indexes], np.ascontiguousarray(palette[order][used])

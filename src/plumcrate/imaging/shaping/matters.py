"""What matters in a picture: where people look first, from colour, contrast, edges and skin.

A small version of the picture is judged. What cannot be reached from the picture's edge without a change of
colour stands out (J. Zhang et al., "Minimum barrier salient object detection at 80 FPS", ICCV 2015); so does
what has a colour that the edges do not have, and what has more detail than its surroundings. Colours of skin,
of whatever shade, in an even patch of the size of a face count for more. No trained model is used.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..geometry import blurred, downscale, gaussian
from ..pixels import Pixels
from ..shapes import Point
from ..srgb import LIGHT

F32 = NDArray[np.float32]

#: The longer side at which a picture is judged.
_SIDE = 144
#: The part of each side that counts as the picture's edge.
_EDGE = 0.06
#: Weights of what stands out, of strange colours, of detail, of skin.
_OUT, _STRANGE, _DETAIL, _SKIN = 1.0, 0.7, 0.6, 0.5
#: How far from the middle something counts for half, in parts of the diagonal.
_FAR = 0.55
#: The size of what one looks at, in parts of the longer side.
_LOOK = 0.09


@dataclass(frozen=True, slots=True)
class Matter:
    """``weights`` (height, width) of a small version, adding up to 1; ``focus``: where one looks first."""

    weights: F32
    focus: Point

    def box(self, width: int, height: int, wanted: tuple[int, int]) -> tuple[int, int, int, int]:
        """The largest box of the proportions of ``wanted`` in a picture of a width and height, with as much
        of what matters in it as it can hold, and the rest of it evenly on both sides."""
        scale = min(width / wanted[0], height / wanted[1])
        wide, tall = min(width, round(wanted[0] * scale)), min(height, round(wanted[1] * scale))
        left = _best_start(self.weights.sum(axis=0), wide / width)
        top = _best_start(self.weights.sum(axis=1), tall / height)
        x, y = min(round(left * width), width - wide), min(round(top * height), height - tall)
        return x, y, x + wide, y + tall


def _best_start(profile: NDArray[np.float32], part: float) -> float:
    """Where a window of a part of the whole begins that holds the most of a profile, 0 to 1 - part."""
    room = 1 - part
    if room <= 0:
        return 0.0
    sums = np.concatenate([[0.0], np.cumsum(profile, dtype=np.float64)])
    length = len(profile)
    starts = np.linspace(0, room, 101)
    places = np.arange(length + 1) / length
    held = np.interp(starts + part, places, sums) - np.interp(starts, places, sums)
    middles = (np.arange(length) + 0.5) / length
    mean = float((profile * middles).sum() / max(float(profile.sum()), 1e-9))
    # Where several hold as much, the one that has what matters in its middle.
    off = np.abs(starts + part / 2 - mean)
    return float(starts[np.argmax(held - 0.12 * off)])


def what_matters(pixels: Pixels) -> Matter:
    """Judges the pixels of an upright picture."""
    small = _small(pixels)
    lab = _lab(small.over(255))
    if min(lab.shape[:2]) < 8:
        return Matter(np.full(lab.shape[:2], 1 / lab[..., 0].size, np.float32), (0.5, 0.5))
    weights = (
        _OUT * _scaled(_barrier(lab))
        + _STRANGE * _scaled(_strange(lab))
        + _DETAIL * _scaled(_detail(lab))
        + _SKIN * _skin(lab)
    )
    if small.alpha is not None:
        weights *= small.alpha.astype(np.float32) / 255
    weights = blurred(np.ascontiguousarray(weights.astype(np.float32)), gaussian(1.5)) * _near_middle(
        weights.shape
    )
    weights = (weights - np.quantile(weights, 0.5)).clip(0) ** 2
    total = float(weights.sum())
    if total <= 1e-9:
        return Matter(np.full(weights.shape, 1 / weights.size, np.float32), (0.5, 0.5))
    weights = (weights / total).astype(np.float32)
    return Matter(weights, _looked_at(weights))


_TO_XYZ = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
_WHITE = np.array([0.9505, 1.0, 1.089])


def _lab(rgb: NDArray[np.uint8]) -> F32:
    """CIE 1976 L*, a*, b* (ISO/CIE 11664-4) of sRGB samples."""
    xyz = LIGHT[rgb] @ _TO_XYZ.T / _WHITE
    x, y, z = np.moveaxis(np.where(xyz > 0.008856, np.cbrt(xyz), 7.787 * xyz + 16 / 116), -1, 0)
    return np.stack([116 * y - 16, 500 * (x - y), 200 * (y - z)], axis=-1).astype(np.float32)


def _small(pixels: Pixels) -> Pixels:
    width, height = pixels.size
    scale = min(1.0, _SIDE / max(width, height))
    wanted = max(1, round(width * scale)), max(1, round(height * scale))
    return pixels if scale == 1 else downscale(pixels, *wanted)


def _scaled(values: F32) -> F32:
    """From 0 to 1, whatever is beyond the highest fiftieth cut off."""
    low, high = (float(np.quantile(values, part)) for part in (0.02, 0.98))
    scaled: F32 = np.clip((values - low) / max(high - low, 1e-6), 0, 1).astype(np.float32)
    return scaled


def _barrier(lab: F32) -> F32:
    total = np.zeros(lab.shape[:2], np.float32)
    for channel in range(3):
        plane = blurred(np.ascontiguousarray(lab[..., channel]), gaussian(1.0))
        total += _barrier_distance(plane, 3)
    return total


@njit(cache=True, nogil=True, error_model="numpy")
def _barrier_distance(plane: F32, rounds: int) -> F32:
    """How far values must go up and down on the best way in from the edge; raster scans to and fro."""
    height, width = plane.shape
    out = np.full((height, width), np.float32(1e9))
    high, low = plane.copy(), plane.copy()
    out[0] = out[-1] = 0
    out[:, 0] = out[:, -1] = 0
    for turn in range(2 * rounds):
        step = 1 if turn % 2 == 0 else -1
        for j in range(1, height - 1):
            y = j if step == 1 else height - 1 - j
            for i in range(1, width - 1):
                x = i if step == 1 else width - 1 - i
                value = plane[y, x]
                for way in range(2):
                    py, px = (y - step, x) if way == 0 else (y, x - step)
                    top, bottom = max(high[py, px], value), min(low[py, px], value)
                    if top - bottom < out[y, x]:
                        out[y, x], high[y, x], low[y, x] = top - bottom, top, bottom
    return out


def _strange(lab: F32) -> F32:
    """How far colours are from those of each side of the picture, the nearest side left out."""
    height, width = lab.shape[:2]
    deep, wide = max(1, round(_EDGE * height)), max(1, round(_EDGE * width))
    sides = (lab[:deep], lab[-deep:], lab[:, :wide], lab[:, -wide:])
    maps = []
    for side in sides:
        samples = side.reshape(-1, 3).astype(np.float64)
        spread = np.cov(samples.T) + 9.0 * np.eye(3)
        off = lab - samples.mean(axis=0)
        maps.append(
            _scaled(np.sqrt(np.einsum("yxi,ij,yxj->yx", off, np.linalg.inv(spread), off)).astype(np.float32))
        )
    stack = np.sort(np.stack(maps), axis=0)
    out: F32 = stack[1:].mean(axis=0).astype(np.float32)
    return out


def _detail(lab: F32) -> F32:
    """More edges than the surroundings have."""
    luma = np.ascontiguousarray(lab[..., 0])
    across, down = np.gradient(luma, axis=1), np.gradient(luma, axis=0)
    strength = np.ascontiguousarray(np.sqrt(np.hypot(across, down)).astype(np.float32))
    side = max(lab.shape[:2])
    near, far = blurred(strength, gaussian(0.03 * side)), blurred(strength, gaussian(0.16 * side))
    return (near - 0.8 * far).clip(0).astype(np.float32)


def _skin(lab: F32) -> F32:
    """Even patches of the colours of skin: hues from red to yellow, neither pale nor loud, of all shades."""
    hue = np.degrees(np.arctan2(lab[..., 2], lab[..., 1]))
    chroma = np.hypot(lab[..., 1], lab[..., 2])
    like = np.exp(-(((hue - 55) / 16) ** 2)) * np.exp(-(((chroma - 26) / 12) ** 2))
    like *= (lab[..., 0] > 22) & (lab[..., 0] < 92)
    patch = blurred(np.ascontiguousarray(like.astype(np.float32)), gaussian(0.03 * max(lab.shape[:2])))
    # A whole beach of such a colour is no face.
    much = float(like.mean())
    return (patch * max(0.0, 1 - 4 * much)).astype(np.float32)


def _near_middle(shape: tuple[int, int]) -> F32:
    height, width = shape
    y = (np.arange(height) + 0.5) / height - 0.5
    x = (np.arange(width) + 0.5) / width - 0.5
    away = np.hypot(y[:, None], x[None, :]) / (_FAR * math.sqrt(0.5))
    return (0.25 + 0.75 * np.exp(-math.log(2) * away**2)).astype(np.float32)


def _looked_at(weights: F32) -> Point:
    """From the strongest place to the middle of what lies around it."""
    height, width = weights.shape
    look = _LOOK * max(height, width)
    smooth = blurred(weights, gaussian(look))
    y, x = (float(place) for place in np.unravel_index(int(np.argmax(smooth)), smooth.shape))
    rows, columns = np.mgrid[0:height, 0:width]
    for _ in range(8):
        near = weights * np.exp(-((rows - y) ** 2 + (columns - x) ** 2) / (2 * (2 * look) ** 2))
        total = float(near.sum())
        if total <= 0:
            break
        y, x = float((near * rows).sum()) / total, float((near * columns).sum()) / total
    return (x + 0.5) / width, (y + 0.5) / height

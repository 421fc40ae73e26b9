"""A second, independent measure: how far colours moved, patch by patch.

SSIMULACRA2 looks at structure; it says little of a slow drift of colour over an area. This guard
averages both pictures over patches of 4 x 4 pixels in linear light, as the eye does with fine colour
detail, and takes the CIE 1976 colour difference of the patches (ISO/CIE 11664-4; D65, IEC
61966-2-1 primaries). About 2.3 is just noticeable side by side (M. Mahy et al., Color Research
and Application 19 (2), 1994).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..srgb import LIGHT
from .kernels import cbrt

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]

PATCH = 4
_STRAIGHT_BELOW = np.float32(0.008856451679)
#: The part of patches whose difference ``worst`` leaves out: a stray patch is no drift.
_STRAYS = 0.001


@dataclass(frozen=True, slots=True)
class ColourShift:
    """Colour differences of patches: their mean, and what 999 in 1,000 stay below."""

    mean: float
    worst: float


@njit(inline="always")
def lab_response(light: Any) -> Any:
    """The lightness response of CIE 1976, with its straight part near black; in single precision."""
    curved = cbrt(max(light, _STRAIGHT_BELOW))
    return curved if light > _STRAIGHT_BELOW else np.float32(7.787037037) * light + np.float32(0.1379310345)


@njit(cache=True, nogil=True, error_model="numpy")
def _patches(rgb: U8, curve: F32, out: F32) -> None:
    """L*, a* and b* of each patch's mean light; patches at the right and lower edge may be smaller."""
    height, width, _ = rgb.shape
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            r = np.float32(0)
            g = np.float32(0)
            b = np.float32(0)
            bottom = min(height, row * PATCH + PATCH)
            right = min(width, column * PATCH + PATCH)
            for y in range(row * PATCH, bottom):
                for x in range(column * PATCH, right):
                    r += curve[rgb[y, x, 0]]
                    g += curve[rgb[y, x, 1]]
                    b += curve[rgb[y, x, 2]]
            share = np.float32(1) / np.float32((bottom - row * PATCH) * (right - column * PATCH))
            r *= share
            g *= share
            b *= share
            fx = lab_response(np.float32((0.4124564 * r + 0.3575761 * g + 0.1804375 * b) / 0.95047))
            fy = lab_response(np.float32(0.2126729 * r + 0.7151522 * g + 0.0721750 * b))
            fz = lab_response(np.float32((0.0193339 * r + 0.1191920 * g + 0.9503041 * b) / 1.08883))
            out[row, column, 0] = 116 * fy - 16
            out[row, column, 1] = 500 * (fx - fy)
            out[row, column, 2] = 200 * (fy - fz)


def patches(rgb: U8) -> F32:
    """The patches of a picture (height, width, 3), as (rows, columns, 3) L*a*b*."""
    rows, columns = -(-rgb.shape[0] // PATCH), -(-rgb.shape[1] // PATCH)
    out = np.empty((rows, columns, 3), np.float32)
    _patches(np.ascontiguousarray(rgb), LIGHT, out)
    return out


def colour_shift(reference: F32, candidate: F32) -> ColourShift:
    """How far colours moved between the patches of two pictures of one size."""
    moved = np.sqrt(((reference - candidate) ** 2).sum(axis=2)).ravel()
    stays_below = min(moved.size - 1, int(moved.size * (1 - _STRAYS)))
    return ColourShift(float(moved.mean()), float(np.partition(moved, stays_below)[stays_below]))

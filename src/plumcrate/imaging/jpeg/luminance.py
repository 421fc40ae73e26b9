"""Luma that makes up for what chroma loses.

Y'CbCr is not constant-luminance: halving and quantizing chroma also shifts the light that a pixel
gives, and the eye sees light more sharply than colour. Once a picture's chroma is quantized it is known
what decoders will show; luma is then moved so that each pixel gives its old light again
(one or two Newton steps on linear luminance). The loss itself is described by C. Poynton, "Digital Video and
HD", chapter 'Constant luminance'.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numba import njit

from ..srgb import to_light
from .arrays import U8
from .transform import F32, bands, planes_of, shown_rows

#: Linear light of sample values, from _LOWEST on in steps of 1 / _FINENESS. Beyond 0 to 255 decoders clip;
#: the line goes on a little there, so that there is always a slope.
_LOWEST, _HIGHEST, _FINENESS = -256, 512, 8
#: Parts of red, green and blue in the light that the eye's L and M cones take up together.
_RED, _GREEN, _BLUE = 0.265, 0.657, 0.078
_STEPS = 2
_NEAR = np.float32(1.0)  # so little is right after one step
_FURTHEST = 20.0  # luma is moved no further than this


def _curve() -> F32:
    values = np.arange(_LOWEST * _FINENESS, _HIGHEST * _FINENESS + 1) / _FINENESS
    return to_light(np.clip(values, 0, 255) / 255).astype(np.float32)


_CURVE = _curve()
_SLOPE = np.gradient(_CURVE, 1 / _FINENESS).astype(np.float32)
#: Values are kept this far inside the table, whatever chroma and the shift add up to.
_FIRST, _LAST = np.float32(8), np.float32(_CURVE.size - 8)


@njit(inline="always")
def _place(value: float) -> np.int64:
    """Where a sample value lies in the table."""
    at = (value - np.float32(_LOWEST)) * np.float32(_FINENESS) + np.float32(0.5)
    return np.int64(min(max(at, _FIRST), _LAST))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _shift(rgb: U8, curve: F32, slope: F32, luma: F32, blue: F32, red: F32, out: F32) -> None:
    red_part = np.float32(_RED)
    green_part = np.float32(_GREEN)
    blue_part = np.float32(_BLUE)
    for y in range(luma.shape[0]):
        for x in range(luma.shape[1]):
            wanted = (
                red_part * curve[(np.int64(rgb[y, x, 0]) - _LOWEST) * _FINENESS]
                + green_part * curve[(np.int64(rgb[y, x, 1]) - _LOWEST) * _FINENESS]
                + blue_part * curve[(np.int64(rgb[y, x, 2]) - _LOWEST) * _FINENESS]
            )
            grey = luma[y, x] + np.float32(128)
            to_red = grey + np.float32(1.402) * red[y, x]
            to_green = grey - np.float32(0.344136286) * blue[y, x] - np.float32(0.714136286) * red[y, x]
            to_blue = grey + np.float32(1.772) * blue[y, x]
            moved = np.float32(0)
            for _ in range(_STEPS):
                r = _place(to_red + moved)
                g = _place(to_green + moved)
                b = _place(to_blue + moved)
                light = red_part * curve[r] + green_part * curve[g] + blue_part * curve[b]
                rise = red_part * slope[r] + green_part * slope[g] + blue_part * slope[b]
                moved += (wanted - light) / max(rise, np.float32(2e-4))
                moved = min(max(moved, np.float32(-_FURTHEST)), np.float32(_FURTHEST))
                if abs(moved) < _NEAR:
                    break
            out[y, x] = moved


def luma_shift(rgb: U8, luma: F32, decoded: list[F32]) -> F32:
    """By how much to move each luma sample, (height, width), for the chroma that decoders will show.

    ``rgb`` is the picture, ``luma`` its Y, ``decoded`` Cb and Cr after quantization.
    """
    out = np.empty(luma.shape, np.float32)
    blue, red = (np.ascontiguousarray(plane) for plane in decoded)
    _shift(np.ascontiguousarray(rgb), _CURVE, _SLOPE, luma, blue, red, out)
    return out


class Band(NamedTuple):
    """Some rows of a picture: its luma, by how much to move that, and the chroma that is shown with it."""

    rows: slice
    luma: F32
    shift: F32
    chroma: list[F32]


def shifted_bands(rgb: U8, stored: list[F32]) -> Iterator[Band]:
    """A picture (height, width, 3) from top to bottom, for the Cb and Cr that are ``stored`` for it, at full
    or half size."""
    for rows in bands(rgb.shape[0]):
        luma = planes_of(rgb[rows])[0]
        chroma = [shown_rows(plane, rows, rgb.shape[:2]) for plane in stored]
        yield Band(rows, luma, luma_shift(rgb[rows], luma, chroma), chroma)

"""Making pictures smaller in size: in linear light, with a good filter, never larger.

Lanczos-3 (C. E. Duchon, "Lanczos filtering in one and two dimensions", J. Applied Meteorology 18, 1979),
widened by the scale, on light and not on sample values, colour multiplied by alpha.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .pixels import Pixels
from .recipe import Sharpening
from .srgb import LIGHT, to_values

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]

_LOBES = 3
#: sRGB codes of linear light in steps of 1 / 8191; fine enough for every code near black.
_STEPS = 8191


def _codes() -> U8:
    light = (np.arange(_STEPS + 1) + 0.0) / _STEPS
    return np.rint(to_values(light) * 255).astype(np.uint8)


_CODES = _codes()


def fitted(width: int, height: int, largest: tuple[int, int]) -> tuple[int, int]:
    """The size that fits into ``largest`` (0: no limit) with the same proportions; never larger."""
    scale = min(
        [1.0, *(limit / side for limit, side in zip(largest, (width, height), strict=True) if limit > 0)]
    )
    return max(1, round(width * scale)), max(1, round(height * scale))


def _weights(size: int, wanted: int) -> tuple[NDArray[np.int64], F32]:
    """First sample and weights of each output sample."""
    scale = size / wanted
    reach = _LOBES * scale
    taps = math.ceil(2 * reach) + 1
    centres = (np.arange(wanted) + 0.5) * scale - 0.5
    first = np.ceil(centres - reach).astype(np.int64)
    places = first[:, None] + np.arange(taps)[None, :]
    off = (places - centres[:, None]) / scale
    weights = np.sinc(off) * np.sinc(off / _LOBES) * (np.abs(off) < _LOBES)
    weights /= weights.sum(axis=1, keepdims=True)
    return first, weights.astype(np.float32)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _across(values: F32, first: NDArray[np.int64], weights: F32, out: F32) -> None:
    """Resamples the second axis of (height, width, channels)."""
    last = values.shape[1] - 1
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            for c in range(out.shape[2]):
                total = np.float32(0)
                for k in range(weights.shape[1]):
                    place = min(max(first[x] + k, 0), last)
                    total += weights[x, k] * values[y, place, c]
                out[y, x, c] = total


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _down(values: F32, first: NDArray[np.int64], weights: F32, out: F32) -> None:
    """Resamples the first axis."""
    last = values.shape[0] - 1
    out[:] = 0
    for y in range(out.shape[0]):
        for k in range(weights.shape[1]):
            place = min(max(first[y] + k, 0), last)
            weight = weights[y, k]
            for x in range(out.shape[1]):
                for c in range(out.shape[2]):
                    out[y, x, c] += weight * values[place, x, c]


def downscale(pixels: Pixels, width: int, height: int) -> Pixels:
    """The picture at a smaller size. Raises ValueError when it would be larger."""
    if width > pixels.size[0] or height > pixels.size[1]:
        raise ValueError("pictures are not made larger")
    light = LIGHT[pixels.rgb]
    if pixels.alpha is not None:
        alpha = pixels.alpha.astype(np.float32)[:, :, None] / np.float32(255)
        light = np.concatenate([light * alpha, alpha], axis=2)
    narrow = np.empty((light.shape[0], width, light.shape[2]), np.float32)
    _across(np.ascontiguousarray(light), *_weights(light.shape[1], width), narrow)
    small = np.empty((height, width, light.shape[2]), np.float32)
    _down(narrow, *_weights(light.shape[0], height), small)
    if pixels.alpha is None:
        return Pixels(_to_codes(small))
    opacity = np.clip(small[:, :, 3:], 0, 1)
    colour = small[:, :, :3] / np.maximum(opacity, 1e-4)
    return Pixels(_to_codes(colour), np.rint(opacity[:, :, 0] * 255).astype(np.uint8))


def _to_codes(light: F32) -> U8:
    return _CODES[np.rint(np.clip(light, 0, 1) * _STEPS).astype(np.int32)]


def sharpened(pixels: Pixels, how: Sharpening) -> Pixels:
    """Luma sharpened by unsharp masking; colour and alpha stay."""
    if how.amount <= 0:
        return pixels
    rgb = pixels.rgb.astype(np.float32)
    luma = rgb @ np.array([0.299, 0.587, 0.114], np.float32)
    reach = max(1, math.ceil(3 * how.radius))
    taps = np.exp(-0.5 * (np.arange(-reach, reach + 1) / how.radius) ** 2)
    taps = (taps / taps.sum()).astype(np.float32)
    blurred = luma
    for axis in (0, 1):
        wide = np.pad(blurred, [(reach, reach) if a == axis else (0, 0) for a in (0, 1)], mode="edge")
        blurred = np.asarray(
            sum(
                tap * np.take(wide, np.arange(k, k + luma.shape[axis]), axis=axis)
                for k, tap in enumerate(taps)
            )
        )
    detail = luma - blurred
    detail = np.where(np.abs(detail) >= how.threshold, detail * np.float32(how.amount), 0)
    return Pixels(np.clip(np.rint(rgb + detail[:, :, None]), 0, 255).astype(np.uint8), pixels.alpha)

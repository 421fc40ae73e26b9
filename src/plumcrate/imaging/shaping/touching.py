"""Touch-ups applied to pixels, one after the other; see :mod:`..shapes` for what each means."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..geometry import sharpened
from ..pixels import Pixels
from ..shapes import (
    Brightness,
    Colour,
    Contrast,
    Cover,
    Crop,
    Grey,
    Rotation,
    Saturation,
    Sharpen,
    Sharpening,
    Touch,
    White,
    box_of,
    straightened,
)
from ..srgb import LIGHT, to_light, to_values
from .covering import cover

F64 = NDArray[np.float64]
#: Luma of sRGB values (ITU-R BT.601), luminance of linear light (ITU-R BT.709).
_LUMA, _LUMINANCE = np.array([0.299, 0.587, 0.114]), np.array([0.2126, 0.7152, 0.0722])
_CHANNELS = 3


@dataclass(frozen=True, slots=True)
class _Curves:
    """Values after the curves so far, (256, 3) from 0 to 1, so that curves in a row are rounded once."""

    values: F64

    @classmethod
    def none(cls) -> _Curves:
        return cls(np.repeat((np.arange(256) / 255)[:, None], _CHANNELS, axis=1))

    def then(self, touch: Brightness | Contrast | White) -> _Curves:
        if isinstance(touch, Brightness):
            return _Curves(self.values ** (2.0 ** (-touch.amount / 100)))
        if isinstance(touch, Contrast):
            v = self.values
            return _Curves(v + 2 * touch.amount / 100 * (v - 0.5) * v * (1 - v))
        return _Curves(to_values(np.clip(to_light(self.values) * _gains(touch.colour), 0, 1)))

    def applied(self, pixels: Pixels) -> Pixels:
        table = np.rint(self.values * 255).astype(np.uint8)
        rgb = np.empty_like(pixels.rgb)
        for channel in range(_CHANNELS):
            rgb[..., channel] = table[:, channel][pixels.rgb[..., channel]]
        return Pixels(rgb, pixels.alpha)


def _gains(colour: Colour) -> F64:
    """What makes a colour neutral in linear light, its luminance kept (J. von Kries, 1902)."""
    light = to_light(np.maximum(np.array(colour), 1) / 255)
    gains: F64 = float(light @ _LUMINANCE) / light
    return gains


def touched(pixels: Pixels, touches: Sequence[Touch]) -> Pixels:
    """The pixels of an upright picture after its touch-ups."""
    curves: _Curves | None = None
    for touch in touches:
        if isinstance(touch, Brightness | Contrast | White):
            curves = (curves or _Curves.none()).then(touch)
            continue
        if curves is not None:
            pixels, curves = curves.applied(pixels), None
        pixels = _applied(pixels, touch)
    return pixels if curves is None else curves.applied(pixels)


def _applied(pixels: Pixels, touch: Crop | Rotation | Saturation | Sharpen | Grey | Cover) -> Pixels:
    match touch:
        case Crop():
            return _cropped(pixels, touch)
        case Rotation():
            return _turned(pixels, touch)
        case Saturation():
            return _saturated(pixels, touch)
        case Sharpen():
            return sharpened(pixels, Sharpening(touch.amount, touch.radius, touch.threshold))
        case Cover():
            return cover(pixels, touch)
        case Grey():
            return in_grey(pixels)


def _cropped(pixels: Pixels, crop: Crop) -> Pixels:
    if crop.angle:
        pixels = _straightened(pixels, crop.angle)
    return boxed(pixels, box_of(crop, *pixels.size))


def boxed(pixels: Pixels, box: tuple[int, int, int, int]) -> Pixels:
    """What lies in a box: left, top, right, bottom."""
    left, top, right, bottom = box
    alpha = None if pixels.alpha is None else np.ascontiguousarray(pixels.alpha[top:bottom, left:right])
    return Pixels(np.ascontiguousarray(pixels.rgb[top:bottom, left:right]), alpha)


def _straightened(pixels: Pixels, angle: float) -> Pixels:
    width, height = pixels.size
    wide, tall = straightened(width, height, angle)

    def turned(plane: NDArray[np.uint8]) -> NDArray[np.uint8]:
        image = Image.fromarray(plane).rotate(angle, Image.Resampling.BICUBIC)
        left, top = (width - wide) // 2, (height - tall) // 2
        return np.ascontiguousarray(np.asarray(image)[top : top + tall, left : left + wide])

    return Pixels(turned(pixels.rgb), None if pixels.alpha is None else turned(pixels.alpha))


def _turned(pixels: Pixels, turn: Rotation) -> Pixels:
    def turned(plane: NDArray[np.uint8]) -> NDArray[np.uint8]:
        if turn.mirrored:
            plane = plane[:, ::-1]
        return np.ascontiguousarray(np.rot90(plane, -turn.quarters))

    return Pixels(turned(pixels.rgb), None if pixels.alpha is None else turned(pixels.alpha))


def _saturated(pixels: Pixels, touch: Saturation) -> Pixels:
    rgb = pixels.rgb.astype(np.float32)
    luma = (rgb @ _LUMA.astype(np.float32))[..., None]
    moved = luma + (rgb - luma) * np.float32(1 + touch.amount / 100)
    return Pixels(np.clip(np.rint(moved), 0, 255).astype(np.uint8), pixels.alpha)


def in_grey(pixels: Pixels) -> Pixels:
    """Without colour: the same luminance."""
    light = LIGHT[pixels.rgb] @ _LUMINANCE.astype(np.float32)
    codes = np.rint(to_values(light.astype(np.float64)) * 255).astype(np.uint8)
    return Pixels(np.repeat(codes[..., None], _CHANNELS, axis=2), pixels.alpha)


def _sharpened(pixels: Pixels, touch: Sharpen) -> Pixels:
    return sharpened(pixels, Sharpening(touch.amount, touch.radius, touch.threshold))

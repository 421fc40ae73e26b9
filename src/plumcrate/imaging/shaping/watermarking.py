"""Laying a watermark over a picture: a picture with transparency, or words in a font that ships."""

from __future__ import annotations

import io
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from ..errors import Damaged
from ..geometry import downscale
from ..identification import identify
from ..pixels import Pixels, open_picture, to_pixels
from ..recipe import Limits
from ..shapes import PLACES, Watermark
from ..srgb import LIGHT

U8 = NDArray[np.uint8]

_TYPE = Path(__file__).parents[2] / "type"
_FONTS = ("PublicSans-SemiBold", "NotoSans-Regular")
#: The height at which words are drawn before they are made as large as they are wanted.
_DRAWN = 160
#: A watermark may be so high, in parts of the picture's height.
_TALLEST = 0.5
#: Pixels that a watermark's own file may have.
_LIMITS = Limits(pixels=40_000_000)
#: Mean light of what is under a watermark, from which on a dark watermark stands out more.
_BRIGHT = 0.36


def watermark_pixels(watermark: Watermark) -> Pixels:
    """The watermark itself, at the size it has. Raises the errors of :mod:`~plumcrate.imaging.errors`."""
    if watermark.words:
        return _drawn(watermark.words)
    return to_pixels(open_picture(watermark.data, identify(watermark.data), _LIMITS))


def check_watermark(data: bytes) -> tuple[int, int]:
    """Width and height of a watermark's file. Raises :class:`Damaged` where it cannot be a watermark."""
    pixels = to_pixels(open_picture(data, identify(data), _LIMITS))
    if pixels.alpha is None:
        raise Damaged("the watermark has no transparency: it would be a box on every picture")
    if not pixels.alpha.any():
        raise Damaged("the watermark is transparent all over: nothing of it would be seen")
    return pixels.size


@cache
def _fonts() -> tuple[bytes, ...]:
    """The fonts that ship, that which is preferred first."""
    return tuple((_TYPE / f"{name}.ttf").read_bytes() for name in _FONTS)


def load_fonts() -> None:
    """Reads the fonts, for a process that may soon read nothing any more."""
    _fonts()


def _font(number: int) -> ImageFont.FreeTypeFont:
    return ImageFont.truetype(io.BytesIO(_fonts()[number]), _DRAWN)


def _lacks(number: int, words: str) -> str:
    """The letters of words that a font has no shape for."""
    font = _font(number)
    nothing = bytes(font.getmask("\ufffe"))
    shapes = {letter: bytes(font.getmask(letter)) for letter in dict.fromkeys(words) if letter != " "}
    return "".join(letter for letter, shape in shapes.items() if shape in (b"", nothing))


def missing_letters(words: str) -> str:
    """The letters of words that no font has with all the others."""
    return min((_lacks(number, words) for number in range(len(_FONTS))), key=len)


def _drawn(words: str) -> Pixels:
    font = _font(min(range(len(_FONTS)), key=lambda number: len(_lacks(number, words))))
    blank = ImageDraw.Draw(Image.new("L", (1, 1)))
    left, top, right, bottom = (round(side) for side in blank.textbbox((0, 0), words, font=font))
    alpha = Image.new("L", (max(1, right - left), max(1, bottom - top)))
    ImageDraw.Draw(alpha).text((-left, -top), words, fill=255, font=font)
    opacity = np.asarray(alpha)
    return Pixels(np.full((*opacity.shape, 3), 255, np.uint8), opacity)


def watermarked(pixels: Pixels, watermark: Watermark) -> Pixels:
    """The picture with its watermark; as it is where the watermark would be too small to be read."""
    width, height = pixels.size
    wanted = round(watermark.width * width)
    if wanted < watermark.least:
        return pixels
    own = watermark_pixels(watermark)
    alpha = own.alpha if own.alpha is not None else np.full(own.rgb.shape[:2], 255, np.uint8)
    # Never larger than it was made, nor than a good part of the picture.
    scale = min(wanted / own.size[0], _TALLEST * height / own.size[1], 1.0)
    wide, tall = max(1, round(own.size[0] * scale)), max(1, round(own.size[1] * scale))
    small = downscale(Pixels(own.rgb, alpha), wide, tall)
    margin = round(watermark.margin * min(width, height))
    across, down = PLACES[watermark.place]
    left = min(max(round(margin + across * (width - 2 * margin - wide)), 0), width - wide)
    top = min(max(round(margin + down * (height - 2 * margin - tall)), 0), height - tall)
    under = pixels.rgb[top : top + tall, left : left + wide]
    assert small.alpha is not None
    opacity = small.alpha.astype(np.float32)[..., None] * np.float32(watermark.opacity / 255)
    colour = _in_tone(small, under, watermark).astype(np.float32)
    mixed = np.rint(under + (colour - under.astype(np.float32)) * opacity)
    rgb = pixels.rgb.copy()
    rgb[top : top + tall, left : left + wide] = np.clip(mixed, 0, 255).astype(np.uint8)
    if pixels.alpha is None:
        return Pixels(rgb)
    shown = pixels.alpha.copy()
    there = shown[top : top + tall, left : left + wide]
    shown[top : top + tall, left : left + wide] = np.maximum(
        there, np.rint(opacity[..., 0] * 255).astype(np.uint8)
    )
    return Pixels(rgb, shown)


def _in_tone(watermark: Pixels, under: U8, how: Watermark) -> U8:
    """The watermark's colours: its own, or all light, or all dark."""
    tone = how.tone
    if tone == "own":
        return watermark.rgb
    if tone == "under":
        tone = "dark" if float(LIGHT[under].mean()) > _BRIGHT else "light"
    return np.full_like(watermark.rgb, 255 if tone == "light" else 0)


def as_png(pixels: Pixels) -> bytes:
    """A watermark's pixels as a PNG, for looking at it."""
    planes = [pixels.rgb] if pixels.alpha is None else [pixels.rgb, pixels.alpha[..., None]]
    out = io.BytesIO()
    Image.fromarray(np.concatenate(planes, axis=2)).save(out, "PNG")
    return out.getvalue()

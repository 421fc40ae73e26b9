"""Shaping a picture: touch-ups, then a size, then a watermark. Pixels in, pixels out."""

from __future__ import annotations

from ..geometry import downscale, fitted, sharpened
from ..pixels import Pixels
from ..recipe import Recipe
from ..shapes import PLACES, Size, cut, cut_at_place, sized, touched_point, touched_size
from .matters import what_matters
from .touching import boxed, in_grey, touched
from .watermarking import watermarked


def shaped(pixels: Pixels, recipe: Recipe) -> Pixels:
    """The upright pixels of a picture as its recipe shapes them."""
    before = pixels.size
    pixels = touched(pixels, recipe.touches)
    if recipe.size is None and any(recipe.largest):
        wanted = fitted(*pixels.size, recipe.largest)
        if wanted != pixels.size:
            pixels = sharpened(downscale(pixels, *wanted), recipe.sharpening)
    if recipe.size is None and recipe.sharpens and pixels.size == _whole(before, recipe):
        pixels = sharpened(pixels, recipe.sharpening)
    if recipe.size is not None:
        focus = None if recipe.focus is None else touched_point(recipe.focus, *before, recipe.touches)
        pixels = _sized(pixels, recipe.size, focus)
    return pixels if recipe.watermark is None else watermarked(pixels, recipe.watermark)


def _whole(before: tuple[int, int], recipe: Recipe) -> tuple[int, int]:
    """What a picture measures that was not fitted into a largest size, which sharpens by itself."""
    return touched_size(*before, recipe.touches)


def _sized(pixels: Pixels, size: Size, focus: tuple[float, float] | None) -> Pixels:
    wanted = sized(*pixels.size, size)
    if wanted is not None:
        if size.way == "fill":
            pixels = boxed(pixels, cut_box(pixels, size, wanted, focus))
            wanted = min(wanted[0], pixels.size[0]), min(wanted[1], pixels.size[1])
        pixels = sharpened(downscale(pixels, *wanted), size.sharpening)
    return in_grey(pixels) if size.grey else pixels


def cut_box(
    pixels: Pixels, size: Size, wanted: tuple[int, int], focus: tuple[float, float] | None
) -> tuple[int, int, int, int]:
    """What is kept of a picture that is cut: left, top, right, bottom."""
    if size.anchor in PLACES:
        return cut_at_place(*pixels.size, wanted, size.anchor)
    if size.anchor == "focus" and focus is not None:
        return cut(*pixels.size, wanted, focus)
    return what_matters(pixels).box(*pixels.size, wanted)

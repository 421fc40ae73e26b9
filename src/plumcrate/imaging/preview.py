"""A small picture of a picture, for lists."""

from __future__ import annotations

import io

from PIL import Image, ImageOps

from .errors import Damaged
from .identification import Facts, identify
from .pdf import CannotShow, first_page
from .pixels import open_picture
from .png import PngError, read_png
from .recipe import Limits
from .svg import CannotDraw, picture_of


def preview(data: bytes, width: int, limits: Limits) -> bytes:
    """A WebP, upright, at most ``width`` wide and twice as high. Raises the errors of
    :mod:`plumcrate.imaging.errors`."""
    image = small(data, width, limits)
    image.thumbnail((width, width * 2), reducing_gap=2.0)
    out = io.BytesIO()
    image.save(out, "WEBP", quality=80)
    return out.getvalue()


def small(data: bytes, width: int, limits: Limits) -> Image.Image:
    """A picture upright, RGB or RGBA, of at least a width where it has that; decoded no larger than is quick.
    Raises the errors of :mod:`plumcrate.imaging.errors`."""
    facts = identify(data)
    if facts.format == "svg":
        return _drawing(data, width, facts)
    if facts.format == "pdf":
        return _page(data, width)
    if facts.format == "png" and facts.bits > 8:
        image = _of_sixteen_bits(data, limits.pixels)
    else:
        image = open_picture(data, facts, limits, at_least=(width, width))
    image = ImageOps.exif_transpose(image)
    return image.convert("RGBA" if image.has_transparency_data else "RGB")


def _drawing(data: bytes, width: int, facts: Facts) -> Image.Image:
    # The longer side is asked for: of a tall one more than its width, within reason.
    taller = max(1.0, facts.height / max(1, facts.width))
    try:
        return picture_of(data, round(width * min(4.0, taller)))
    except CannotDraw as error:
        raise Damaged(f"it cannot be drawn ({error})") from None


def _page(data: bytes, width: int) -> Image.Image:
    try:
        return first_page(data, width)
    except CannotShow as error:
        raise Damaged(f"it cannot be drawn ({error})") from None


def _of_sixteen_bits(data: bytes, most_pixels: int) -> Image.Image:
    try:
        return Image.fromarray(read_png(data, most_pixels).picture.shown())
    except PngError as error:
        raise Damaged(str(error)) from None

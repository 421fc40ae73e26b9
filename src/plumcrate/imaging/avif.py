"""AVIF through the codec library: its encoder's settings, and pictures that its conversion does not tint.

The library turns RGB into YCbCr itself (libyuv); what it loses there is made up for beforehand.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from enum import StrEnum

import numpy as np
from PIL import Image

from .jpeg.arrays import U8
from .jpeg.luminance import shifted_bands
from .jpeg.transform import F32, bands, half_chroma, planes_of
from .pixels import Pixels
from .recipe import Effort

#: The longest side that the level of AV1 which browsers must take allows (AV1 Annex A.3).
LIMIT = 16_384
#: The encoder's quantizers: its quality, 0 to 100, falls between two of them on most steps.
_QUANTIZERS = 63
#: Parts of red, green and blue in luma as the library reckons it (RGB to full-range Y of BT.601), in 256ths.
_RED, _GREEN, _BLUE = 77, 150, 29

Tools = dict[str, str]

#: The encoder's speed, 0 (slow) to 10.
_SPEEDS = {Effort.QUICK: 6, Effort.NORMAL: 6, Effort.THOROUGH: 4}
#: What measurably helps the score; everything here was measured one by one (docs/imaging/copies.md).
_TUNING: Tools = {"tune": "ssimulacra2", "sharpness": "3", "deltaq-strength": "50"}
#: Off, since they take long and give nothing: on flat art, on photographs.
_FLAT: Tools = {"enable-intrabc": "0"}
_PHOTOGRAPH: Tools = _FLAT | {
    "disable-trellis-quant": "1",
    "enable-palette": "0",
    "enable-restoration": "0",
    "enable-filter-intra": "0",
    "enable-rect-tx": "0",
}
#: Worth their time only where a picture is calm: partitions that are no squares, transforms but the DCT.
_NO_RECTANGLES: Tools = {"enable-rect-partitions": "0"}
_BUSY: Tools = _NO_RECTANGLES | {"use-intra-dct-only": "1"}
#: Where fine grain is to stay: up to a third fewer bytes for as much of it as with the tuning above.
_GRAIN: Tools = {"tune": "ssim", "disable-trellis-quant": "0"}
#: From so many pixels on quick effort makes photographs of no blocks below 16 x 16.
_LARGE = 1_000_000


class Content(StrEnum):
    """What a picture is to the encoder: a drawing, or a photograph with little or much fine detail."""

    FLAT = "flat"
    CALM = "calm"
    BUSY = "busy"


def encode(
    image: Image.Image,
    step: int,
    extras: dict[str, bytes],
    effort: Effort,
    subsampling: str,
    content: Content,
    *,
    grain: bool = False,
) -> bytes:
    """A file of a picture of :func:`prepared`, the same to the byte each time.

    ``step`` is one of the encoder's 64 quantizers, finest last; ``subsampling`` 4:2:0 or 4:4:4; ``grain``
    tunes it for what a score overlooks. One thread, no tiles.
    """
    out = io.BytesIO()
    image.save(
        out,
        "AVIF",
        quality=round(step * 100 / _QUANTIZERS),
        speed=_SPEEDS[effort],
        subsampling=subsampling,
        max_threads=1,
        autotiling=False,
        advanced=_tools(image.size, effort, content) | (_GRAIN if grain else {}),
        **extras,
    )
    return out.getvalue()


def _tools(size: tuple[int, int], effort: Effort, content: Content) -> Tools:
    quick = effort is Effort.QUICK
    if content is Content.FLAT:
        return _TUNING | _FLAT | (_NO_RECTANGLES if quick else {})
    tools = _TUNING | _PHOTOGRAPH
    if effort is Effort.THOROUGH:
        return tools
    if quick or content is Content.BUSY:
        tools |= _BUSY
    return tools | {"min-partition-size": "16" if quick and size[0] * size[1] >= _LARGE else "8"}


def prepared(pixels: Pixels, subsampling: str) -> Image.Image:
    """A picture whose AVIF, with chroma full or half, shows the luma and the chroma that are meant.

    The library rounds luma, but cuts chroma off to the whole value below: a tint of half a value towards
    green. One less of green raises Cb and Cr by about as much, and the same for all three samples sets luma
    right again, to what is stored of it; for half chroma moved for what halving will lose.
    """
    rgb = pixels.rgb
    moved = np.empty_like(rgb)
    for rows, luma, shift in _lumas(rgb, subsampling):
        r, g, b = (rgb[rows, :, sample].astype(np.int32) for sample in range(3))
        stored = (_RED * r + _GREEN * (g - 1) + _BLUE * b + 128) >> 8
        steps = np.rint(luma + shift + np.float32(128)).astype(np.int32) - stored
        for sample, less in enumerate((0, 1, 0)):
            moved[rows, :, sample] = np.clip(rgb[rows, :, sample] + (steps - less), 0, 255)
    return Pixels(moved, pixels.alpha).as_image()


def _lumas(rgb: U8, subsampling: str) -> Iterator[tuple[slice, F32, F32]]:
    """Rows, their luma, and by how much it is to be moved."""
    if subsampling == "4:2:0":
        yield from ((band.rows, band.luma, band.shift) for band in shifted_bands(rgb, half_chroma(rgb)))
        return
    for rows in bands(rgb.shape[0]):
        luma = planes_of(rgb[rows])[0]
        yield rows, luma, np.zeros_like(luma)

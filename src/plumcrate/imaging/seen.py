"""How a picture looks in its place: drawn as browsers draw it, and compared there.

Browsers draw a smaller picture from the next larger of its halves (each the mean of two pixels by two, of
three weighted 1, 2, 1 where a side is odd), and from that by bilinear interpolation; a larger one by bilinear
interpolation alone. (Skia, medium quality,
which is what ``image-rendering: auto`` means in Chromium; other browsers are near it.)
"""

from __future__ import annotations

import math

import numpy as np
from PIL import Image, ImageOps

from .errors import LeftAlone
from .identification import identify
from .outcome import Seen
from .pixels import Pixels, open_picture, to_pixels
from .recipe import Limits
from .scoring import Judge

#: The score needs some pixels; a picture that is drawn smaller is no picture to anybody.
_LEAST, _MOST = 16, 40_000_000


def draw(image: Image.Image, width: int, height: int) -> Image.Image:
    """A decoded picture as a browser draws it, in device pixels."""
    level = 0
    while max(image.size) >> level and all(
        -(-side // 2 ** (level + 1)) >= wanted
        for side, wanted in zip(image.size, (width, height), strict=True)
    ):
        level += 1
    # The level is made from the nearest whole halves above it, and so by a little interpolation where a side
    # is odd.
    stored = -(-image.width // 2**level), -(-image.height // 2**level)
    shrunk = image.width * image.height / (stored[0] * stored[1])
    for _ in range(math.floor(math.log2(shrunk) / 2 + 1e-9)):
        image = _halved(image)
    return _stretched(_stretched(image, *stored), width, height)


def _stretched(image: Image.Image, width: int, height: int) -> Image.Image:
    if image.size == (width, height):
        return image
    across, down = image.width / width, image.height / height
    return image.transform(
        (width, height), Image.Transform.AFFINE, (across, 0, 0, 0, down, 0), Image.Resampling.BILINEAR
    )


def _halved(image: Image.Image) -> Image.Image:
    samples = np.asarray(image).astype(np.uint16)
    for axis in (0, 1):
        length = samples.shape[axis]
        if length == 1:
            continue
        at = 2 * np.arange(length // 2)
        first, second = samples.take(at, axis), samples.take(at + 1, axis)
        if length % 2:
            samples = first + 2 * second + samples.take(at + 2, axis)
        else:
            samples = 2 * (first + second)
    scale = 4 ** sum(side > 1 for side in image.size)
    return Image.fromarray((samples // scale).astype(np.uint8), image.mode)


def seen(served: bytes, original: bytes, width: int, height: int, limits: Limits | None = None) -> Seen:
    """What was served against its original, both drawn ``width`` by ``height`` device pixels.

    Raises LeftAlone for places in which nothing can be judged, and the errors of
    :mod:`plumcrate.imaging.errors`.
    """
    if min(width, height) < _LEAST or width * height > _MOST:
        raise LeftAlone("its place is too small, or too large, to be judged")
    first, second = (_drawn(data, width, height, limits or Limits()) for data in (original, served))
    if first.alpha is None and second.alpha is not None:
        first = Pixels(first.rgb, np.full(first.rgb.shape[:2], 255, np.uint8))
    judgement = Judge(first).judge(second)
    worst_place = judgement.worst_place((width, height))
    return Seen(round(judgement.score, 2), worst_place.score, worst_place.left, worst_place.top)


def _drawn(data: bytes, width: int, height: int, limits: Limits) -> Pixels:
    image = ImageOps.exif_transpose(open_picture(data, identify(data), limits))
    # Alpha is drawn with colours multiplied by it, as browsers hold them.
    mode = "RGBa" if image.has_transparency_data else "RGB"
    image = image.convert("RGBA").convert("RGBa") if mode == "RGBa" else image.convert("RGB")
    drawn = draw(image, width, height)
    return to_pixels(drawn.convert("RGBA") if mode == "RGBa" else drawn)

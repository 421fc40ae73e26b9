"""Looking at touch-ups while they are made: a part of the picture at its own size, or the whole of it
small."""

from __future__ import annotations

import io
from collections.abc import Sequence

import numpy as np
from PIL import Image, ImageOps

from ..geometry import downscale, fitted
from ..identification import identify
from ..pixels import Pixels, open_picture, to_pixels
from ..recipe import Limits
from ..shapes import Cover, Crop, Rotation, Touch
from .matters import Matter, what_matters
from .touching import boxed, touched

#: Beyond the edge of what is looked at, for steps that look around themselves.
_MARGIN = 24


def upright(data: bytes, limits: Limits) -> Pixels:
    """A picture's pixels as it is shown. Raises the errors of :mod:`~plumcrate.imaging.errors`."""
    image = ImageOps.exif_transpose(open_picture(data, identify(data), limits))
    return to_pixels(image.convert("RGB") if image.mode == "CMYK" else image)


def split(touches: Sequence[Touch]) -> tuple[tuple[Touch, ...], tuple[Touch, ...]]:
    """Steps up to the last that moves or paints; and those behind, which can be made on any part by
    itself."""
    last = max(
        (at for at, touch in enumerate(touches) if isinstance(touch, Crop | Rotation | Cover)), default=-1
    )
    return tuple(touches[: last + 1]), tuple(touches[last + 1 :])


def part(pixels: Pixels, touches: Sequence[Touch], left: float, top: float, width: int, height: int) -> bytes:
    """A WebP of ``width`` by ``height`` pixels of a picture, from parts of its width and height on, with
    local steps."""
    across, down = pixels.size
    x = min(round(left * across), max(0, across - width))
    y = min(round(top * down), max(0, down - height))
    box = (
        max(0, x - _MARGIN),
        max(0, y - _MARGIN),
        min(across, x + width + _MARGIN),
        min(down, y + height + _MARGIN),
    )
    shown = touched(boxed(pixels, box), touches)
    inner = x - box[0], y - box[1], min(across, x + width) - box[0], min(down, y + height) - box[1]
    return _as_webp(boxed(shown, inner))


def whole(pixels: Pixels, touches: Sequence[Touch], width: int, height: int) -> bytes:
    """A WebP of the whole picture, fitted into a width and height, with local steps."""
    size = fitted(*pixels.size, (width, height))
    small = pixels if size == pixels.size else downscale(pixels, *size)
    return _as_webp(touched(small, touches))


def matters(
    pixels: Pixels, wanted: Sequence[tuple[int, int]]
) -> tuple[Matter, list[tuple[int, int, int, int]]]:
    """What matters in a picture, and the box of each size that is cut around it."""
    matter = what_matters(pixels)
    return matter, [matter.box(*pixels.size, one) for one in wanted]


def _as_webp(pixels: Pixels) -> bytes:
    planes = [pixels.rgb] if pixels.alpha is None else [pixels.rgb, pixels.alpha[..., None]]
    out = io.BytesIO()
    Image.fromarray(np.concatenate(planes, axis=2)).save(out, "WEBP", quality=92, method=1)
    return out.getvalue()

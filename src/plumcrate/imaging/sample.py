"""What a treatment would save, from a part of a large picture."""

from __future__ import annotations

import io
import time
from collections.abc import Callable
from typing import Any

from PIL import ExifTags, Image
from PIL.JpegImagePlugin import get_sampling

from .outcome import Measured, Part
from .recipe import SAMPLE, Limits, Recipe
from .treatment import treat


def measure(data: bytes, recipe: Recipe, limits: Limits) -> Measured:
    """What a treatment would save, and how long it would take here and now.

    Of a large JPEG or PNG only the middle is treated, written as the whole was, and the whole is taken to
    fare alike. Raises what :func:`plumcrate.imaging.treat` does.
    """
    sample = middle(data)
    began = time.process_time()
    treatment = treat(sample, recipe, limits)
    seconds = time.process_time() - began
    after = treatment.size_after
    lightest = min([after, *(output.size for output in treatment.chosen if output.role == "copy")])
    scale = len(data) / len(sample)
    return Measured(len(data), round(after * scale), round(lightest * scale), seconds * scale)


#: Where a point of the upright picture lies in the stored one, by orientation (Exif 3.0, tag 274).
_STORED: dict[int, Callable[[float, float], tuple[float, float]]] = {
    1: lambda x, y: (x, y),
    2: lambda x, y: (1 - x, y),
    3: lambda x, y: (1 - x, 1 - y),
    4: lambda x, y: (x, 1 - y),
    5: lambda x, y: (y, x),
    6: lambda x, y: (y, 1 - x),
    7: lambda x, y: (1 - y, 1 - x),
    8: lambda x, y: (1 - y, x),
}


def middle(data: bytes) -> bytes:
    """The middle of a large JPEG or PNG, see :func:`part_of`."""
    return part_of(data, 0.5, 0.5, SAMPLE).data


def part_of(data: bytes, x: float, y: float, pixels: int) -> Part:
    """The part around a point, of so many pixels at most, in the proportions of the whole.

    Of a JPEG with its own tables and sampling on its own grid of blocks, or of a still PNG. Any other file
    whole, and what has at most twice the pixels. ``x`` and ``y`` are 0 to 1 of the upright picture, which the
    part is of as the whole is: its orientation and profile go with it.
    """
    try:
        image: Any = Image.open(io.BytesIO(data))
        whole = Part(data, 0, 0, *image.size)
        jpeg = image.format == "JPEG" and image.mode in ("RGB", "L")
        still_png = image.format == "PNG" and not getattr(image, "is_animated", False)
        if image.width * image.height <= 2 * pixels or not (jpeg or still_png):
            return whole
        orientation = image.getexif().get(ExifTags.Base.Orientation, 1)
        x, y = _STORED.get(orientation, _STORED[1])(x, y)
        share = (pixels / (image.width * image.height)) ** 0.5
        width, height = (max(16, int(side * share) // 16 * 16) for side in image.size)
        left, top = (
            max(0, min(int(point * side - length / 2), side - length)) // 16 * 16
            for point, side, length in zip((x, y), image.size, (width, height), strict=True)
        )
        options: dict[str, Any] = {}
        if jpeg:
            options = {"qtables": image.quantization, "progressive": "progressive" in image.info}
            options |= {"subsampling": get_sampling(image)} if image.mode == "RGB" else {}
        if profile := image.info.get("icc_profile"):
            options["icc_profile"] = profile
        if orientation in _STORED and orientation != 1:
            exif = Image.Exif()
            exif[ExifTags.Base.Orientation] = orientation
            options["exif"] = exif
        out = io.BytesIO()
        image.crop((left, top, left + width, top + height)).save(out, image.format, optimize=jpeg, **options)
        return Part(out.getvalue(), left, top, width, height)
    except (OSError, ValueError, SyntaxError):
        # Whatever is wrong with it, treating the whole says it in its own words.
        return Part(data, 0, 0, 0, 0)

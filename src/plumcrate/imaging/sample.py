"""What a treatment would save, from a part of a large picture."""

from __future__ import annotations

import io
import time
from typing import Any

from PIL import Image
from PIL.JpegImagePlugin import get_sampling

from .outcome import Measured
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


def middle(data: bytes) -> bytes:
    """The middle of a large JPEG, with its own tables and sampling on its own grid of blocks, or PNG.

    Any other file whole, and what has at most twice the pixels of a sample.
    """
    try:
        image: Any = Image.open(io.BytesIO(data))
        pixels = image.width * image.height
        jpeg = image.format == "JPEG" and image.mode in ("RGB", "L")
        still_png = image.format == "PNG" and not getattr(image, "is_animated", False)
        if pixels <= 2 * SAMPLE or not (jpeg or still_png):
            return data
        part = (SAMPLE / pixels) ** 0.5
        width, height = (max(16, int(side * part) // 16 * 16) for side in image.size)
        left, top = (image.width - width) // 32 * 16, (image.height - height) // 32 * 16
        options: dict[str, Any] = {}
        if jpeg:
            options = {"qtables": image.quantization, "progressive": "progressive" in image.info}
            options |= {"subsampling": get_sampling(image)} if image.mode == "RGB" else {}
        out = io.BytesIO()
        image.crop((left, top, left + width, top + height)).save(out, image.format, optimize=jpeg, **options)
        return out.getvalue()
    except (OSError, ValueError, SyntaxError):
        return data  # whatever is wrong with it, treating the whole says it in its own words

"""Pictures that between them use every kernel, to have all compiled or loaded before they are needed."""

from __future__ import annotations

import io
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from plumcrate.imaging import Effort, Level, Recipe, Sharpening, Size, Watermark, treat
from plumcrate.imaging.shapes import Cover, Sharpen


def warm() -> Iterator[None]:
    """Treats a few small pictures, one a step, which between them touch every kernel; results are dropped."""
    rng = np.random.default_rng(0)
    # Blotches with a little grain: pure noise would be slow to compress, and flat ground would skip kernels.
    blotches = rng.integers(0, 240, (6, 8, 3), dtype=np.uint8).repeat(12, 0).repeat(12, 1)
    noise = blotches + rng.integers(0, 16, blotches.shape, dtype=np.uint8)
    few = (noise[..., :1] // 64 * 64).repeat(4, axis=2)
    for kind, pixels, options in (
        ("JPEG", noise, {}),
        ("JPEG", noise, {"subsampling": "4:4:4"}),
        ("PNG", noise, {}),
        ("PNG", few, {}),
        ("GIF", few, {}),
    ):
        out = io.BytesIO()
        Image.fromarray(pixels).save(out, kind, **options)
        for recipe in (
            Recipe(Level.EXACT, copies=frozenset(), effort=Effort.THOROUGH),
            Recipe(Level.LEAN, copies=frozenset(), largest=(64, 64), sharpening=Sharpening(0.5)),
            Recipe(Level.LEAN, copies=frozenset({"webp"})),
        ):
            treat(out.getvalue(), recipe)
            yield
    yield from _shape(noise)


def _shape(noise: NDArray[np.uint8]) -> Iterator[None]:
    """What is cut, touched up and watermarked, with transparency and without."""
    covers = tuple(Cover(((0.5, 0.5),), 0.1, way=way) for way in ("surroundings", "clone"))
    recipe = Recipe(
        Level.LEAN,
        copies=frozenset(),
        touches=(*covers, Sharpen()),
        size=Size(40, 40, "fill", "matters"),
        watermark=Watermark(words="Ledge", least=8),
    )
    for planes in (noise, np.dstack([noise, noise[..., :1]])):
        out = io.BytesIO()
        Image.fromarray(planes).save(out, "PNG")
        treat(out.getvalue(), recipe)
        yield

"""Compiles every kernel for this machine: ``python -m plumcrate.imaging.warm``."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image

from plumcrate.imaging import Effort, Level, Recipe, Sharpening, treat


def warm() -> None:
    """Treats a few small pictures, which between them touch every kernel; the results are dropped."""
    rng = np.random.default_rng(0)
    noise = rng.integers(0, 256, (72, 96, 3), dtype=np.uint8)
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
            Recipe(Level.EXACT, copies=frozenset({"webp"}), effort=Effort.THOROUGH),
            Recipe(Level.LEAN, copies=frozenset({"webp"}), largest=(64, 64), sharpening=Sharpening(0.5)),
            Recipe(Level.LEAN, copies=frozenset({"webp"})),
        ):
            treat(out.getvalue(), recipe)


if __name__ == "__main__":
    warm()

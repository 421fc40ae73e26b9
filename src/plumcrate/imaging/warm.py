"""Compiles every kernel for this machine: ``python -m plumcrate.imaging.warm``."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image

from plumcrate.imaging import Level, Recipe, treat


def warm() -> None:
    """Treats a few small pictures, which between them touch every kernel; the results are dropped."""
    rng = np.random.default_rng(0)
    noise = Image.fromarray(rng.integers(0, 256, (192, 256, 3), dtype=np.uint8))
    for kind, options in (("JPEG", {}), ("JPEG", {"subsampling": "4:4:4"}), ("PNG", {})):
        out = io.BytesIO()
        noise.save(out, kind, **options)
        for level in (Level.EXACT, Level.LEAN):
            treat(out.getvalue(), Recipe(level, avif=False))


if __name__ == "__main__":
    warm()

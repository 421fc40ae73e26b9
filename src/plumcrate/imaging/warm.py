"""Compiles every kernel for this machine: ``python -m plumcrate.imaging.warm``."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image

from plumcrate.imaging import Level, Recipe, treat


def warm() -> None:
    """Treats two small pictures at two levels, which touches every kernel; the results are dropped."""
    rng = np.random.default_rng(0)
    noise = rng.integers(0, 256, (192, 256, 3), dtype=np.uint8)
    for kind in ("JPEG", "PNG"):
        out = io.BytesIO()
        Image.fromarray(noise).save(out, kind)
        for level in (Level.EXACT, Level.EVERYDAY):
            treat(out.getvalue(), Recipe(level))


if __name__ == "__main__":
    warm()

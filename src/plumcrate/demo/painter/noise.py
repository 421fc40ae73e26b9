"""Noise with structure at every scale, the stuff of sky, sea, rock and grain.

All planes are (height, width) float32; the fields of :func:`fractal` lie roughly in -1 to 1.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PIL import Image

F32 = NDArray[np.float32]


def enlarge(plane: F32, width: int, height: int) -> F32:
    """Resamples a plane smoothly."""
    image = Image.fromarray(plane)
    return np.asarray(image.resize((width, height), Image.Resampling.BICUBIC), np.float32)


def fractal(
    rng: np.random.Generator,
    width: int,
    height: int,
    *,
    largest: float,
    smallest: float = 2.0,
    stretch: float = 1.0,
    roughness: float = 0.55,
) -> F32:
    """Sums octaves of value noise, from cells of ``largest`` to ``smallest`` pixels.

    ``stretch`` makes cells wider than high; ``roughness`` is each octave's part of the last.
    """
    total = np.zeros((height, width), np.float32)
    cell, weight, weights = largest, 1.0, 0.0
    while cell >= smallest:
        columns = max(4, round(width / (cell * stretch)) + 3)
        rows = max(4, round(height / cell) + 3)
        layer = rng.standard_normal((rows, columns), np.float32)
        total += weight * enlarge(layer, width, height)
        weights += weight * weight
        cell, weight = cell / 2, weight * roughness
    return total / np.float32(2.2 * weights**0.5)


def ridged(field: F32) -> F32:
    """Creases where a field crosses zero: rock and foam. 0 to 1."""
    return np.clip(1 - 2.2 * np.abs(field), 0, 1)


def grain(rng: np.random.Generator, rgb: F32, amount: float) -> F32:
    """Adds sensor noise, stronger in the dark, slightly soft as cameras leave it. Values 0 to 1."""
    height, width, _ = rgb.shape
    luma = rng.standard_normal((height, width), np.float32)
    luma = 0.6 * luma + 0.2 * (np.roll(luma, 1, 0) + np.roll(luma, 1, 1))
    weight = amount * (1.15 - 0.6 * rgb.mean(axis=2))
    return rgb + (weight * luma)[:, :, None]

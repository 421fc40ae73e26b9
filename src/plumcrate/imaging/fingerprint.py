"""What a picture shows, in few bytes: the same whatever its size, format and quality.

A grid of luma and a coarser one of chroma (ITU-T T.871), each place the mean of its part of the picture.
:mod:`.likeness` compares them.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from PIL import Image

from .identification import identify
from .likeness import COARSE, FINE
from .preview import small
from .recipe import Limits

#: Transparent places are seen on this grey.
_BEHIND = (128, 128, 128)
F64 = npt.NDArray[np.float64]


def fingerprint(data: bytes, limits: Limits) -> tuple[int, int, bytes]:
    """Width and height as the picture is seen, and ``LENGTH`` bytes. Raises the errors of
    :mod:`plumcrate.imaging.errors`."""
    facts = identify(data)
    image = small(data, 8 * FINE, limits)
    turned = (image.width < image.height) != (facts.width < facts.height)
    width, height = (facts.height, facts.width) if turned else (facts.width, facts.height)
    if image.mode == "RGBA":
        ground = Image.new("RGBA", image.size, (*_BEHIND, 255))
        image = Image.alpha_composite(ground, image)
    planes = np.asarray(image.convert("RGB").convert("YCbCr"), np.float64)
    parts = [_means(planes[..., plane], side) for plane, side in enumerate((FINE, COARSE, COARSE))]
    return width, height, b"".join(np.rint(part).astype(np.uint8).tobytes() for part in parts)


def _means(plane: F64, side: int) -> F64:
    """The means of ``side`` x ``side`` equal parts of a plane, to the fraction of a pixel."""
    for _ in range(2):
        edges = np.linspace(0, len(plane), side + 1)
        whole = np.minimum(edges.astype(int), len(plane) - 1)
        sums = np.vstack([np.zeros_like(plane[:1]), plane.cumsum(0)])
        upto = sums[whole] + (edges - whole)[:, None] * plane[whole]
        plane = (np.diff(upto, axis=0) * (side / len(plane))).T
    return plane

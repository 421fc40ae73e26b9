"""How visible the difference between two pictures is."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..pixels import Pixels, decode
from .ssimulacra2 import Reference

#: Backgrounds on which a transparent picture is judged: sRGB greys, dark and light.
BACKGROUNDS = (26, 230)


class Judge:
    """Scores any number of candidates against one picture, whose side is computed once."""

    def __init__(self, pixels: Pixels) -> None:
        self._transparent = pixels.alpha is not None
        self._references = [Reference(view) for view in self._views(pixels)]

    def score(self, candidate: Pixels) -> float:
        """The SSIMULACRA2 score; for a transparent picture the worse of two backgrounds.

        Raises ValueError when the sizes differ.
        """
        views = self._views(candidate)
        return min(reference.score(view) for reference, view in zip(self._references, views, strict=True))

    def _views(self, pixels: Pixels) -> list[NDArray[np.uint8]]:
        if not self._transparent:
            return [pixels.rgb]
        return [pixels.over(grey) for grey in BACKGROUNDS]


def score(reference: bytes, candidate: bytes) -> float:
    """The SSIMULACRA2 score of one encoded picture against another of the same size.

    100 identical, 90 cannot be told apart when flicked between, 80 cannot be told apart side
    by side, 70 hard to notice without the original; may be negative. Both are compared as
    stored, before orientation. Raises the errors of :mod:`plumcrate.imaging.errors` when
    either does not decode and ValueError when the sizes differ.
    """
    first, second = decode(reference), decode(candidate)
    if first.alpha is None and second.alpha is not None:
        first = Pixels(first.rgb, np.full(first.rgb.shape[:2], 255, np.uint8))
    return Judge(first).score(second)

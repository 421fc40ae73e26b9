"""How visible the difference between two pictures is."""

from __future__ import annotations

from dataclasses import fields
from functools import cached_property, reduce

import numpy as np
from numpy.typing import NDArray

from ..pixels import Pixels, decode
from .colour import ColourShift, colour_shift, patches
from .flatness import FlatGround, Flatness
from .gradient import luma_gradient
from .judgement import Judgement
from .ssimulacra2 import Reference
from .texture import Texture, TextureShift

__all__ = ["BACKGROUNDS", "ColourShift", "Flatness", "Judge", "Judgement", "TextureShift", "score"]

#: Backgrounds on which a transparent picture is judged: sRGB greys, dark and light.
BACKGROUNDS = (26, 230)


class Judge:
    """Measures any number of candidates against one picture, whose side is computed once for each measure."""

    def __init__(self, pixels: Pixels) -> None:
        self._pixels = pixels
        self._transparent = pixels.alpha is not None

    @cached_property
    def _references(self) -> list[Reference]:
        return [Reference(view) for view in self._views(self._pixels)]

    @cached_property
    def _grounds(self) -> list[FlatGround]:
        return [FlatGround(view) for view in self._views(self._pixels)]

    @cached_property
    def _textures(self) -> list[Texture]:
        return [Texture(view) for view in self._views(self._pixels)]

    @cached_property
    def _patches(self) -> NDArray[np.float32]:
        return patches(self._pixels.over(BACKGROUNDS[-1]))

    def judge(self, candidate: Pixels) -> Judgement:
        """The SSIMULACRA2 score and its map; for a transparent picture the worse of two backgrounds.

        Raises ValueError when the sizes differ.
        """
        views = zip(self._references, self._views(candidate), strict=True)
        return reduce(Judgement.with_worse, (reference.judge(view) for reference, view in views))

    def score(self, candidate: Pixels) -> float:
        """The score alone."""
        return self.judge(candidate).score

    def texture(self, candidate: Pixels) -> TextureShift:
        """What became of texture (:mod:`.texture`); of a transparent picture the worse of two backgrounds."""
        views = zip(self._textures, self._views(candidate), strict=True)
        shifts = [texture.judge(view) for texture, view in views]
        return TextureShift(min(one.kept for one in shifts), max(one.seen for one in shifts))

    def luma_gradient(self, candidate: Pixels) -> NDArray[np.float32]:
        """How the score's error sum changes with each pixel's luma: see :mod:`.gradient`; on the darker
        background."""
        return luma_gradient(self._references[0], self._views(candidate)[0])

    def colours(self, candidate: Pixels) -> ColourShift:
        """How far colours moved, patch by patch."""
        return colour_shift(self._patches, patches(candidate.over(BACKGROUNDS[-1])))

    def flatness(self, candidate: Pixels) -> Flatness:
        """What became of flat colours and smooth ground; for a transparent picture the worse of two
        backgrounds."""
        judged = [
            ground.judge(view) for ground, view in zip(self._grounds, self._views(candidate), strict=True)
        ]
        names = [field.name for field in fields(Flatness)]
        return Flatness(*(max(getattr(flatness, name) for flatness in judged) for name in names))

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

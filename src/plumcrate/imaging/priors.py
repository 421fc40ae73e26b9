"""What quality a picture will need, guessed from its statistics before anything is encoded.

A linear model of the logarithms of a picture's spectrum, one for each encoder and level, fitted
by ridge regression on photographs (``script/bench priors`` writes ``priors.json``); another says how fast its
score rises with quality, which is several times slower in a soft picture than in one full of detail.
"""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from functools import cache
from importlib import resources

import numpy as np
from numpy.typing import NDArray

from .jpeg.transform import ZIGZAG, block_spectrum

U8 = NDArray[np.uint8]
Features = NDArray[np.float64]

#: Blocks looked at, at most; more change nothing.
_BLOCKS = 4096
_BANDS = ((1, 3.0), (3.0, 6.0), (6.0, 12.0))
#: Magnitudes of luma's coefficients above which they are counted: about what is left at each level.
_ABOVE = (8.0, 20.0, 50.0)
#: Where the first of these stands among the figures, and what is added before its logarithm is taken.
_FIRST_ABOVE, _ADDED = 8, 1e-3
#: Flat art has so large a part of its pixels like the one before; and rows on which that is looked at.
_FLAT, _ROWS = 0.5, 512
#: Between what a slope is.
_SLOPES = (0.01, 0.06)


def features(rgb: U8, half_chroma_lacks: float) -> Features:
    """Sixteen figures of a picture (height, width, 3): 1, its spectrum, size and brightness, what
    halving its chroma costs, and how much of it is flat.

    The spectrum is the mean magnitude of luma's DCT coefficients in three bands, of each chroma's all, how
    many of luma's are large, and how unevenly activity lies over the picture. ``half_chroma_lacks`` is in
    points of the score.
    """
    height, width = rgb.shape[:2]
    across, down = max(1, width // 8), max(1, height // 8)
    every = max(1, int(np.sqrt(across * down / _BLOCKS)))
    if width < 8 or height < 8:
        rgb = np.pad(rgb, ((0, max(0, 8 - height)), (0, max(0, 8 - width)), (0, 0)), mode="edge")
    spectrum = block_spectrum(np.ascontiguousarray(rgb), every)  # (blocks, 3, 64)
    magnitudes = np.abs(spectrum)
    distance = np.hypot(ZIGZAG & 7, ZIGZAG >> 3)
    activity = np.log((magnitudes[:, 0, 1:] ** 2).sum(axis=1) + 160.0)
    bands = [
        magnitudes[:, 0, (distance >= low) & (distance < high)].mean() if magnitudes.size else 0.0
        for low, high in _BANDS
    ]
    chroma = [magnitudes[:, plane, 1:].mean() for plane in (1, 2)]
    figures = [np.log(value + 0.1) for value in (*bands, *chroma)]
    figures += [np.log((magnitudes[:, 0, 1:] > least).mean() + _ADDED) for least in _ABOVE]
    size = np.log(height * width / 1e6 + 1e-3)
    brightness = spectrum[:, 0, 0].mean() / 400.0
    strain = np.log(half_chroma_lacks + 0.5)
    even = _even(rgb)
    figures += [size, brightness, strain, even, float(even > _FLAT)]
    return np.array([1.0, activity.mean(), activity.std(), *figures], np.float64)


def _even(rgb: U8) -> float:
    """The part of the pixels that are like the one before."""
    rows = rgb[:: max(1, rgb.shape[0] // _ROWS)]
    return float((rows[:, 1:] == rows[:, :-1]).all(axis=2).mean())


def is_flat(picture: Features) -> bool:
    """Whether features are those of flat art, and of no photograph."""
    return bool(picture[-1])


def detail(picture: Features) -> float:
    """The part of a picture's luma coefficients that are above 8, 0 to 1."""
    return float(np.exp(picture[_FIRST_ABOVE]) - _ADDED)


@cache
def _models() -> dict[str, dict[str, list[float]]]:
    text = resources.files(__package__).joinpath("priors.json").read_text(encoding="utf-8")
    return json.loads(text)  # type: ignore[no-any-return]


@dataclass(frozen=True, slots=True)
class Expected:
    """``place``: the quality at which a target should be reached, between two of a knob's steps; ``slope``:
    how fast the logarithm of the points lacking falls there with each step."""

    place: float
    slope: float


def predicted(encoder: str, target: float, picture: Features, known: float | None = None) -> Expected | None:
    """What is expected of ``encoder`` on a picture.

    ``known`` is the JPEG step at which this picture reached the same target, when that is known: it tells
    more than all statistics. None when there is no model for so low a target.
    """
    name = encoder if known is None else f"{encoder} after jpeg"
    inputs = picture if known is None else np.append(picture, known)
    places, slopes = (_models()[model] for model in (name, f"{name}, slope"))
    levels = sorted(float(level) for level in places)
    if target < levels[0] - 5:
        return None
    place, slope = (
        float(np.interp(target, levels, [np.dot(inputs, model[f"{level:.0f}"]) for level in levels]))
        for model in (places, slopes)
    )
    return Expected(place, float(np.clip(math.exp(slope), *_SLOPES)))

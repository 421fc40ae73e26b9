"""The decision for a PNG: the smallest exact form, or a palette that keeps the promise."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..metadata.in_png import png_chunks
from ..outcome import Output, chosen, lightest
from ..pixels import Pixels, decode
from ..png import PngError, recompress
from ..png.chunks import Chunk
from ..png.encode import encode_picture
from ..png.palette import Histogram, apply_palette, to_space
from ..png.picture import Picture
from ..png.recompress import kept_chunks
from ..png.reduce import indexed, of_rgba
from ..recipe import TOLERANCE, Effort
from ..scoring.colour import colour_shift, patches
from .case import Case

U8 = NDArray[np.uint8]

#: Numbers of colours that are tried, and the strength of error diffusion.
_LADDER = (2, 4, 8, 12, 16, 24, 32, 48, 64, 96, 128, 192, 256)
_DIFFUSED = 0.85
#: Colour differences of patches that a palette may bring: nearly everywhere, and on the mean.
_WORST_COLOUR, _MEAN_COLOUR = 10.0, 1.5
#: Pixels on which palettes are tried before the whole is mapped: none larger than this is tried whole.
_LARGEST = 40_000_000


def treat_png(case: Case) -> Output:
    assert case.png is not None
    kept = png_chunks(kept_chunks(case.png), case.recipe.metadata)
    candidates = [_exact(case, kept)]
    lossy = case.recipe.target is not None and not case.facts.animated and not case.png.picture.deep
    if lossy and case.facts.pixels <= _LARGEST and not _already_few(case):
        candidates += palettes(case, kept)
    weighed = lightest([one for one in candidates if one.size] or candidates)
    if weighed.score == 100.0 or weighed.data is None:
        smaller = weighed.size < len(case.data)
        output = weighed if smaller else replace(weighed, verdict="not-smaller", data=None)
    else:
        output = case.worth_it(weighed)
    return case.checked_orientation(output)


def _already_few(case: Case) -> bool:
    assert case.png is not None
    palette = case.png.picture.palette
    return palette is not None and len(palette) <= _LADDER[0]


def _exact(case: Case, kept: list[Chunk]) -> Output:
    recipe = case.recipe
    if case.resized:
        data = encode_picture(of_rgba(rgba_of(case.pixels)), kept, recipe.effort)
        return chosen("png", data, 100.0, "lossless, at the new size")
    try:
        data = recompress(
            case.data, recipe.effort, recipe.limits.pixels, kept=kept, clear_hidden=recipe.clear_hidden
        )
    except PngError:
        return Output("png", "not-possible")
    # An independent decoder must agree; it cuts 16 bits down, which ours was proven on already.
    if data is not case.data and case.facts.bits <= 8 and not decode(data).same_as(case.pixels):
        return Output("png", "not-possible")
    return chosen("png", data, 100.0, "lossless")


def palettes(case: Case, kept: list[Chunk]) -> list[Output]:
    """The smallest palette pictures that reach the target: with error diffusion, and without."""
    assert case.recipe.target is not None
    rgba = rgba_of(case.pixels)
    histogram, values = Histogram(rgba), to_space(rgba)
    ladder = _LADDER if case.recipe.effort is not Effort.QUICK else _LADDER[::-3][::-1]
    out = []
    for strength in (_DIFFUSED, 0.0):
        found = _fewest(case, histogram, values, ladder, strength)
        if found is None:
            continue
        picture, colours, encodes = found
        data = encode_picture([picture], kept, case.recipe.effort)
        how = f"{colours} colours, {'diffused' if strength else 'plain'}"
        measured = case.judge.score(decode(data))
        if measured < case.recipe.target - TOLERANCE:
            continue  # the file as a decoder shows it is what counts
        out.append(replace(chosen("png", data, measured, how), encodes=encodes))
    return out


def _fewest(
    case: Case, histogram: Histogram, values: NDArray[np.float32], ladder: tuple[int, ...], strength: float
) -> tuple[Picture, int, int] | None:
    """The fewest colours of the ladder that reach the target, by bisection."""
    assert case.recipe.target is not None
    low, high = 0, len(ladder) - 1
    best: tuple[Picture, int] | None = None
    encodes = 0
    place = high  # the most colours first: if those fail, all do
    while low <= high:
        indexes, colours = apply_palette(values, histogram.palette(ladder[place]), strength)
        shown = colours[indexes]
        alpha = None if case.pixels.alpha is None else np.ascontiguousarray(shown[..., 3])
        candidate = Pixels(np.ascontiguousarray(shown[..., :3]), alpha)
        score = case.judge.score(candidate)
        encodes += 1
        if score >= case.recipe.target - TOLERANCE and _faithful(case.pixels, candidate):
            best = indexed(indexes, colours), len(colours)
            high = place - 1
        elif best is None:
            return None
        else:
            low = place + 1
        place = (low + high) // 2
    return None if best is None else (*best, encodes)


def _faithful(source: Pixels, candidate: Pixels) -> bool:
    """Whether even small coloured things keep their colour: palettes tend to lose those."""
    shift = colour_shift(patches(source.over(230)), patches(candidate.over(230)))
    return shift.worst <= _WORST_COLOUR and shift.mean <= _MEAN_COLOUR


def rgba_of(pixels: Pixels) -> U8:
    alpha = np.full(pixels.rgb.shape[:2], 255, np.uint8) if pixels.alpha is None else pixels.alpha
    return np.dstack([pixels.rgb, alpha])

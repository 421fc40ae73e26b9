"""Drawings: written anew, drawn before and after at several sizes, and taken where both look alike."""

from __future__ import annotations

from ..errors import LeftAlone
from ..identification import Facts
from ..outcome import Chosen, Output, Tried, not_taken
from ..pixels import Pixels
from ..recipe import TOLERANCE, Level, Recipe
from ..scoring import Judge
from ..svg import CannotDraw, Tolerance, cleaned, drawn, read_drawing, written

#: Longer sides at which a drawing is compared, in pixels.
_SIDES = (64, 288, 1024)
#: By which part of the longer side a point may move.
_PARTS: dict[Level, float] = {
    Level.EXACT: 0.0,
    Level.GALLERY: 1 / 64000,
    Level.EVERYDAY: 1 / 32000,
    Level.LEAN: 1 / 16000,
}


def treat_svg(data: bytes, facts: Facts, recipe: Recipe) -> Output:
    """The drawing itself, lighter. Raises LeftAlone and Damaged."""
    if recipe.shapes:
        raise LeftAlone("drawings are not cut, watermarked or touched up")
    drawing = read_drawing(data)
    try:
        before = [drawn(data, side) for side in _SIDES]
    except CannotDraw as error:
        raise LeftAlone(
            f"what it shows cannot be drawn here ({error}), so nothing of it is changed"
        ) from None
    judges = [Judge(pixels) for pixels in before]
    tried: list[Tried] = []
    for part in dict.fromkeys((_PARTS[recipe.level], 0.0)):
        made = written(cleaned(drawing, recipe.metadata, Tolerance(part)))
        how = f"written anew, {_words(part)}"
        score = _score(made, before, judges)
        tried.append(Tried(how, len(made), score))
        if score is not None and score >= (100.0 if recipe.target is None else recipe.target - TOLERANCE):
            best = tried[-1]
            if len(made) >= len(data):
                break
            return Chosen(
                format=facts.format,
                data=made,
                size=len(made),
                score=score,
                how=best.how,
                encodes=len(tried),
                tried=tuple(tried),
            )
    return not_taken(facts.format, tried, len(data))


def _words(part: float) -> str:
    if part == 0.0:
        return "no point moved"
    return f"points within 1/{round(1 / part)} of its longer side"


def _score(made: bytes, before: list[Pixels], judges: list[Judge]) -> float | None:
    """The worst of all sizes; 100.0 where every pixel is the same, None where it cannot be drawn."""
    worst = 100.0
    for side, pixels, judge in zip(_SIDES, before, judges, strict=True):
        try:
            after = drawn(made, side)
        except CannotDraw:
            return None
        if after.size != pixels.size:
            return None
        if not after.same_as(pixels):
            if (after.alpha is None) != (pixels.alpha is None):
                return None
            worst = min(worst, judge.score(after), 99.9)
    return worst

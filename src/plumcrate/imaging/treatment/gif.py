"""The decision for a GIF: the same frames in fewer bytes."""

from __future__ import annotations

from ..errors import LeftAlone
from ..gif import GifError, recompress
from ..outcome import Output, Tried, chosen
from .case import Case

#: All frames of an animation are held at once: more pixels than this are too many.
_MOST_PIXELS = 60_000_000


def treat_gif(case: Case) -> Output:
    if case.resized:
        return Output("gif", "not-possible")
    try:
        smaller = recompress(case.data, min(case.recipe.limits.pixels, _MOST_PIXELS))
    except GifError as error:
        raise LeftAlone(str(error)) from None
    if smaller is case.data:
        tried = (Tried("same frames", len(smaller), 100.0),)
        return Output("gif", "not-smaller", None, len(smaller), 100.0, "same frames", 1, tried)
    return chosen("gif", smaller, 100.0, "same frames")

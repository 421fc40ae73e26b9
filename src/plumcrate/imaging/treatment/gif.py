"""The decision for a GIF: the same frames in fewer bytes."""

from __future__ import annotations

from ..errors import LeftAlone
from ..gif import GifError, recompress
from ..outcome import Output, Refused, Tried, exact, impossible
from .case import Case

#: All frames of an animation are held at once: more pixels than this are too many.
_MOST_PIXELS = 60_000_000
_HOW = "same frames"


def treat_gif(case: Case) -> Output:
    if case.resized:
        return impossible("gif")
    try:
        smaller = recompress(case.data, min(case.limits.pixels, _MOST_PIXELS), case.recipe.metadata)
    except GifError as error:
        raise LeftAlone(str(error)) from None
    if smaller is case.data:
        size = len(smaller)
        return Refused(
            format="gif",
            verdict="not-smaller",
            size=size,
            score=100.0,
            how=_HOW,
            encodes=1,
            tried=(Tried(_HOW, size, 100.0),),
        )
    return exact("gif", smaller, _HOW) if case.is_same(smaller) else impossible("gif")

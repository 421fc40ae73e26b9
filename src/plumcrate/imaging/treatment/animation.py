"""Animated copies: every frame at its time, as often as before."""

from __future__ import annotations

import io
from dataclasses import dataclass

import numpy as np
from PIL import Image, ImageSequence

from .. import codecs
from ..gif import GifError, read_gif
from ..outcome import Chosen, Output, Refused, Tried, exact, impossible, lightest, refused
from ..pixels import to_pixels
from ..recipe import TOLERANCE
from ..scoring import Judge
from .case import Case

#: Frames that are scored: the worst of them counts.
_SAMPLES = 4
#: Animations of more pixels, all frames together, get no copies: those take too long.
_MOST_PIXELS = 20_000_000
#: Lossy qualities tried, best first to fail.
_QUALITIES = {"webp": (60, 75, 88, 95), "avif": (45, 60, 75, 88)}


@dataclass(frozen=True, slots=True)
class Animation:
    """Frames as they are shown, each for so many milliseconds; ``loops`` 0 is for ever."""

    frames: list[Image.Image]
    delays: list[int]
    loops: int


def animation_of(case: Case) -> Animation | None:
    """The frames of an animated GIF or PNG; None when it is too large or cannot be composed."""
    if case.facts.format == "gif":
        try:
            gif = read_gif(case.data, _MOST_PIXELS)
        except GifError:
            return None
        if gif.width * gif.height * len(gif.frames) > _MOST_PIXELS:
            return None
        frames = [Image.fromarray(canvas) for canvas in gif.composed()]
        # Browsers show frames of less than 20 ms for 100: so that a copy runs as the original does.
        delays = [frame.delay * 10 if frame.delay >= 2 else 100 for frame in gif.frames]
        return Animation(frames, delays, 1 if gif.loops is None else gif.loops)
    if case.facts.format == "png" and case.png is not None and case.png.frames:
        with Image.open(io.BytesIO(case.data)) as image:
            size = image.width * image.height * len(case.png.frames)
            if size > _MOST_PIXELS or case.png.first_is_still:
                return None
            frames = [frame.convert("RGBA") for frame in ImageSequence.Iterator(image)]
            delays = [
                round(float(frame.info.get("duration", 100))) for frame in ImageSequence.Iterator(image)
            ]
        return Animation(frames, delays, case.png.plays)
    return None


def animated_copy(case: Case, kind: str, limit: int) -> Output:
    """An animated WebP or AVIF: lossless where that is smallest, lossy at the target."""
    animation = animation_of(case)
    if animation is None:
        return impossible(kind)
    candidates: list[Chosen] = []
    if kind == "webp":
        data = codecs.encode_animation(animation.frames, "WEBP", animation.delays, animation.loops, None)
        if _worst(animation, data, len(animation.frames)) == 100.0:
            candidates.append(exact(kind, data, f"{len(animation.frames)} frames, lossless"))
    if case.recipe.target is not None:
        output = _lossy(case, animation, kind)
        if output is not None:
            candidates.append(output)
    if not candidates:
        return Refused(format=kind, verdict="not-possible" if case.recipe.target is None else "out-of-reach")
    best = lightest(candidates)
    return best if best.size < limit else refused(best, "not-smaller")


def _lossy(case: Case, animation: Animation, kind: str) -> Chosen | None:
    assert case.recipe.target is not None
    for number, quality in enumerate(_QUALITIES[kind]):
        data = codecs.encode_animation(
            animation.frames, kind.upper(), animation.delays, animation.loops, quality
        )
        score = _worst(animation, data, _SAMPLES)
        if score >= case.recipe.target - TOLERANCE:
            how = f"{len(animation.frames)} frames, quality {quality}"
            return Chosen(
                format=kind,
                data=data,
                size=len(data),
                score=score,
                how=how,
                encodes=number + 1,
                tried=(Tried(how, len(data), score),),
            )
    return None


def _worst(animation: Animation, data: bytes, samples: int) -> float:
    """The worst score of so many frames spread over it; 100.0 when those are identical, 0 when frames
    miss."""
    with Image.open(io.BytesIO(data)) as image:
        count = getattr(image, "n_frames", 1)
        if count != len(animation.frames):
            return 0.0
        worst = 100.0
        for number in np.unique(np.linspace(0, count - 1, min(samples, count)).astype(int)):
            image.seek(int(number))
            shown = to_pixels(image.convert("RGBA"))
            source = to_pixels(animation.frames[number])
            if not shown.same_as(source):
                if (source.alpha is None) != (shown.alpha is None):
                    return 0.0
                worst = min(worst, Judge(source).score(shown), 99.9)
    return worst

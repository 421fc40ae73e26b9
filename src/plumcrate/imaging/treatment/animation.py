"""Animated copies: every frame at its time, as often as before."""

from __future__ import annotations

import io
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from PIL import Image, ImageSequence

from .. import codecs
from ..gif import GifError, read_gif
from ..outcome import Chosen, Output, Refused, Tried, exact, impossible, lightest, refused
from ..pixels import Pixels, to_pixels
from ..recipe import TOLERANCE
from ..scoring import Judge
from .case import Case

#: Frames that are scored: their mean must reach the score, and none may lack more than so many points.
_SAMPLES, _WORST_FRAME = 6, 4.0
#: Animations of more pixels, all frames together, get no copies: those take too long.
_MOST_PIXELS = 60_000_000
#: In so many frames in a row, of so many pixels at most, the quality is looked for; then all are encoded.
_PROBE_FRAMES, _PROBE_PIXELS = 24, 6_000_000
#: Qualities between which it is looked for, and by how much it is raised when all frames fall short.
_LOWEST, _HIGHEST, _RAISED = 20, 96, (0, 4, 10)
#: Ways in which an encoder stores colour: half of it, and where that cannot reach the score, all.
_WAYS: dict[str, tuple[str, ...]] = {"webp": ("4:2:0",), "avif": ("4:2:0", "4:4:4")}


@dataclass(frozen=True, slots=True)
class Animation:
    """Frames as they are shown, each for so many milliseconds; ``plays``: how often all of them, 0 for
    ever."""

    frames: list[Image.Image]
    delays: list[int]
    plays: int

    def part(self) -> Animation:
        """Frames in a row from its middle, enough to look for a quality."""
        width, height = self.frames[0].size
        count = max(2, min(len(self.frames), _PROBE_FRAMES, _PROBE_PIXELS // (width * height)))
        first = (len(self.frames) - count) // 2
        return Animation(self.frames[first : first + count], self.delays[first : first + count], self.plays)


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
        # What a GIF counts are repeats: browsers show its frames once more than that.
        plays = 1 if gif.loops is None else gif.loops and gif.loops + 1
        return Animation(frames, delays, plays)
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
        data = _encoded(animation, kind, None)
        if Frames(animation, len(animation.frames)).identical(data):
            candidates.append(exact(kind, data, f"{len(animation.frames)} frames, lossless"))
    if case.recipe.target is not None:
        output = _lossy(animation, kind, case.recipe.target, limit)
        if output is not None:
            candidates.append(output)
    if not candidates:
        return Refused(format=kind, verdict="not-possible" if case.recipe.target is None else "out-of-reach")
    best = lightest(candidates)
    return best if best.size < limit else refused(best, "not-smaller")


def _encoded(animation: Animation, kind: str, quality: int | None, colour: str = "4:2:0") -> bytes:
    return codecs.encode_animation(
        animation.frames, kind.upper(), animation.delays, animation.plays, quality, colour
    )


class Frames:
    """Frames of an animation, spread over it, that encodes are compared with."""

    def __init__(self, animation: Animation, samples: int) -> None:
        count = len(animation.frames)
        self._count = count
        self._numbers = [
            int(number) for number in np.unique(np.linspace(0, count - 1, min(samples, count)).astype(int))
        ]
        self._animation = animation
        self._judges: dict[int, Judge] = {}

    def identical(self, data: bytes) -> bool:
        return all(shown is not None and shown.same_as(source) for source, shown in self._pairs(data))

    def score(self, data: bytes, target: float) -> float | None:
        """The mean score; None where that, or the worst frame, falls short of the target, or frames lack."""
        scores = []
        for number, (source, shown) in zip(self._numbers, self._pairs(data), strict=True):
            if shown is None or (source.alpha is None) != (shown.alpha is None):
                return None
            if shown.same_as(source):
                scores.append(100.0)
                continue
            judge = self._judges.setdefault(number, Judge(source))
            scores.append(min(99.9, judge.score(shown)))
        mean = sum(scores) / len(scores)
        return mean if mean >= target - TOLERANCE and min(scores) >= target - _WORST_FRAME else None

    def _pairs(self, data: bytes) -> Iterator[tuple[Pixels, Pixels | None]]:
        with Image.open(io.BytesIO(data)) as image:
            whole = getattr(image, "n_frames", 1) == self._count
            for number in self._numbers:
                source = to_pixels(self._animation.frames[number])
                if not whole:
                    yield source, None
                    continue
                image.seek(number)
                yield source, to_pixels(image.convert("RGBA"))


def _lossy(animation: Animation, kind: str, target: float, limit: int) -> Chosen | None:
    tried: list[Tried] = []
    frames = Frames(animation, _SAMPLES)
    for colour in _WAYS[kind]:
        aimed = _aimed(animation.part(), kind, colour, target)
        for raised in _RAISED if aimed is not None else ():
            assert aimed is not None
            quality = min(100, aimed + raised)
            data = _encoded(animation, kind, quality, colour)
            score = frames.score(data, target)
            how = f"{len(animation.frames)} frames, quality {quality}, {colour}"
            tried.append(Tried(how, len(data), score))
            if score is not None:
                return Chosen(
                    format=kind,
                    data=data,
                    size=len(data),
                    score=score,
                    how=how,
                    encodes=len(tried),
                    tried=tuple(tried),
                )
            if len(data) >= limit:
                break
    return None


def _aimed(part: Animation, kind: str, colour: str, target: float) -> int | None:
    """The lowest quality, to four steps, at which a part of an animation reaches the target."""
    frames = Frames(part, _SAMPLES)
    low, high = _LOWEST, _HIGHEST
    if frames.score(_encoded(part, kind, high, colour), target) is None:
        return None
    while high - low > 4:
        middle = (low + high) // 2
        if frames.score(_encoded(part, kind, middle, colour), target) is None:
            low = middle
        else:
            high = middle
    return high

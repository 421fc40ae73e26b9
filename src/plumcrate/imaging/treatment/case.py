"""A picture under a recipe, aimed at its level; and whether what came of it keeps the promise."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from functools import cached_property, partial

from .. import codecs
from ..aim import NEAR_ENOUGH, Attempt, Knob, Landing, aim
from ..avif import Content
from ..jpeg import JpegError
from ..jpeg.decode import Decoded
from ..jpeg.decode import decode as decode_jpeg
from ..jpeg.further import has_gain_map
from ..memory import give_back
from ..pixels import Pixels, decode, same_frames
from ..priors import predicted
from ..recipe import Level, Limits, Recipe
from ..scoring import Flatness, Judge
from .source import Source

#: By how many steps quality is raised, one time after another, when a guard says that colours drift or bands
#: show; then it is given up.
_GUARD_STEPS = (3, 3, 5, None)
#: Points that all of a picture's fine grain is worth: with a finer step grain comes back at the pace of forty
#: points of score.
_GRAIN_RISES = 40.0
#: Points that it is worth that no change of texture is seen anywhere.
_CHANGE_FALLS = 20.0
#: How far beyond the limit of the mean single patches may be.
_WORST = 12.0
#: What flat colours and smooth ground may suffer from a codec: docs/imaging/score.md tells how these were
#: set. Eight bits of luma and chroma alone move colours near grey by up to 1.9, at any quality.
_FLATNESS: dict[Level, Flatness] = {
    Level.GALLERY: Flatness(2.2, 0.05, 1.3, 1.5, 1.3, 2.6),
    Level.EVERYDAY: Flatness(2.2, 0.12, 1.6, 2.0, 2.1, 2.8),
    Level.LEAN: Flatness(2.5, 0.25, 2.2, 2.5, 2.7, 4.0),
}


def colour_limit(target: float) -> float:
    """The mean colour difference of patches that a result for a target may have."""
    return max(1.0, 1.6 + (90.0 - target) * 0.08)


class Case(Source):
    """A source with what is known of where its encoders land. Raises the errors of
    :mod:`~plumcrate.imaging.errors`."""

    def __init__(self, data: bytes, recipe: Recipe, limits: Limits) -> None:
        super().__init__(data, recipe, limits)
        self.jpeg_step: int | None = None  # where JPEG reached the target, for the next aims
        self.exact_copy: int | None = None  # bytes of a lossless copy of flat art
        self.spares_grain = False  # whether an encode lacked so much fine grain that encoders are to spare it
        self._last: tuple[bytes, Pixels] | None = None

    @cached_property
    def coefficients(self) -> Decoded | None:
        """A JPEG's, as our own reader has them; None for what it does not read."""
        try:
            return decode_jpeg(self.data)
        except JpegError:
            return None

    @cached_property
    def has_gain_map(self) -> bool:
        """Whether a gain map follows a JPEG, by which screens with more light show it."""
        if self.coefficients is None:
            return False
        frame, _, rest = self.coefficients
        return has_gain_map(frame.metadata, rest)

    def main_is_made(self) -> None:
        """Lets go of what only the file itself was made of."""
        _ = self.has_gain_map  # copies ask for it
        self.__dict__.pop("coefficients", None)
        give_back()

    @property
    def metadata_size(self) -> int:
        """Bytes of a JPEG that are no picture."""
        if self.coefficients is None:
            return 0
        frame, _, rest = self.coefficients
        return sum(map(len, frame.metadata)) + len(rest)

    # -- aiming ------------------------------------------------------------------------------

    def knob(self, encoder: str) -> tuple[Knob, int | None]:
        """An encoder's knob as it works on this picture, and where to begin aiming; None when nothing better
        is known than the knob's own prior."""
        assert self.recipe.target is not None
        knob = codecs.KNOBS[encoder]
        known = None if encoder == "jpeg" else self.jpeg_step
        expected = predicted(encoder, self.recipe.target, self.features, known)
        if expected is None:
            return knob, None
        return replace(knob, slope=expected.slope), knob.at(expected.place)

    def place_of(self, best: Attempt, encoder: str) -> float:
        """Between which steps an encoder would have met the target to a hair."""
        assert self.recipe.target is not None
        return self.knob(encoder)[0].place(best.quality, best.aimed, self.recipe.target)

    def attempt(self, encode: Callable[[int], bytes], quality: int, *, upright: bool) -> Attempt:
        """One encode, judged by the recipe's promise."""
        self._last = None  # the encoder needs the room
        judge = self.upright_judge if upright else self.judge
        data = encode(quality)
        candidate = self.decoded(data)
        texture = self._texture(judge, candidate)
        return Attempt.judged(quality, data, judge.judge(candidate), self.recipe.leeway, texture)

    @property
    def most_seen(self) -> float:
        """The part of its places in which a change of texture may be seen, 0 to 1."""
        floor = self.recipe.texture
        if floor is None:
            return 1.0
        return floor.drawn if self.content is Content.FLAT else floor.seen

    def _texture(self, judge: Judge, candidate: Pixels) -> float:
        """What is kept of fine detail on the scale of scores: the target at the least that must be kept."""
        floor, target = self.recipe.texture, self.recipe.target
        if floor is None or target is None:
            return math.inf
        shift = judge.texture(candidate)
        kept = math.inf if shift.kept == 1.0 else (shift.kept - floor.kept) * _GRAIN_RISES
        seen = math.inf if shift.seen == 0.0 else (self.most_seen - shift.seen) * _CHANGE_FALLS
        return target + min(kept, seen)

    def aim(
        self,
        encode: Callable[[int], bytes],
        encoder: str,
        *,
        cap: int,
        upright: bool,
        first: int | None = None,
        near: float = NEAR_ENOUGH,
        keep_grain: Callable[[], None] | None = None,
    ) -> Landing:
        """Aims at the recipe's target; goes higher when a guard, of colour or of flatness, says so.

        ``first``: where to begin, when more is known than the picture's statistics say. ``keep_grain`` is
        called once an attempt of this picture failed for its fine grain: ``encode`` spares it from then on.
        """
        assert self.recipe.target is not None
        judge = self.upright_judge if upright else self.judge
        target = self.recipe.target
        attempted = partial(self.attempt, encode, upright=upright)
        fixed = self.fixed(encoder)
        if fixed is not None:
            attempt = attempted(fixed)
            return Landing(attempt, (attempt,))
        knob, guess = self.knob(encoder)
        begin = next(one for one in (first, guess, knob.first_guess(target)) if one is not None)
        if self.spares_grain and keep_grain is not None:
            keep_grain()
        tried = attempted(begin)
        if not self.spares_grain and keep_grain is not None and tried.lacks_grain(target):
            self.spares_grain = True
            keep_grain()
            tried = attempted(begin)

        def once_tried(quality: int) -> Attempt:
            return tried if quality == begin else attempted(quality)

        landing = aim(once_tried, target, knob, stop_above=cap, first=begin, near=near)
        best, attempts = landing.best, landing.attempts
        for steps in _GUARD_STEPS:
            if best is None or len(best.data) >= cap:
                break  # nothing that a guard could say would make it of use
            if best.reaches(target) and self.stays(judge, self.decoded(best.data)):
                break
            if steps is None or best.quality == knob.highest:
                return Landing(None, attempts)
            best = attempted(knob.at(best.quality + steps))
            attempts = (*attempts, best)
        return Landing(best, attempts)

    def fixed(self, encoder: str) -> int | None:
        """Where the recipe fixes an encoder's knob; None where it aims."""
        kind = encoder.split()[0]
        quality: int | None = getattr(self.recipe.fixed, kind)
        return None if quality is None else codecs.knob_of(kind, quality)

    def stays(self, judge: Judge, candidate: Pixels) -> bool:
        """The guards: whether colours are, on the mean and nearly everywhere, where they were, and no bands
        show."""
        assert self.recipe.target is not None
        shift = judge.colours(candidate)
        limit = colour_limit(self.recipe.target)
        if shift.mean > limit or shift.worst > _WORST * limit:
            return False
        return judge.flatness(candidate).within(_FLATNESS[self.recipe.level])

    # -- proving -----------------------------------------------------------------------------

    def decoded(self, data: bytes) -> Pixels:
        """A candidate as a decoder that is not ours shows it. Raises ImagingError when it does not."""
        if self._last is None or self._last[0] is not data:
            self._last = None  # before more memory is taken
            self._last = data, decode(data, self.limits)
        return self._last[1]

    def is_same(self, data: bytes) -> bool:
        """Whether a file shows the picture's very pixels: frame by frame those of the source, or of the new
        size."""
        if not self.resized:
            return same_frames(self.data, data, self.limits)
        return self.decoded(data).same_as(self.pixels)

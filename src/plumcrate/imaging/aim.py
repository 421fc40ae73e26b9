"""Landing on a score with few encodes, for any encoder with an integer quality knob.

The logarithm of what a score lacks of 100 falls nearly as a line over an encoder's quality: a secant on
that line from a prior, kept inside a bracket that shrinks with every encode (regula falsi with a step limit).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from .recipe import TOLERANCE
from .scoring.judgement import Judgement


@dataclass(frozen=True, slots=True)
class Attempt:
    """One encode: its quality, its bytes, what was made of them, and the score by which it is aimed.

    ``scored`` is the score, or less where the worst place falls too far behind it; ``aimed`` is that, or less
    where too much fine grain is gone.
    """

    quality: int
    data: bytes
    judgement: Judgement
    scored: float
    aimed: float

    @classmethod
    def judged(
        cls,
        quality: int,
        data: bytes,
        judgement: Judgement,
        leeway: float = math.inf,
        texture: float = math.inf,
    ) -> Attempt:
        """With what a judge says of it; ``leeway``: points by which its worst place may lack more;
        ``texture``: what it keeps of fine grain, in points."""
        scored = min(judgement.score, judgement.worst + leeway)
        return cls(quality, data, judgement, scored, min(scored, texture))

    def reaches(self, target: float) -> bool:
        """Whether it is at a target less the tolerance at least."""
        return self.aimed >= target - _BELOW

    def lacks_grain(self, target: float) -> bool:
        """Whether grain is what keeps it from a target most."""
        return self.aimed < self.scored and not self.reaches(target)


@dataclass(frozen=True, slots=True)
class Knob:
    """An encoder's quality range and what is expected of it.

    ``prior`` maps a target score to a first quality; ``slope`` is how fast the logarithm of
    the points lacking falls with each step of quality.
    """

    lowest: int
    highest: int
    prior: dict[float, int]
    slope: float

    def at(self, place: float) -> int:
        """The quality nearest to a place between two, within the range."""
        return round(max(self.lowest, min(self.highest, place)))

    def first_guess(self, target: float) -> int:
        """Where a picture of which nothing is known begins."""
        nearest = min(self.prior, key=lambda known: abs(known - target))
        return self.at(self.prior[nearest] + (line(target) - line(nearest)) / self.slope)

    def place(self, quality: int, score: float, goal: float) -> float:
        """Between which qualities ``goal`` is expected, when ``quality`` gave ``score``."""
        return quality + (line(goal) - line(score)) / self.slope

    def from_there(self, quality: int, score: float, goal: float) -> int:
        """The quality at which ``goal`` is expected, when ``quality`` gave ``score``."""
        return self.at(self.place(quality, score, goal))


@dataclass(frozen=True, slots=True)
class Landing:
    """Where an aim came down. ``best`` is None when the knob's top stays below the target."""

    best: Attempt | None
    attempts: tuple[Attempt, ...]


#: So many steps of quality above the lowest place that is expected to do are not chased down any further: the
#: step below would just miss it.
NEAR_ENOUGH = 1.15
#: How far below the target a score is taken; a little less than is allowed.
_BELOW = TOLERANCE - 0.05
#: What is left of a file at least when its score falls by a point.
_LEFT = 0.85
#: What is aimed at, so that near misses fall on both sides alike.
_AHEAD = 0.1


def aim(
    attempted: Callable[[int], Attempt],
    target: float,
    knob: Knob,
    *,
    budget: int = 7,
    stop_above: int | None = None,
    first: int | None = None,
    near: float = NEAR_ENOUGH,
) -> Landing:
    """Finds the lowest quality at which an attempt reaches ``target``.

    ``stop_above``: a size in bytes; once an attempt below the target is already that large,
    no acceptable result can be smaller, and the search ends with what it has; so it does when one above is
    so much larger that none at the target can be. ``first``: the quality to
    begin with, when something better than the knob's prior is known. ``near``: steps of quality
    above the lowest that is expected to do which are not chased down, unless what is there is too large.
    """
    low, high = knob.lowest - 1, knob.highest + 1  # below: known or assumed too low; above: good
    below: Attempt | None = None
    above: Attempt | None = None
    attempts: list[Attempt] = []
    quality = knob.first_guess(target) if first is None else first
    while low + 1 < high and len(attempts) < budget:
        quality = max(low + 1, min(high - 1, quality))
        attempt = attempted(quality)
        attempts.append(attempt)
        size = len(attempt.data)
        if attempt.reaches(target):
            above, high = attempt, quality
            of_use = stop_above is None or size < stop_above
            if of_use and quality - knob.place(quality, attempt.aimed, target - _BELOW) <= near:
                break
            if stop_above is not None and size * _LEFT ** (attempt.aimed - target) >= stop_above:
                break
        else:
            below, low = attempt, quality
            if stop_above is not None and size >= stop_above:
                break
        quality = _next_quality(below, above, target, knob)
        if below and above and len(attempts) > 2 and _same_side(attempts[-2:], target):
            quality = (quality + (low + high) // 2) // 2  # the secant creeps up from one side
        if above is None and len(attempts) >= 3:
            quality = max(quality, (low + knob.highest + 1) // 2)  # it creeps up towards the end of the knob
    return Landing(above, tuple(attempts))


def _same_side(attempts: list[Attempt], target: float) -> bool:
    return len({attempt.reaches(target) for attempt in attempts}) == 1


def line(score: float) -> float:
    """A score on the scale on which it rises evenly with quality."""
    return -math.log(max(101.0 - score, 0.5))


def _next_quality(below: Attempt | None, above: Attempt | None, target: float, knob: Knob) -> int:
    goal = line(target + _AHEAD)
    if below and above:
        rise = line(above.aimed) - line(below.aimed)
        span = above.quality - below.quality
        return knob.at(below.quality + (goal - line(below.aimed)) * span / max(rise, 1e-6))
    known = below or above
    assert known is not None
    guess = knob.from_there(known.quality, known.aimed, target + _AHEAD)
    return max(known.quality + 1, guess) if below else min(known.quality - 1, guess)

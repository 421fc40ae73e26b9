"""Landing on a score with few encodes, for any encoder with an integer quality knob.

The score rises with quality, nearly as a line over a few steps: a secant from a prior, kept
inside a bracket that shrinks with every encode (regula falsi with a step limit).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from .recipe import TOLERANCE


@dataclass(frozen=True, slots=True)
class Attempt:
    """One encode: its quality, its bytes, its score."""

    quality: int
    data: bytes
    score: float


@dataclass(frozen=True, slots=True)
class Knob:
    """An encoder's quality range and what is expected of it.

    ``prior`` maps a target score to a first quality; ``slope`` is the expected points per
    quality step near the prior.
    """

    lowest: int
    highest: int
    prior: dict[float, int]
    slope: float

    def first_guess(self, target: float, ease: float = 0.0) -> int:
        """``ease``: points by which another encoder's answer differed from its prior."""
        nearest = min(self.prior, key=lambda known: abs(known - target))
        guess = self.prior[nearest] + (target - nearest + ease) / self.slope
        return max(self.lowest, min(self.highest, round(guess)))


@dataclass(frozen=True, slots=True)
class Landing:
    """Where an aim came down. ``best`` is None when the knob's top stays below the target."""

    best: Attempt | None
    attempts: tuple[Attempt, ...]


#: A score this far above the target is not chased down any further.
NEAR_ENOUGH = 0.6


def aim(
    encode: Callable[[int], bytes],
    measure: Callable[[bytes], float],
    target: float,
    knob: Knob,
    *,
    budget: int = 7,
    stop_above: int | None = None,
    ease: float = 0.0,
    first: int | None = None,
) -> Landing:
    """Finds the lowest quality whose score is at least ``target`` less the tolerance.

    ``stop_above``: a size in bytes; once an attempt below the target is already that large,
    no acceptable result can be smaller, and the search ends with what it has. ``ease``: how far
    another encoder's answer for this picture lay from its prior, in points. ``first``: the quality to
    begin with, when something better than the prior is known.
    """
    floor = target - TOLERANCE * 0.6
    low, high = knob.lowest - 1, knob.highest + 1  # below: known or assumed too low; above: good
    below: Attempt | None = None
    above: Attempt | None = None
    attempts: list[Attempt] = []
    quality = knob.first_guess(target, ease) if first is None else first
    while low + 1 < high and len(attempts) < budget:
        quality = max(low + 1, min(high - 1, quality))
        data = encode(quality)
        attempt = Attempt(quality, data, measure(data))
        attempts.append(attempt)
        if attempt.score >= floor:
            above, high = attempt, quality
            if attempt.score <= target + NEAR_ENOUGH:
                break
        else:
            below, low = attempt, quality
            if stop_above is not None and len(data) >= stop_above:
                break
        quality = _next_quality(below, above, target, knob)
    return Landing(above, tuple(attempts))


def _next_quality(below: Attempt | None, above: Attempt | None, target: float, knob: Knob) -> int:
    goal = target + 0.15
    if below and above:
        slope = (above.score - below.score) / (above.quality - below.quality)
        return round(below.quality + (goal - below.score) / max(slope, 1e-6))
    known = below or above
    assert known is not None
    step = (goal - known.score) / knob.slope
    # Beyond the prior the curve bends: go a little further than the line says, at least one step.
    step = max(1.0, step * 1.1) if below else min(-1.0, step * 1.1)
    return round(known.quality + step)

"""Weighing: an aim's result or a candidate as an output, chosen, or refused with the reason."""

from __future__ import annotations

from collections.abc import Callable

from ..aim import Landing
from ..identification import identify
from ..outcome import Chosen, Output, Refused, Tried, Verdict, refused
from .source import Source

#: A lossless form of flat art is as good as one that is lighter by such a part, or by so many bytes.
_NEAR_PART, _NEAR_BYTES = 1.25, 2_000
#: For outputs that need not be smaller than anything.
NO_LIMIT = 1 << 40


def is_near(lossless: int, lossy: int) -> bool:
    """Whether a lossless form of flat art goes before a lossy one, by their bytes: what is drawn shows every
    loss."""
    return lossless <= max(_NEAR_PART * lossy, lossy + _NEAR_BYTES)


def landed(
    source: Source, kind: str, landing: Landing, how: Callable[[int], str], limit: int, *, upright: bool
) -> Output:
    """An aim's result as an output: chosen, or why not."""
    tried = tuple(
        Tried(how(attempt.quality), len(attempt.data), attempt.judgement.score)
        for attempt in landing.attempts
    )
    best = landing.best
    if best is None:
        last = landing.attempts[-1]
        verdict: Verdict = "not-smaller" if len(last.data) >= limit else "out-of-reach"
        return Refused(
            format=kind,
            verdict=verdict,
            size=len(last.data),
            score=last.judgement.score,
            how=tried[-1].how,
            encodes=len(tried),
            tried=tried,
        )
    orientation = 1 if upright else source.facts.orientation
    return Chosen(
        format=kind,
        data=best.data,
        size=len(best.data),
        score=best.judgement.score,
        worst_place=best.judgement.turned(orientation).worst_place(source.upright_size),
        how=how(best.quality),
        encodes=len(tried),
        tried=tried,
    )


def worth_it(source: Source, output: Output, gain: float | None = None) -> Output:
    """The output, or its refusal when it saves too little of the file."""
    if not isinstance(output, Chosen):
        return output
    least = source.recipe.least_gain if gain is None else gain
    if output.size >= len(source.data):
        return refused(output, "not-smaller")
    if output.size > len(source.data) * (1 - least):
        return refused(output, "too-little-gain")
    return output


def checked_orientation(source: Source, output: Output) -> Output:
    """A result that would be shown turned otherwise, or at another size, is not taken."""
    if isinstance(output, Chosen):
        facts = identify(output.data)
        expected = (source.facts.orientation, *source.pixels.size)
        if (facts.orientation, facts.width, facts.height) != expected:
            return refused(output, "not-possible")
    return output

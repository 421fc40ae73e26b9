"""WebP and AVIF: copies of other pictures, and files that are WebP or AVIF already."""

from __future__ import annotations

from functools import partial

from .. import codecs
from ..aim import NEAR_ENOUGH, Landing
from ..outcome import Chosen, Output, exact, impossible, lightest, refused, with_all
from ..recipe import Effort
from .case import Case
from .weighing import checked_orientation, landed, worth_it

#: A file that is modern already is only written again for a real gain.
_REAL_GAIN = 0.1
#: From this target on half chroma costs more than it saves in AVIF.
_FULL_CHROMA_FROM = 75.0
#: Points by which a probe scores less than a slower encode of the same step.
_PROBE_LACKS = 0.8
#: A probe so many points above the target is near enough to reckon from.
_PROBE_NEAR = 3.0
#: An AVIF encode is dear: a score this far above the target is not chased down.
_AVIF_NEAR = 1.2


def webp_copy(case: Case, limit: int) -> Output:
    """``limit``: bytes that a copy must stay below to be of use."""
    if max(case.upright.size) > codecs.WEBP_LIMIT:
        return impossible("webp")
    return _within(webp(case, case.copy_extras, limit), limit)


def webp(case: Case, extras: codecs.Extras, limit: int) -> Output:
    """The smallest WebP that keeps the promise: lossless, or lossy at the target."""
    candidates: list[Output] = []
    if case.facts.format != "jpeg" or case.recipe.target is None:
        data = codecs.encode_webp_lossless(case.upright, extras, case.recipe.effort)
        if case.decoded(data).same_as(case.upright_pixels):
            candidates.append(exact("webp", data, "lossless"))
    if case.recipe.target is not None:
        cap = min([limit, *(candidate.size for candidate in candidates)])
        candidates.append(_lossy_webp(case, extras, cap))
    reached = [candidate for candidate in candidates if isinstance(candidate, Chosen)]
    return lightest(reached) if reached else candidates[-1] if candidates else impossible("webp")


def _lossy_webp(case: Case, extras: codecs.Extras, cap: int) -> Output:
    image = codecs.for_half_chroma(case.upright)
    effort = case.recipe.effort
    landing = case.aim(
        lambda quality: codecs.encode_webp(image, quality, extras, effort),
        codecs.WEBP, cap=cap, first=case.first("webp", codecs.WEBP), upright=True,
    )  # fmt: skip
    return landed(case, "webp", landing, lambda quality: f"quality {quality}", cap, upright=True)


def avif_copy(case: Case, limit: int) -> Output:
    """``limit``: bytes that a copy must stay below to be of use."""
    if case.recipe.target is None:
        return impossible("avif")
    return _within(avif(case, case.copy_extras, limit), limit)


def avif(case: Case, extras: codecs.Extras, limit: int) -> Output:
    """AVIF at the target; with full chroma where that is smaller or half cannot reach it."""
    assert case.recipe.target is not None
    full = case.recipe.target >= _FULL_CHROMA_FROM
    outputs: list[Output] = []
    for subsampling in ("4:4:4",) if full else ("4:2:0", "4:4:4"):
        landing = _aimed_avif(case, extras, subsampling, limit)
        output = landed(case, "avif", landing, partial(_how, subsampling), limit, upright=True
        )  # fmt: skip
        outputs.append(output)
        if isinstance(output, Chosen) or output.size >= limit:
            break
    return with_all(outputs[-1], outputs)


def _how(subsampling: str, quality: int) -> str:
    return f"quality {quality}, {subsampling}"


def _aimed_avif(case: Case, extras: codecs.Extras, subsampling: str, limit: int) -> Landing:
    """Probes at a fast speed, then goes on at the recipe's from where the probe came down."""
    speed, target = case.recipe.avif_speed, case.recipe.target
    assert target is not None

    def encode(quality: int, speed: int) -> bytes:
        return codecs.encode_avif(case.upright, quality, speed, subsampling, extras)

    # Slower encodes are smaller, so a probe may be larger than the limit without being hopeless.
    quick = speed >= codecs.AVIF_PROBE_SPEED
    if case.fixed(codecs.AVIF) is not None:
        return case.aim(
            lambda step: encode(step, speed), codecs.AVIF, cap=limit, first=None, upright=True
        )  # fmt: skip
    probe = case.aim(
        lambda step: encode(step, codecs.AVIF_PROBE_SPEED), codecs.AVIF,
        cap=round(limit * 1.25), first=case.first("avif", codecs.AVIF), upright=True,
        near=NEAR_ENOUGH if quick else _PROBE_NEAR, budget=7 if quick else 4,
    )  # fmt: skip
    last = probe.attempts[-1]
    if quick or (probe.best is None and last.aimed < target - _PROBE_NEAR):
        return probe
    known = probe.best or last
    first = codecs.AVIF.from_there(known.quality, known.aimed + _PROBE_LACKS, target + _AVIF_NEAR / 4)
    final = case.aim(
        lambda step: encode(step, speed), codecs.AVIF,
        cap=limit, first=first, upright=True, budget=4, near=_AVIF_NEAR,
    )  # fmt: skip
    return Landing(final.best, probe.attempts + final.attempts)


def _within(output: Output, limit: int) -> Output:
    return refused(output, "not-smaller") if isinstance(output, Chosen) and output.size >= limit else output


def treat_modern(case: Case) -> Output:
    """A still WebP or AVIF, written again from its pixels when that gains enough at the level."""
    kind = case.facts.format
    if case.facts.animated or case.facts.orientation != 1 or case.facts.bits > 8:
        return impossible(kind)
    lossless = kind == "webp" and case.data[12:16] == b"VP8L"
    if case.recipe.target is None and not lossless:
        return impossible(kind)
    if case.recipe.effort is Effort.QUICK and not lossless:
        return impossible(kind)
    limit, extras = len(case.data), case.file_extras
    output = webp(case, extras, limit) if kind == "webp" else avif(case, extras, limit)
    gain = case.recipe.least_gain if output.score == 100.0 else _REAL_GAIN
    return checked_orientation(case, worth_it(case, output, gain))

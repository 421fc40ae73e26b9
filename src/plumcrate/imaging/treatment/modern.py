"""WebP and AVIF: copies of other pictures, and files that are WebP or AVIF already."""

from __future__ import annotations

from functools import partial

from .. import codecs
from ..aim import Landing
from ..avif import LIMIT as AVIF_LIMIT
from ..avif import Content
from ..avif import encode as encode_avif
from ..avif import prepared as prepared_for_avif
from ..outcome import Chosen, Output, Refused, exact, impossible, lightest, refused, with_all
from ..recipe import Effort
from ..webp import LIMIT as WEBP_LIMIT
from ..webp import WebpError
from ..webp import planes as webp_planes
from .case import Case
from .weighing import checked_orientation, is_near, landed, worth_it

#: A file that is modern already is only written again for a real gain.
_REAL_GAIN = 0.1
#: In AVIF half chroma is worth it where it alone loses at most this part of the points that may be lost.
_STRAIN = 1 / 3
#: From this target on half chroma costs more than it saves in AVIF.
_FULL_CHROMA_FROM = 85.0
#: An AVIF encode is dear: so many steps of quality, of some 6 % of bytes each, are not chased down.
_AVIF_NEAR = 2.3


def webp_copy(case: Case, limit: int) -> Output:
    """``limit``: bytes that a copy must stay below to be of use."""
    if max(case.upright_pixels.size) > WEBP_LIMIT:
        return impossible("webp")
    if case.has_gain_map and case.recipe.target is None:
        return impossible("webp")  # it cannot hold the gain map, so it would not be exact
    output = _within(webp(case, case.copy_extras, limit), limit)
    if isinstance(output, Chosen) and output.score == 100.0 and case.content is Content.FLAT:
        case.exact_copy = output.size
    return output


def webp(case: Case, extras: codecs.Extras, limit: int) -> Output:
    """The smallest WebP that keeps the promise: lossless, or lossy at the target."""
    candidates: list[Output] = []
    if case.facts.format != "jpeg" or case.recipe.target is None:
        data = codecs.encode_webp_lossless(case.upright_pixels.as_image(), extras, case.recipe.effort)
        if case.decoded(data).same_as(case.upright_pixels):
            candidates.append(exact("webp", data, "lossless"))
    if case.recipe.target is not None:
        cap = min([limit, *(candidate.size for candidate in candidates)])
        candidates.append(_lossy_webp(case, extras, cap))
    reached = [candidate for candidate in candidates if isinstance(candidate, Chosen)]
    flat = case.content is Content.FLAT
    if len(reached) == 2 and flat and is_near(reached[0].size, reached[1].size):
        return with_all(reached[0], reached)
    return lightest(reached) if reached else candidates[-1] if candidates else impossible("webp")


def _lossy_webp(case: Case, extras: codecs.Extras, cap: int) -> Output:
    assert case.recipe.target is not None
    if case.half_chroma_lacks > 100 - case.recipe.target and case.fixed("webp") is None:
        return Refused(format="webp", verdict="out-of-reach")
    effort = case.recipe.effort
    planes = webp_planes(case.upright_pixels.rgb, case.upright_pixels.alpha)
    try:
        landing = case.aim(
            lambda step: codecs.encode_webp(planes, step, extras, effort),
            "webp",
            cap=cap,
            upright=True,
        )
    except WebpError:  # a part of its stream would be too large: the format has no room for the picture
        return impossible("webp")
    return landed(
        case, "webp", landing, lambda step: f"quality {codecs.webp_quality(step):.1f}", cap, upright=True
    )


def avif_copy(case: Case, limit: int) -> Output:
    """``limit``: bytes that a copy must stay below to be of use."""
    if case.recipe.target is None or max(case.upright_pixels.size) > AVIF_LIMIT:
        return impossible("avif")
    if case.exact_copy is not None and is_near(case.exact_copy, 0):
        return Refused(format="avif", verdict="lossless-is-near")
    output = _within(avif(case, case.copy_extras, limit), limit)
    if case.exact_copy is not None and isinstance(output, Chosen) and is_near(case.exact_copy, output.size):
        return refused(output, "lossless-is-near")
    return output


def avif(case: Case, extras: codecs.Extras, limit: int) -> Output:
    """AVIF at the target; with full chroma where half strains, or cannot reach it."""
    outputs: list[Output] = []
    for subsampling in ("4:2:0", "4:4:4") if half_chroma_will_do(case) else ("4:4:4",):
        landing = _aimed_avif(case, extras, subsampling, limit)
        output = landed(case, "avif", landing, partial(_how, subsampling), limit, upright=True)
        outputs.append(output)
        if isinstance(output, Chosen) or output.size >= limit:
            break
    return with_all(outputs[-1], outputs)


def half_chroma_will_do(case: Case) -> bool:
    """Whether AVIF is smaller with half chroma, at the case's target."""
    target = case.recipe.target
    assert target is not None
    return target < _FULL_CHROMA_FROM and case.half_chroma_lacks <= _STRAIN * (100 - target)


def _how(subsampling: str, quality: int) -> str:
    return f"quality {quality}, {subsampling}"


def _aimed_avif(case: Case, extras: codecs.Extras, subsampling: str, limit: int) -> Landing:
    image = prepared_for_avif(case.upright_pixels, subsampling)
    effort = case.recipe.effort
    grain = False

    def encode(step: int) -> bytes:
        return encode_avif(image, step, extras, effort, subsampling, case.content, grain=grain)

    def keep_grain() -> None:
        nonlocal grain
        grain = True

    return case.aim(
        encode,
        f"avif {subsampling}",
        cap=limit,
        upright=True,
        near=_AVIF_NEAR,
        keep_grain=keep_grain if case.content is not Content.FLAT else None,
    )


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

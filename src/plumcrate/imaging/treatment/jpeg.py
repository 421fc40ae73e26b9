"""The decision for a JPEG: the same coefficients in fewer bytes, or new ones at the promised score."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from .. import codecs
from ..aim import Landing
from ..jpeg import JpegError, LossyEncoder, recompress
from ..jpeg.segments import JFIF, metadata_for_rewriting
from ..memory import give_back
from ..metadata.in_jpeg import built_segments, is_profile, jpeg_segments
from ..outcome import Chosen, Output, Refused, Tried, exact, impossible, refused, with_all
from ..recipe import Effort
from .case import Case
from .weighing import NO_LIMIT, checked_orientation, landed, worth_it

#: Half chroma that needs a finer step than this is straining: full chroma may be smaller.
STRAINING = 103
#: Steps of quality that an encoder needs less once it has learnt where bits count, on the mean.
_GAINED = 0.7
#: A lossy result of less than this part of the picture's bytes is out of the reach of exact coding; not of
#: small files, whose tables alone may be as much.
_OUT_OF_REACH, _SMALL = 0.7, 20_000


def treat_jpeg(case: Case) -> Output:
    if case.recipe.target is None or case.printing:
        return _same_coefficients(case)
    lossy = checked_orientation(case, worth_it(case, lossy_jpeg(case)))
    if case.has_gain_map:
        lossy = replace(lossy, how=f"{lossy.how}, without its gain map for HDR screens")
    picture = len(case.data) - case.metadata_size
    if isinstance(lossy, Chosen) and picture > _SMALL and lossy.size < _OUT_OF_REACH * picture:
        return lossy
    same = _same_coefficients(case)
    # A change of pixels must pay: over the file as it is, and over the exact result.
    least = (same.size if isinstance(same, Chosen) else len(case.data)) * (1 - case.recipe.least_gain)
    if isinstance(lossy, Chosen) and lossy.size <= least:
        best: Output = lossy
    elif isinstance(same, Chosen):
        best = same
    else:
        best = refused(lossy, "too-little-gain") if isinstance(lossy, Chosen) else lossy
    return with_all(best, (same, lossy))


def _same_coefficients(case: Case) -> Output:
    """The same coefficients in fewer bytes, proven on the decoded pixels too."""
    how = "same coefficients"
    if case.resized:
        return impossible("jpeg")
    try:
        smaller = recompress(case.data, case.recipe.metadata, case.coefficients)
    except JpegError:
        return impossible("jpeg")
    if smaller is case.data:
        size = len(smaller)
        return Refused(
            format="jpeg",
            verdict="not-smaller",
            size=size,
            score=100.0,
            how=how,
            encodes=1,
            tried=(Tried(how, size, 100.0),),
        )
    if not case.is_same(smaller):
        return impossible("jpeg")
    return checked_orientation(case, exact("jpeg", smaller, how))


def lossy_jpeg(case: Case) -> Output:
    """The chroma sampling that reaches the score in fewer bytes: half size, full where half strains."""
    grey = case.mode == "L"
    outputs: list[Output] = []
    for subsampled in (True,) if grey else (True, False):
        encoder = _encoder(case, grey, subsampled)
        landing = _landing(case, encoder)
        outputs.append(_searched(case, landing, encoder, "4:2:0" if subsampled else "4:4:4"))
        if landing.best is None:
            if len(landing.attempts[-1].data) >= _hopeless(case):
                break
        elif landing.best.quality <= STRAINING:
            break
    reached = [output for output in outputs if isinstance(output, Chosen)]
    best = min(reached, key=lambda output: output.size) if reached else outputs[-1]
    return with_all(best, outputs)


def finest_jpeg(case: Case) -> bytes:
    """The picture in full chroma at the finest step."""
    encoder = _encoder(case, case.mode == "L", subsampled=False)
    return encoder.encode(codecs.JPEG.highest, searched=True)


def _encoder(case: Case, grey: bool, subsampled: bool) -> LossyEncoder:
    if case.recipe.shapes:
        return LossyEncoder(
            case.pixels.rgb, grey=grey, subsampled=subsampled, metadata=_metadata_of_shaped(case)
        )
    if case.facts.format != "jpeg":
        return LossyEncoder(case.pixels.over(255), grey=grey, subsampled=subsampled)
    if not case.resized:
        return LossyEncoder.of_jpeg(
            case.data,
            case.coefficients,
            case.pixels.rgb,
            grey=grey,
            subsampled=subsampled,
            keep=case.recipe.metadata,
        )
    return LossyEncoder(
        case.pixels.rgb,
        grey=grey,
        subsampled=subsampled,
        metadata=jpeg_segments(metadata_for_rewriting(case.data), case.recipe.metadata),
    )


def _metadata_of_shaped(case: Case) -> list[bytes]:
    """What a shaped picture's JPEG says of itself; its profile, where it has one, fits its pixels."""
    keep, profile = case.recipe.metadata, case.info.get("icc_profile")
    if case.of_jpeg:
        segments = jpeg_segments(metadata_for_rewriting(case.data), keep, upright=True)
        return [one for one in segments if profile or not is_profile(one)]
    extras = case.file_extras
    return [JFIF, *built_segments(extras.get("icc_profile"), extras.get("exif"), extras.get("xmp"))]


def _hopeless(case: Case) -> int:
    """An attempt of this size is larger than the file even after its coefficients are coded better."""
    return NO_LIMIT if case.recipe.shapes else round(len(case.data) * 1.25)


def _landing(case: Case, encoder: LossyEncoder) -> Landing:
    """Aims, once the encoder has learnt from a first encode where the score wants its bits."""
    encode = partial(encoder.encode, searched=False)
    knob, first = case.knob("jpeg")
    if first and case.recipe.effort is not Effort.QUICK and case.fixed("jpeg") is None:
        learnt = case.attempt(encode, first, upright=False)
        encoder.refine(case.judge.luma_gradient(case.decoded(learnt.data)))
        give_back()
        assert case.recipe.target is not None
        case.spares_grain = learnt.lacks_grain(case.recipe.target)
        first = knob.at(knob.place(first, learnt.scored, case.recipe.target) - _GAINED)
    return case.aim(
        encode, "jpeg", cap=_hopeless(case), upright=False, first=first, keep_grain=encoder.keep_grain
    )


def _searched(case: Case, landing: Landing, encoder: LossyEncoder, sampling: str) -> Output:
    """The landing in the cheapest scans, when a decoder shows them to be the very picture that was scored."""
    output = landed(
        case, "jpeg", landing, lambda step: f"step {step}, {sampling}", len(case.data), upright=False
    )
    if landing.best is None or not isinstance(output, Chosen):
        return output
    if sampling == "4:2:0":
        # Rounded as it is recorded, so that copies made later are the same to the byte.
        case.jpeg_step = round(case.place_of(landing.best, "jpeg"))
        output = replace(output, step=case.jpeg_step)
    smallest = encoder.encode(landing.best.quality, searched=True)
    if len(smallest) >= output.size or not case.decoded(smallest).same_as(case.decoded(output.data)):
        return output
    searched = Tried(f"{output.how}, cheapest scans", len(smallest), output.score)
    return replace(output, data=smallest, size=len(smallest), tried=(*output.tried, searched))

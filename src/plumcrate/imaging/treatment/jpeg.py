"""The decision for a JPEG: the same coefficients in fewer bytes, or new ones at the promised score."""

from __future__ import annotations

import io
from dataclasses import replace

import numpy as np
from PIL import Image

from .. import codecs
from ..aim import Landing
from ..jpeg import JpegError, LossyEncoder, recompress
from ..jpeg.segments import metadata_for_rewriting
from ..metadata.in_jpeg import jpeg_segments
from ..outcome import Output, Tried, chosen
from .case import Case

#: Half chroma that needs a finer step than this is straining: full chroma may be smaller.
STRAINING = 103


def treat_jpeg(case: Case) -> Output:
    exact = _exact(case) if not case.resized else Output("jpeg", "not-possible")
    if case.recipe.target is None or case.printing:
        return exact
    lossy = case.checked_orientation(case.worth_it(lossy_jpeg(case)))
    tried = exact.tried + lossy.tried
    # A change of pixels must pay: over the file as it is, and over the exact result.
    worth = lossy.size <= (exact.size if exact.data else len(case.data)) * (1 - case.recipe.least_gain)
    if lossy.data is not None and worth:
        return replace(lossy, tried=tried)
    if exact.data is not None:
        return replace(exact, encodes=lossy.encodes, tried=tried)
    if lossy.data is None:
        return replace(lossy, tried=tried)
    return replace(lossy, verdict="too-little-gain", data=None, tried=tried)


def _exact(case: Case) -> Output:
    """The same coefficients in fewer bytes, proven on the decoded pixels too."""
    try:
        smaller = recompress(case.data, case.recipe.metadata)
    except JpegError:
        return Output("jpeg", "not-possible")
    tried = (Tried("same coefficients", len(smaller), 100.0),)
    if smaller is case.data:
        return Output("jpeg", "not-smaller", None, len(smaller), 100.0, "same coefficients", 1, tried)
    if not np.array_equal(np.asarray(Image.open(io.BytesIO(smaller))), np.asarray(case.image)):
        return Output("jpeg", "not-possible")
    return case.checked_orientation(chosen("jpeg", smaller, 100.0, "same coefficients"))


def lossy_jpeg(case: Case) -> Output:
    """The chroma sampling that reaches the score in fewer bytes: half size, full where half strains."""
    grey = case.image.mode == "L"
    outputs: list[Output] = []
    for subsampled in (True,) if grey else (True, False):
        encoder = _encoder(case, grey, subsampled)
        landing = _landing(case, encoder)
        output = _searched(case, landing, encoder, "4:2:0" if subsampled else "4:4:4")
        outputs.append(output)
        if landing.best is None:
            if len(landing.attempts[-1].data) >= _hopeless(case):
                break
        elif landing.best.quality <= STRAINING:
            break
    reached = [output for output in outputs if output.data is not None]
    best = min(reached, key=lambda output: output.size) if reached else outputs[-1]
    return replace(
        best,
        encodes=sum(output.encodes for output in outputs),
        tried=tuple(tried for output in outputs for tried in output.tried),
    )


def _encoder(case: Case, grey: bool, subsampled: bool) -> LossyEncoder:
    if case.facts.format != "jpeg":
        return LossyEncoder(case.pixels.over(255), grey=grey, subsampled=subsampled)
    if not case.resized:
        return LossyEncoder.of_jpeg(
            case.data, case.pixels.rgb, grey=grey, subsampled=subsampled, keep=case.recipe.metadata
        )
    return LossyEncoder(
        case.pixels.rgb,
        grey=grey,
        subsampled=subsampled,
        metadata=jpeg_segments(metadata_for_rewriting(case.data), case.recipe.metadata),
    )


def _hopeless(case: Case) -> int:
    """An attempt of this size is larger than the file even after its coefficients are coded better."""
    return round(len(case.data) * 1.25)


def _landing(case: Case, encoder: LossyEncoder) -> Landing:
    return case.aim(
        lambda step: encoder.encode(step, searched=False),
        codecs.JPEG,
        cap=_hopeless(case),
        first=case.first("jpeg", codecs.JPEG),
        upright=False,
    )


def _searched(case: Case, landing: Landing, encoder: LossyEncoder, sampling: str) -> Output:
    output = case.landed("jpeg", landing, lambda step: f"step {step}, {sampling}", len(case.data))
    if landing.best is None:
        return output
    if sampling == "4:2:0":
        case.jpeg_step = float(landing.best.quality)
    smallest = encoder.encode(landing.best.quality, searched=True)
    return replace(
        output, data=smallest, size=len(smallest),
        tried=(*output.tried, Tried(f"{output.how}, cheapest scans", len(smallest), output.score)),
    )  # fmt: skip

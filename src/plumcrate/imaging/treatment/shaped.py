"""The decision for a picture that was cut, watermarked or touched up: there is always a file of it, at the
promise where its format can keep it, else as near as the format comes."""

from __future__ import annotations

from collections.abc import Callable

from .. import codecs
from ..avif import encode as encode_avif
from ..avif import prepared as prepared_for_avif
from ..outcome import Chosen, Output, Tried
from .case import Case
from .jpeg import finest_jpeg, lossy_jpeg
from .modern import avif, webp
from .png import png_of_shaped
from .weighing import NO_LIMIT

_MAKERS: dict[str, Callable[[Case], Output]] = {
    "jpeg": lossy_jpeg,
    "png": png_of_shaped,
    "webp": lambda case: webp(case, case.file_extras, NO_LIMIT),
    "avif": lambda case: avif(case, case.file_extras, NO_LIMIT),
}


def treat_shaped(case: Case) -> Chosen:
    output = _MAKERS[case.facts.format](case)
    if isinstance(output, Chosen):
        return output
    data, how = _finest(case)
    judgement = case.judge.judge(case.decoded(data))
    return Chosen(
        format=case.facts.format,
        data=data,
        size=len(data),
        score=judgement.score,
        worst_place=judgement.worst_place(case.upright_size),
        how=how,
        encodes=output.encodes + 1,
        tried=(*output.tried, Tried(how, len(data), judgement.score)),
    )


def _finest(case: Case) -> tuple[bytes, str]:
    """As near to the picture as its format comes."""
    how = "as fine as the format goes"
    if case.facts.format == "jpeg":
        return finest_jpeg(case), how
    pixels, extras, effort = case.upright_pixels, case.file_extras, case.recipe.effort
    if case.facts.format == "webp":
        return codecs.encode_webp_lossless(pixels.as_image(), extras, effort), "lossless"
    image = prepared_for_avif(pixels, "4:4:4")
    data = encode_avif(image, codecs.AVIF.highest, extras, effort, "4:4:4", case.content)
    return data, how

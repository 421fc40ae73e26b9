"""Other formats for the file itself, offered where they are smaller and as good.

An opaque photographic PNG as JPEG, a still GIF as PNG, a flat JPEG as PNG. Here are the decision and the
bytes; the new name and what refers to the old one are the affair of whoever keeps the files.
"""

from __future__ import annotations

from ..outcome import Chosen, Output, exact, lightest, refused
from ..png.encode import encode_picture
from ..png.palette import Histogram
from ..png.reduce import of_rgba
from ..recipe import Conversion
from .case import Case
from .jpeg import lossy_jpeg
from .png import palettes, rgba_of

#: Another format must save this much of what its own would, since a change of name has its price.
_LEAST_GAIN = 0.2
#: Colour cells of a JPEG that may be flat art; photographs have more.
_FLAT_CELLS = 1500


def conversions(case: Case, after: int) -> tuple[Output, ...]:
    """What could take the file's place; ``after`` is its size when it stays in its format."""
    if case.facts.animated or case.printing or case.facts.orientation != 1:
        return ()
    kind, wanted = case.facts.format, case.recipe.convert
    output: Output | None = None
    if kind == "png" and Conversion.PHOTOGRAPH_TO_JPEG in wanted:
        opaque = case.pixels.alpha is None and case.recipe.target is not None
        output = lossy_jpeg(case) if opaque else None
    elif kind == "gif" and Conversion.GIF_TO_PNG in wanted:
        data = encode_picture(of_rgba(rgba_of(case.pixels)), [], case.recipe.effort)
        if case.decoded(data).same_as(case.pixels):
            output = exact("png", data, "lossless")
    elif kind == "jpeg" and Conversion.FLAT_TO_PNG in wanted and case.recipe.target is not None:
        flat = palettes(case, []) if Histogram(rgba_of(case.pixels)).cells <= _FLAT_CELLS else []
        output = lightest(flat) if flat else None
    if not isinstance(output, Chosen):
        return ()
    if output.size > after * (1 - _LEAST_GAIN):
        return (refused(output, "not-smaller"),)
    return (output,)

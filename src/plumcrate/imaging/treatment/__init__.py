"""The decision: one file in, the lightest acceptable file and copies out, each with its reason.

A picture is decoded once; every byte string that leaves here has been decoded again, by a decoder that is not
ours, and was scored, or compared pixel by pixel. Nothing here writes: the caller does with the bytes what it
will.
"""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from ..errors import ImagingError, LeftAlone
from ..formats import COPIES
from ..identification import Facts
from ..outcome import Chosen, Former, Output, Refused, Treatment, exact, impossible, refused
from ..recipe import Conversion, Limits, Recipe
from .animation import animated_copy
from .case import Case
from .conversions import conversions
from .foreign import FOREIGN, as_png
from .gif import treat_gif
from .jpeg import treat_jpeg
from .modern import avif_copy, treat_modern, webp_copy
from .pdf import treat_pdf
from .png import treat_png
from .save_data import leaner_forms
from .shaped import treat_shaped
from .source import identified
from .svg import treat_svg
from .weighing import NO_LIMIT

__all__ = ["Chosen", "Output", "Refused", "Treatment", "treat"]

_MAIN = {
    "jpeg": treat_jpeg,
    "png": treat_png,
    "gif": treat_gif,
    "webp": treat_modern,
    "avif": treat_modern,
}
_COPY_MAKERS = {"webp": webp_copy, "avif": avif_copy}


def treat(
    data: bytes, recipe: Recipe, limits: Limits | None = None, *, former: Former | None = None
) -> Treatment:
    """Treats one file: the bytes that may replace it and its copies.

    ``former``: the file itself was treated before; then only copies and conversions are made of ``data``, the
    original.

    Raises :class:`~.errors.NotAPicture`, :class:`~.errors.Damaged`, :class:`~.errors.TooLarge`
    or :class:`~.errors.LeftAlone`; no other error.
    """
    try:
        facts = identified(data)
        if facts.format == "svg":
            return Treatment(facts, len(data), (treat_svg(data, facts, recipe),) if former is None else ())
        if facts.format == "pdf":
            within = partial(treat, limits=limits)
            return Treatment(
                facts, len(data), (treat_pdf(data, facts, recipe, within),) if former is None else ()
            )
        if facts.format in FOREIGN:
            return _for_the_web(data, facts, recipe, limits or Limits())
        case = Case(data, recipe, limits or Limits())
        outputs: list[Output] = []
        if former is None:
            make = treat_shaped if case.recipe.shapes else _MAIN[case.facts.format]
            main = make(case)
            after = main.size if isinstance(main, Chosen) else len(data)
            outputs.append(replace(main, role="file"))
        else:
            case.jpeg_step, after = former.step, former.size
        offered = conversions(case, after) if recipe.convert else ()
        case.main_is_made()
        limit = NO_LIMIT if recipe.keep_larger_copies else after
        copies = _copies(case, limit)
        outputs += [replace(output, role="copy") for output in copies]
        if recipe.save_data:
            outputs += [replace(output, role="save-data") for output in leaner_forms(case, after, copies)]
        outputs += [replace(output, role="conversion") for output in offered]
        return Treatment(case.facts, len(data), tuple(outputs))
    except ImagingError:
        raise
    except MemoryError:
        raise LeftAlone("there was not enough memory to treat the picture") from None


def _for_the_web(data: bytes, facts: Facts, recipe: Recipe, limits: Limits) -> Treatment:
    """What pages may show in place of a file that is none for them: as if its pixels had been uploaded as
    PNG."""
    png = as_png(data, facts, recipe, limits)
    web = frozenset((Conversion.PHOTOGRAPH_TO_JPEG,))
    made = treat(png, replace(recipe, convert=web), limits)
    own = made.main if isinstance(made.main, Chosen) else exact("png", png, "lossless")
    jpegs = [output for output in made.of("conversion") if isinstance(output, Chosen)]
    file = jpegs[0] if jpegs else own
    outputs: list[Output] = [Refused(format=facts.format, verdict="not-for-the-web")]
    outputs += [
        output
        if not isinstance(output, Chosen) or output.size < file.size
        else refused(output, "not-smaller")
        for output in made.of("copy")
    ]
    outputs.append(replace(file, role="conversion"))
    return Treatment(facts, len(data), tuple(outputs))


def _copies(case: Case, limit: int) -> list[Output]:
    """The copies the recipe wants, of what is not as light a format already."""
    formats = [kind for kind in COPIES if kind in case.recipe.copies]
    if case.facts.format in COPIES:
        formats = [kind for kind in formats if COPIES.index(kind) > COPIES.index(case.facts.format)]
    if not case.facts.animated:
        return [_COPY_MAKERS[kind](case, limit) for kind in formats]
    if case.facts.format == "webp":
        return [impossible(kind) for kind in formats]
    return [animated_copy(case, kind, limit) for kind in formats]

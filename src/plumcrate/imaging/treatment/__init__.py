"""The decision: one file in, the lightest acceptable file and copies out, each with its reason.

A picture is decoded once; every candidate is decoded again and scored, or compared pixel by pixel,
before it can be chosen. Nothing here writes: the caller does with the bytes what it will.
"""

from __future__ import annotations

from ..errors import ImagingError, LeftAlone
from ..outcome import VERDICTS, Output, Treatment, Tried, Verdict
from ..recipe import Recipe
from .animation import animated_copy
from .case import Case
from .conversions import conversions
from .gif import treat_gif
from .jpeg import treat_jpeg
from .modern import avif_copy, treat_modern, webp_copy
from .png import treat_png

__all__ = ["VERDICTS", "Output", "Treatment", "Tried", "Verdict", "treat"]

_NO_LIMIT = 1 << 40
_MAIN = {
    "jpeg": treat_jpeg,
    "png": treat_png,
    "gif": treat_gif,
    "webp": treat_modern,
    "avif": treat_modern,
}


def treat(data: bytes, recipe: Recipe) -> Treatment:
    """Treats one file: the bytes that may replace it and its copies.

    Raises :class:`~.errors.NotAPicture`, :class:`~.errors.Damaged`, :class:`~.errors.TooLarge`
    or :class:`~.errors.LeftAlone`; no other error.
    """
    try:
        case = Case(data, recipe)
        main = _MAIN[case.facts.format](case)
        after = main.size if main.data is not None else len(data)
        offered = conversions(case, after) if recipe.convert else ()
        limit = _NO_LIMIT if recipe.keep_larger_copies else after
        return Treatment(case.facts, len(data), main, _copies(case, limit), offered)
    except ImagingError:
        raise
    except MemoryError:
        raise LeftAlone("there was not enough memory to treat the picture") from None


def _copies(case: Case, limit: int) -> tuple[Output, ...]:
    """The copies the recipe wants, of what is not in such a format already."""
    makers = {"webp": (case.recipe.webp, webp_copy), "avif": (case.recipe.avif, avif_copy)}
    out = []
    for kind, (wanted, make) in makers.items():
        if not wanted or case.facts.format == "avif" or case.facts.format == kind:
            continue
        if case.facts.animated:
            if case.facts.format == "webp":
                out.append(Output(kind, "not-possible"))
            else:
                out.append(animated_copy(case, kind, limit))
        else:
            out.append(make(case, limit))
    return tuple(out)

"""Leaner forms, for who asks for less data: the copies once more, at the level below."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ..formats import COPIES
from ..outcome import Chosen, Output
from ..recipe import FixedQuality, Level
from .case import Case
from .modern import avif_copy, webp_copy

_MAKERS = {"webp": webp_copy, "avif": avif_copy}
_BELOW = {Level.EXACT: Level.GALLERY, Level.GALLERY: Level.EVERYDAY, Level.EVERYDAY: Level.LEAN}
#: A leaner form is at most this part of what everybody else gets in its format.
_WORTH = 0.9


def leaner_forms(case: Case, after: int, copies: Sequence[Output]) -> list[Output]:
    """Of a still picture, in the formats of its copies; none below the leanest level. ``after``: bytes of the
    file itself."""
    level = _BELOW.get(case.recipe.level)
    if level is None or case.facts.animated:
        return []
    below = replace(case.recipe, level=level, fixed=FixedQuality(), save_data=False)
    leaner, outputs = Case(case.data, below, case.limits), list[Output]()
    sizes = {copy.format: copy.size for copy in copies if isinstance(copy, Chosen)}
    for kind in (kind for kind in COPIES if kind in case.recipe.copies):
        if kind != case.facts.format:
            usual = min(size for size in (after, sizes.get(kind, after)))
            outputs.append(_MAKERS[kind](leaner, int(usual * _WORTH)))
    return outputs

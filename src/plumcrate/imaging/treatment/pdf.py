"""Documents: every page is drawn before and after, its words are read, and all must be as promised."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from itertools import zip_longest

from ..errors import LeftAlone
from ..identification import Facts
from ..outcome import Chosen, Output, Treatment, Tried, not_taken
from ..pdf import CannotShow, Looks, lighten_pictures, merge_doubles, open_document, packed
from ..recipe import TOLERANCE, Conversion, Level, Recipe
from ..scoring import Judge

#: A page may show its picture larger than it is, and then more of what was lost: the next level is tried.
_STRICTER: dict[Level, tuple[Level, ...]] = {
    Level.LEAN: (Level.LEAN, Level.EVERYDAY, Level.GALLERY),
    Level.EVERYDAY: (Level.EVERYDAY, Level.GALLERY),
    Level.GALLERY: (Level.GALLERY, Level.EXACT),
    Level.EXACT: (Level.EXACT,),
}
#: Treats one picture of a document under a recipe.
Treat = Callable[[bytes, Recipe], Treatment]


def treat_pdf(data: bytes, facts: Facts, recipe: Recipe, treat: Treat) -> Output:
    """The document itself, lighter. Raises LeftAlone and Damaged."""
    if recipe.shapes:
        raise LeftAlone("documents are not cut, watermarked or touched up")
    tried: list[Tried] = []
    try:
        for level in (*_STRICTER[recipe.level], None):
            made, how = _made(data, recipe, level, treat)
            if level is not None and how is None:
                continue  # nothing within was lighter: packing alone is as good
            score = _score(data, made, recipe) if len(made) < len(data) else None
            how = how or "packed anew"
            tried.append(Tried(how, len(made), score))
            if score is not None:
                return Chosen(
                    format=facts.format,
                    data=made,
                    size=len(made),
                    score=score,
                    how=how,
                    encodes=len(tried),
                    tried=tuple(tried),
                )
    except CannotShow as error:
        raise LeftAlone(f"it cannot be drawn here ({error}), so nothing of it is changed") from None
    return not_taken(facts.format, tried, len(data))


def _made(data: bytes, recipe: Recipe, level: Level | None, treat: Treat) -> tuple[bytes, str | None]:
    """The document anew, its pictures at a level, and how many of them are lighter; None where none is."""
    with open_document(data) as pdf:
        how = None
        if level is not None:
            plain = Recipe(level=level, copies=frozenset(), effort=recipe.effort, metadata=recipe.metadata)
            photographs = replace(plain, convert=frozenset((Conversion.PHOTOGRAPH_TO_JPEG,)))
            tally = lighten_pictures(
                pdf,
                lambda one, largest: treat(one, replace(plain, largest=largest)),
                lambda one, largest: treat(one, replace(photographs, largest=largest)),
                0 if level is Level.EXACT else recipe.document_ppi,
            )
            if tally.lighter:
                how = f"{tally.lighter} of {tally.seen} pictures lighter, packed anew"
        merge_doubles(pdf)
        return packed(pdf), how


def _score(data: bytes, made: bytes, recipe: Recipe) -> float | None:
    """The worst page's score, 100.0 where all are the same; None where anything is not as promised."""
    before, after = Looks(data), Looks(made)
    if before.outline != after.outline:
        return None
    worst = 100.0
    for old, new in zip_longest(before.pages(), after.pages()):
        if old is None or new is None or (old.words, old.size, old.notes) != (new.words, new.size, new.notes):
            return None
        if not old.pixels.same_as(new.pixels):
            worst = min(worst, Judge(old.pixels).score(new.pixels), 99.9)
            if worst < (100.0 if recipe.target is None else recipe.target - TOLERANCE):
                return None
    return worst

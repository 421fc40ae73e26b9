"""Deciding: which treatment each file of a library gets under a recipe, before anything is done.

A recipe's settings become a short list of variants: the overrides of single pictures first, then what the
recipe leaves out, then its rules in order, then the recipe itself. The database tells for each file the first
variant that fits, so that half a million files are decided in one query; :func:`variant_of` is that
expression and the only place where rules are read.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, and_, case, exists, func, literal, select, true
from sqlalchemy.orm import aliased

from plumcrate.contract.common import Level
from plumcrate.contract.pictures import FileRole
from plumcrate.contract.recipes import How, RecipeSettings, When
from plumcrate.imaging import (
    Conversion,
    Effort,
    FixedQuality,
    Kind,
    Recipe,
    Sharpening,
)
from plumcrate.imaging import Level as CoreLevel
from plumcrate.imaging.kinds import EVERYTHING
from plumcrate.records.queries.folders import below
from plumcrate.records.tables import File, PageUse, Picture

#: What a key that says nothing of a setting means: never changed, whatever the defaults become.
_USUAL = Recipe(metadata=EVERYTHING).as_dict()
#: With a file's key: the limit of the machine that it was too large for, in pixels or in bytes.
BEYOND = "beyond"
_CONVERSIONS = {
    "photographs_to_jpeg": Conversion.PHOTOGRAPH_TO_JPEG,
    "flat_to_png": Conversion.FLAT_TO_PNG,
    "gif_to_png": Conversion.GIF_TO_PNG,
    "for_the_web": Conversion.FOR_THE_WEB,
}


@dataclass(frozen=True, slots=True)
class Variant:
    """One way in which files are treated, or left alone when ``recipe`` is None.

    ``rule`` names the recipe's rule, None for the recipe itself; ``because`` is for people.
    """

    fits: ColumnElement[bool]
    recipe: Recipe | None
    rule: str | None
    because: str

    @property
    def key(self) -> dict[str, Any] | None:
        """What is kept with a treated file, to tell whether it was treated just so."""
        return None if self.recipe is None else key_of(self.recipe)


def key_of(recipe: Recipe) -> dict[str, Any]:
    """The level, and what differs from the usual: a setting that is new changes no former treatment."""
    return {
        name: value for name, value in recipe.as_dict().items() if name == "level" or value != _USUAL[name]
    }


def core_recipe(settings: RecipeSettings, how: How | None = None) -> Recipe:
    """The settings, changed by a rule's, in the words of the core. Without a largest size."""
    how = how or How()
    return Recipe(
        level=CoreLevel(how.level or settings.level),
        copies=frozenset(map(str, settings.copies if how.copies is None else how.copies)),
        effort=Effort(how.effort or settings.effort),
        metadata=frozenset(
            Kind(kind) for kind in (settings.metadata if how.metadata is None else how.metadata)
        ),
        clear_hidden=settings.clear_hidden,
        keep_larger_copies=settings.keep_larger_copies,
        document_ppi=settings.document_ppi,
        convert=frozenset(
            conversion for name, conversion in _CONVERSIONS.items() if getattr(settings.conversions, name)
        ),
        fixed=FixedQuality(**settings.fixed_quality.model_dump()),
        sharpening=Sharpening(**settings.sharpening.model_dump()),
        sharpen_all=settings.sharpen_all,
    )


def variants(settings: RecipeSettings, surveyed_at: datetime | None) -> list[Variant]:
    """The variants in the order in which they are asked; the last fits every file.

    ``surveyed_at``: when the library was first surveyed; originals seen later are new.
    """
    ways = [Variant(Picture.override == "leave", None, None, "this picture is left alone for ever")]
    for level in Level:
        own = core_recipe(settings, How(level=level))
        ways.append(
            Variant(Picture.override == str(level), own, None, f"this picture has its own level, {level}")
        )
    # Rules and switches are about files of the site; what is made for a size goes by recipe and size.
    of_the_site = File.size_name.is_(None)
    if not settings.originals:
        ways.append(Variant(File.role == FileRole.ORIGINAL, None, None, "the recipe leaves originals alone"))
    rendition = and_(of_the_site, File.role == FileRole.RENDITION)
    if settings.renditions == "none":
        ways.append(Variant(rendition, None, None, "the recipe leaves renditions alone"))
    elif settings.renditions == "chosen":
        size = func.concat(File.width, "x", File.height)
        unchosen = and_(rendition, size.not_in(settings.chosen_sizes or [""]))
        ways.append(Variant(unchosen, None, None, "the recipe leaves renditions of this size alone"))
    for rule in settings.rules:
        recipe = None if rule.leave else core_recipe(settings, rule.how)
        verb = "leaves it alone" if rule.leave else "decides"
        about = and_(of_the_site, fits(rule.when))
        ways.append(Variant(about, recipe, rule.name, f"the rule “{rule.name}” {verb}"))
    base = core_recipe(settings)
    ways.append(Variant(true(), base, None, "the recipe decides"))
    return _with_save_data(_with_largest(ways, settings, surveyed_at), settings)


def _with_save_data(ways: list[Variant], settings: RecipeSettings) -> list[Variant]:
    """Each treating variant twice: pictures that weighed pages show, and the rest."""
    if not settings.save_data:
        return ways
    on_pages = exists(select(1).where(PageUse.picture_id == Picture.id).correlate(Picture))
    out = []
    for variant in ways:
        if variant.recipe is not None:
            recipe = replace(variant.recipe, save_data=True)
            out.append(replace(variant, fits=and_(variant.fits, on_pages), recipe=recipe))
        out.append(variant)
    return out


def _with_largest(
    ways: list[Variant], settings: RecipeSettings, surveyed_at: datetime | None
) -> list[Variant]:
    """Each treating variant twice: originals that are fitted into the largest size, and the rest."""
    largest = settings.largest
    if not (largest.width or largest.height):
        return ways
    resizing = File.role == FileRole.ORIGINAL
    if not largest.existing:
        resizing = and_(resizing, File.seen_at > surveyed_at) if surveyed_at else literal(False)
    out = []
    for variant in ways:
        if variant.recipe is not None:
            recipe = replace(variant.recipe, largest=(largest.width, largest.height))
            out.append(replace(variant, fits=and_(variant.fits, resizing), recipe=recipe))
        out.append(variant)
    return out


def fits(when: When) -> ColumnElement[bool]:
    """Whether a rule is about a file, for queries that join ``File`` and ``Picture``. One that was made for a
    size is judged by the bytes of what it is made of: its own change whenever it is made."""
    conditions: list[ColumnElement[bool]] = []
    if when.folder is not None:
        conditions.append(below(File.folder, when.folder))
    if when.name is not None:
        name = func.regexp_replace(File.path, "^.*/", "")
        conditions.append(name.ilike(_like(when.name), escape="\\"))
    if when.formats is not None:
        conditions.append(File.format.in_([format.lower() for format in when.formats]))
    if when.role is not None:
        conditions.append(File.role == when.role)
    original = aliased(File)
    of_original = select(original.size_before).where(original.id == Picture.original_id).correlate(Picture)
    size = case((File.size_name.is_(None), File.size_before), else_=of_original.scalar_subquery())
    longest = func.greatest(File.width, File.height)
    for limit, condition in (
        (when.smaller_than, size < (when.smaller_than or 0)),
        (when.larger_than, size > (when.larger_than or 0)),
        (when.longest_side_under, longest < (when.longest_side_under or 0)),
        (when.longest_side_over, longest > (when.longest_side_over or 0)),
        (when.transparent, File.transparent.is_(when.transparent)),
        (when.animated, File.animated.is_(when.animated)),
    ):
        if limit is not None:
            conditions.append(condition)
    return and_(true(), *conditions)


def _like(pattern: str) -> str:
    """A name with ``*`` and ``?`` as SQL's LIKE knows it."""
    escaped = pattern.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    return escaped.replace("*", "%").replace("?", "_")


def resolved(ways: list[Variant]) -> list[dict[str, Any] | None]:
    """The recipes of variants as plain data, for the records: what a run was begun with, it ends with."""
    return [None if variant.recipe is None else variant.recipe.as_dict() for variant in ways]


def variant_of(ways: list[Variant]) -> ColumnElement[int]:
    """The number of the first variant that fits, for queries that join ``File`` and ``Picture``."""
    *special, _ = ways
    whens = [(variant.fits, number) for number, variant in enumerate(special)]
    return case(*whens, else_=len(special)) if whens else literal(0)

"""How pictures are treated."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.common import Page
from plumcrate.contract.recipes import Effect, Recipe, RecipeSettings

from . import base
from .base import Call


def get(library: str) -> Call[Recipe]:
    """The recipe in use."""
    return base.get(f"{base.within(library)}/recipe", Recipe)


def page(library: str, *, after: str | None = None, limit: int = 100) -> Call[Page[Recipe]]:
    """All versions of the recipe, the latest first."""
    return base.get(f"{base.within(library)}/recipes", Page[Recipe], after=after, limit=limit)


def save(library: str, settings: RecipeSettings, *, based_on: int | None = None) -> Call[Recipe]:
    """``based_on``: the version that was changed; None overwrites whatever is there. Where somebody saved
    another meanwhile, nothing is saved, and ``changed-meanwhile`` is answered."""
    headers = {"If-Match": "*" if based_on is None else f'"{based_on}"'}
    return Call("PUT", f"{base.within(library)}/recipe", TypeAdapter(Recipe), body=settings, headers=headers)


def effect(library: str, settings: RecipeSettings) -> Call[Effect]:
    """How many files these settings would treat, make again and leave alone."""
    return base.post(f"{base.within(library)}/recipe/effect", Effect, settings)

"""Recipes: the one in use, its former versions, and what another would do."""

from __future__ import annotations

from plumcrate.api.needs import Administering, Looking
from plumcrate.contract.recipes import Effect, Recipe, RecipeSettings
from plumcrate.deciding.planning import effect, save_recipe
from plumcrate.records.queries.libraries import current_recipe, recipe_versions, recipe_view

from .deps import Session, Slug, router_of, the_library

router = router_of("recipes")


@router.get("/libraries/{slug}/recipe", summary="The recipe in use")
def recipe(slug: Slug, actor: Looking, session: Session) -> Recipe:
    return recipe_view(current_recipe(session, the_library(session, slug).id), slug)


@router.get("/libraries/{slug}/recipes", summary="All versions of the recipe, the latest first")
def versions(slug: Slug, actor: Looking, session: Session) -> list[Recipe]:
    library = the_library(session, slug)
    return [recipe_view(row, slug) for row in recipe_versions(session, library.id)]


@router.post("/libraries/{slug}/recipe/effect", summary="What a recipe would do")
def the_effect(slug: Slug, body: RecipeSettings, actor: Looking, session: Session) -> Effect:
    """Counts the files that these settings would treat, make again, pass over and leave alone."""
    return effect(session, the_library(session, slug), body)


@router.put("/libraries/{slug}/recipe", summary="Save a new version of the recipe")
def save(slug: Slug, body: RecipeSettings, actor: Administering, session: Session) -> Recipe:
    """Nothing is treated by saving. Settings that are the same make no new version."""
    return recipe_view(save_recipe(session, the_library(session, slug), body, actor.name), slug)

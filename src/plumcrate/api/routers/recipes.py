"""Recipes: the one in use, its former versions, and what another would do."""

from __future__ import annotations

from typing import Annotated

from fastapi import Header, Response

from plumcrate.api.needs import Administering, Looking
from plumcrate.contract.recipes import Effect, Recipe, RecipeSettings
from plumcrate.deciding.planning import effect, save_recipe
from plumcrate.records.queries.libraries import current_recipe, recipe_versions, recipe_view

from .deps import Session, Slug, router_of, the_library

router = router_of("recipes")

IfMatch = Annotated[str | None, Header(max_length=200, description="The `ETag` of the version changed.")]


@router.get("/libraries/{slug}/recipe", summary="The recipe in use")
def recipe(slug: Slug, actor: Looking, session: Session, response: Response) -> Recipe:
    """Its `ETag` says which version it is; it comes back as `If-Match` when the recipe is saved."""
    return _tagged(recipe_view(current_recipe(session, the_library(session, slug).id), slug), response)


@router.get("/libraries/{slug}/recipes", summary="All versions of the recipe, the latest first")
def versions(slug: Slug, actor: Looking, session: Session) -> list[Recipe]:
    library = the_library(session, slug)
    return [recipe_view(row, slug) for row in recipe_versions(session, library.id)]


@router.post("/libraries/{slug}/recipe/effect", summary="What a recipe would do")
def the_effect(slug: Slug, body: RecipeSettings, actor: Looking, session: Session) -> Effect:
    """Counts the files that these settings would treat, make again, pass over and leave alone."""
    return effect(session, the_library(session, slug), body)


@router.put("/libraries/{slug}/recipe", summary="Save a new version of the recipe")
def save(
    slug: Slug,
    body: RecipeSettings,
    actor: Administering,
    session: Session,
    response: Response,
    if_match: IfMatch = None,
) -> Recipe:
    """Nothing is treated by saving. Settings that are the same make no new version.

    With the `If-Match` of the version that was changed, a version that somebody saved meanwhile is not
    overwritten: 412 says whose it is."""
    library = the_library(session, slug)
    row = save_recipe(session, library, body, actor.name, based_on=_version_of(if_match))
    return _tagged(recipe_view(row, slug), response)


def _tagged(recipe: Recipe, response: Response) -> Recipe:
    response.headers["ETag"] = f'"{recipe.version}"'
    return recipe


def _version_of(tag: str | None) -> int | None:
    """RFC 9110, section 13.1.1: a tag that is none of ours fits no version."""
    if tag is None or tag.strip() == "*":
        return None
    number = tag.strip().strip('"')
    return int(number) if number.isascii() and number.isdigit() and len(number) < 10 else 0

"""Recipes: the one in use, its former versions, and what another would do."""

from __future__ import annotations

from fastapi import Response

from plumcrate.api.conditions import IfMatch
from plumcrate.api.needs import Administering, Looking
from plumcrate.api.problems import ApiError
from plumcrate.contract.common import Page
from plumcrate.contract.recipes import Effect, Recipe, RecipeSettings
from plumcrate.deciding.planning import effect, save_recipe
from plumcrate.records.queries.libraries import current_recipe, recipe_view, recipes_page

from .deps import After, Limit, Session, Slug, router_of, the_library, version_of

router = router_of("recipes")


@router.get("/libraries/{slug}/recipe", summary="The recipe in use")
def recipe(slug: Slug, actor: Looking, session: Session, response: Response) -> Recipe:
    """Its `ETag` says which version it is; it comes back as `If-Match` when the recipe is saved."""
    return _tagged(recipe_view(current_recipe(session, the_library(session, slug).id), slug), response)


@router.get("/libraries/{slug}/recipes", summary="All versions of the recipe, the latest first")
def versions(
    slug: Slug, actor: Looking, session: Session, after: After = None, limit: Limit = 100
) -> Page[Recipe]:
    return recipes_page(session, the_library(session, slug), after=after, limit=limit)


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

    `If-Match` says which version was changed, and is demanded (RFC 6585, section 3): a version that somebody
    saved meanwhile is not overwritten, and 412 says whose it is and what it says. `*` overwrites any."""
    library = the_library(session, slug)
    if if_match is None:
        raise ApiError(
            "precondition-required",
            "send the ETag of the recipe that you changed as If-Match, or * to overwrite whatever is there",
        )
    row = save_recipe(session, library, body, actor.name, based_on=version_of(if_match))
    return _tagged(recipe_view(row, slug), response)


def _tagged(recipe: Recipe, response: Response) -> Recipe:
    response.headers["ETag"] = f'"{recipe.version}"'
    return recipe

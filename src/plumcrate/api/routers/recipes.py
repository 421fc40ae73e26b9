"""Recipes: the one in use, its former versions, and what another would do."""

from __future__ import annotations

from sqlalchemy import select

from plumcrate import contract
from plumcrate.api.auth import Administering, Looking
from plumcrate.records import tables
from plumcrate.records.queries.libraries import current_recipe, recipe_view
from plumcrate.work.planning import effect, settings_of

from .deps import Session, Slug, TheSettings, router_of, the_library

router = router_of("recipes")


@router.get("/libraries/{slug}/recipe", summary="The recipe in use")
def recipe(slug: Slug, person: Looking, session: Session) -> contract.Recipe:
    return recipe_view(current_recipe(session, the_library(session, slug).id), slug)


@router.get("/libraries/{slug}/recipes", summary="All versions of the recipe, the latest first")
def versions(slug: Slug, person: Looking, session: Session) -> list[contract.Recipe]:
    library = the_library(session, slug)
    query = select(tables.RecipeVersion).where(tables.RecipeVersion.library_id == library.id)
    rows = session.scalars(query.order_by(tables.RecipeVersion.version.desc()).limit(100))
    return [recipe_view(row, slug) for row in rows]


@router.post("/libraries/{slug}/recipe/effect", summary="What a recipe would do")
def the_effect(
    slug: Slug, body: contract.RecipeSettings, person: Looking, session: Session, settings: TheSettings
) -> contract.Effect:
    """Counts the files that these settings would treat, make again, pass over and leave alone."""
    return effect(session, the_library(session, slug), body, settings.max_megapixels)


@router.put("/libraries/{slug}/recipe", summary="Save a new version of the recipe")
def save(
    slug: Slug, body: contract.RecipeSettings, person: Administering, session: Session
) -> contract.Recipe:
    """Nothing is treated by saving. Settings that are the same make no new version."""
    library = the_library(session, slug)
    session.execute(select(tables.Library.id).where(tables.Library.id == library.id).with_for_update())
    current = current_recipe(session, library.id)
    if settings_of(current) == body:
        return recipe_view(current, slug)
    row = tables.RecipeVersion(
        library_id=library.id,
        version=current.version + 1,
        settings=body.model_dump(mode="json"),
        by=person.name,
    )
    session.add(row)
    session.flush()
    session.refresh(row)
    return recipe_view(row, slug)

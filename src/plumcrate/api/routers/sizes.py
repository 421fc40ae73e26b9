"""Sizes of a library: named, forecast, made by runs; ladders; what each shows of a picture."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Administering, Looking, Mending
from plumcrate.api.problems import ApiError
from plumcrate.api.service import service_of
from plumcrate.contract.sizes import (
    BringingBack,
    Cuts,
    FocusRequest,
    Ladder,
    LadderRequest,
    NamedSize,
    RemoveUnused,
    SizeEffect,
    SizeName,
    SizeProposal,
    SizeSettings,
    UnusedFiles,
    UnusedSizes,
)
from plumcrate.records import tables
from plumcrate.records.queries import sizes as queries
from plumcrate.renditions.ladders import ladder
from plumcrate.renditions.sizes import effect_of_change, remove_size, save_size
from plumcrate.renditions.unused import bring_back, remove_unused

from .deps import Id, Session, Slug, TheDatabase, router_of, the, the_library

router = router_of("sizes")


@router.get("/libraries/{slug}/sizes", summary="The library's sizes")
def sizes(slug: Slug, actor: Looking, session: Session) -> list[NamedSize]:
    """With what stands there of each, and what waits for the next run."""
    return queries.named_sizes(session, the_library(session, slug))


@router.get("/libraries/{slug}/sizes/{name}", summary="One size")
def size(slug: Slug, name: SizeName, actor: Looking, session: Session, response: Response) -> NamedSize:
    found = queries.named_size(session, the_library(session, slug), name)
    if found is None:
        raise ApiError("not-found", f"there is no size {name}")
    return tagged(response, found, found.settings)


@router.put("/libraries/{slug}/sizes/{name}", summary="Define a size, or change it")
def save(
    slug: Slug, name: SizeName, body: SizeSettings, actor: Administering, session: Session, based: BasedOn
) -> NamedSize:
    """Nothing is made by saving: the next run makes, makes again and removes what the size asks for."""
    library = the_library(session, slug)
    former = queries.named_size(session, library, name)
    based.on(former.settings if former is not None else None)
    save_size(session, library, name, body, actor.name)
    saved = queries.named_size(session, library, name)
    if saved is None:
        raise ApiError("not-found", f"the size {name} was removed meanwhile")
    return based.tagged(saved, saved.settings)


@router.delete("/libraries/{slug}/sizes/{name}", status_code=204, summary="Remove a size")
def remove(slug: Slug, name: SizeName, actor: Administering, session: Session) -> None:
    """Its files are removed by the next run."""
    remove_size(session, the_library(session, slug), name)


@router.post("/libraries/{slug}/sizes/{name}/effect", summary="What a size would do")
def effect(slug: Slug, name: SizeName, body: SizeProposal, actor: Looking, session: Session) -> SizeEffect:
    """Counts the files that the next run would make, make again and remove, were the size saved so, or
    removed where no settings are given. Nothing is done."""
    return effect_of_change(session, the_library(session, slug), name, body.settings)


@router.post("/libraries/{slug}/ladder", summary="Widths whose steps weigh the same")
def the_ladder(slug: Slug, body: LadderRequest, actor: Looking, session: Session) -> Ladder:
    """By what pictures weigh here at their widths, as they were treated."""
    return ladder(session, the_library(session, slug).id, body)


@router.get("/libraries/{slug}/unused-sizes", summary="Files of sizes that nobody asked for")
def unused(
    slug: Slug, actor: Looking, session: Session, days: Annotated[int, Query(ge=1, le=3650)] = 30
) -> UnusedSizes:
    """Within so many days, by what visitors were sent, and what weighed pages loaded."""
    return queries.unused_sizes(session, the_library(session, slug).id, days)


@router.post("/libraries/{slug}/unused-sizes/remove", summary="Remove files that nobody asked for")
def remove_unused_files(
    slug: Slug, body: RemoveUnused, actor: Administering, session: Session
) -> UnusedFiles:
    """The next run removes them. A size makes them again when somebody asks for them, and until then whoever
    does is sent the picture itself. Refused while visits were not counted for so many days."""
    return remove_unused(session, the_library(session, slug), body)


@router.post(
    "/libraries/{slug}/unused-sizes/bring-back", summary="Bring back files that were removed as unused"
)
def back(slug: Slug, body: BringingBack, actor: Administering, session: Session) -> UnusedFiles:
    """The next run makes them again."""
    return bring_back(session, the_library(session, slug), body.size)


@router.get("/pictures/{picture_id}/cuts", summary="What every size shows of a picture")
def cuts(picture_id: Id, actor: Looking, database: TheDatabase, request: Request) -> Cuts:
    """The focal point, and the box that each size is cut to."""
    cutter = service_of(request).cutter
    with database.begin() as session:
        picture = the(session, tables.Picture, picture_id, "picture")
    return cutter.cuts(picture)


@router.put("/pictures/{picture_id}/focus", summary="Set a picture's focal point")
def focus(
    picture_id: Id, body: FocusRequest, actor: Mending, database: TheDatabase, request: Request
) -> Cuts:
    """The next run cuts its sizes around it."""
    cutter = service_of(request).cutter
    with database.begin() as session:
        picture = the(session, tables.Picture, picture_id, "picture")
        picture.focus = None if body.focus is None else [body.focus.x, body.focus.y]
    return cutter.cuts(picture)

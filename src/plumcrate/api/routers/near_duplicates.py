"""Near duplicates: groups of pictures that show the same, and pictures that are answered with another."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from plumcrate.api.needs import Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract.near_duplicates import KeptApart, NearDuplicates, Redirected, RedirectTo
from plumcrate.intake import redirects
from plumcrate.intake.grouping import keep_apart
from plumcrate.records import tables
from plumcrate.records.queries.near_duplicates import near_duplicates

from .deps import After, Id, Session, Slug, router_of, the, the_library

router = router_of("near-duplicates")


@router.get("/libraries/{slug}/near-duplicates", summary="Pictures that show the same, in groups")
def groups(
    slug: Slug,
    actor: Looking,
    session: Session,
    after: After = None,
    limit: Annotated[int, Query(ge=1, le=100)] = 20,
) -> NearDuplicates:
    """As the last search found them, those with most bytes to spare first."""
    return near_duplicates(session, the_library(session, slug).id, after, limit)


@router.put(
    "/pictures/{picture_id}/kept-apart", status_code=204, summary="Keep a picture out of all groups, or not"
)
def put_kept_apart(picture_id: Id, body: KeptApart, actor: Treating, session: Session) -> None:
    """For one that shows something else, whatever a search finds."""
    picture = the(session, tables.Picture, picture_id, "picture")
    keep_apart(session, picture.library_id, picture.id, body.apart)


@router.put("/pictures/{picture_id}/redirect", summary="Answer with another picture")
def put_redirect(picture_id: Id, body: RedirectTo, actor: Treating, session: Session) -> Redirected:
    """Whoever asks for this picture gets the other, where Plum Crate serves the library or rewrites its
    pages. Both keep their files, so it can be taken back at any time."""
    picture = the(session, tables.Picture, picture_id, "picture")
    target = the(session, tables.Picture, body.picture_id, "picture")
    if target.library_id != picture.library_id:
        raise ApiError("not-found", f"there is no picture {body.picture_id}")
    return redirects.redirect(session, picture, target, actor.name)


@router.delete("/pictures/{picture_id}/redirect", status_code=204, summary="Answer with the picture itself")
def delete_redirect(picture_id: Id, actor: Treating, session: Session) -> None:
    redirects.take_back(session, the(session, tables.Picture, picture_id, "picture"))

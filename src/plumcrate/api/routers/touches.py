"""Touch-ups: the steps of a picture, on record and tried; and the same steps for several."""

from __future__ import annotations

from fastapi import Request, Response

from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Looking, Mending, Treating
from plumcrate.api.service import service_of
from plumcrate.contract.touches import TouchedPicture, TouchedView, Touches, TouchesFor
from plumcrate.records import tables
from plumcrate.renditions.touch_ups import add_touches, save_touches, touched_view

from .deps import Id, Session, Slug, TheDatabase, router_of, the, the_library

router = router_of("touches")


@router.get("/pictures/{picture_id}/touches", summary="A picture's touch-ups")
def touches(picture_id: Id, actor: Looking, session: Session, response: Response) -> TouchedPicture:
    view = touched_view(session, the(session, tables.Picture, picture_id, "picture"))
    return tagged(response, view, _steps(view))


@router.put("/pictures/{picture_id}/touches", summary="Touch a picture up")
def save(picture_id: Id, body: Touches, actor: Mending, session: Session, based: BasedOn) -> TouchedPicture:
    """All its steps, in order; none takes all back. The next run makes the picture, its copies and its
    sizes so, always from the original: any number of changes costs one generation."""
    picture = the(session, tables.Picture, picture_id, "picture")
    based.on(_steps(touched_view(session, picture)))
    save_touches(session, picture, body, actor.name)
    session.refresh(picture)
    view = touched_view(session, picture)
    return based.tagged(view, _steps(view))


def _steps(view: TouchedPicture) -> Touches:
    """What can be changed of it."""
    return Touches(steps=view.steps, original=view.original)


@router.post("/libraries/{slug}/touches", summary="Touch several pictures up", status_code=204)
def save_several(slug: Slug, body: TouchesFor, actor: Treating, session: Session) -> None:
    """Adds the same steps to each; steps that mean a place in one picture are refused."""
    add_touches(session, the_library(session, slug), body, actor.name)


@router.post(
    "/pictures/{picture_id}/view",
    summary="Look at touch-ups before they are saved",
    response_class=Response,
    responses={200: {"content": {"image/webp": {}}, "description": "WebP, upright"}},
)
def view(
    picture_id: Id, body: TouchedView, actor: Looking, database: TheDatabase, request: Request
) -> Response:
    """A part of the picture at its own size, or the whole of it small, as these steps would make it; the
    width and height of the whole are in ``Plumcrate-Size``."""
    toucher = service_of(request).toucher
    with database.begin() as session:
        picture = the(session, tables.Picture, picture_id, "picture")
    data, (width, height) = toucher.view(picture, body)
    headers = {"Plumcrate-Size": f"{width}x{height}", "Cache-Control": "no-store"}
    return Response(data, media_type="image/webp", headers=headers)

"""Watermarks that are laid over what visitors are served."""

from __future__ import annotations

from typing import Annotated

from fastapi import Body, Request, Response

from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Administering, Looking
from plumcrate.api.problems import ApiError
from plumcrate.api.service import service_of
from plumcrate.contract.sizes import SizeName
from plumcrate.contract.touches import WatermarkRule, WatermarkSettings
from plumcrate.renditions import watermarks as work

from .deps import Session, Slug, Stamp, router_of, the_library

router = router_of("watermarks")

#: Bytes of a watermark's picture.
_MOST = 5_000_000


@router.get("/libraries/{slug}/watermarks", summary="The library's watermarks")
def watermarks(slug: Slug, actor: Looking, session: Session) -> list[WatermarkRule]:
    """In the order in which they are asked: the first that fits a file is laid over it."""
    return work.watermarks(session, the_library(session, slug))


@router.get("/libraries/{slug}/watermarks/{name}", summary="One watermark")
def watermark(
    slug: Slug, name: SizeName, actor: Looking, session: Session, response: Response
) -> WatermarkRule:
    found = work.watermark(session, the_library(session, slug), name)
    if found is None:
        raise ApiError("not-found", f"there is no watermark {name}")
    return tagged(response, found, found.settings)


@router.put("/libraries/{slug}/watermarks/{name}", summary="Define a watermark, or change it")
def save(
    slug: Slug,
    name: SizeName,
    body: WatermarkSettings,
    actor: Administering,
    session: Session,
    request: Request,
    based: BasedOn,
) -> WatermarkRule:
    """The next run makes the files it fits anew, with it. One without words needs a picture."""
    library = the_library(session, slug)
    former = work.watermark(session, library, name)
    based.on(former.settings if former is not None else None)
    saved = work.save_watermark(session, library, name, body, actor.name, service_of(request).sandbox)
    return based.tagged(saved, saved.settings)


@router.put(
    "/libraries/{slug}/watermarks/{name}/picture",
    summary="Give a watermark its picture",
    openapi_extra={
        "requestBody": {"required": True, "content": {"application/octet-stream": {"schema": {}}}}
    },
)
def picture(
    slug: Slug,
    name: SizeName,
    actor: Administering,
    session: Session,
    request: Request,
    data: Annotated[bytes, Body(media_type="application/octet-stream")],
) -> WatermarkRule:
    """A PNG or WebP with transparency, of up to 5 MB: the request's body."""
    if len(data) > _MOST:
        raise ApiError("too-large", f"a watermark's picture has at most {_MOST / 1e6:.0f} MB")
    return work.set_picture(session, the_library(session, slug), name, data, service_of(request).sandbox)


@router.get(
    "/libraries/{slug}/watermarks/{name}/picture",
    summary="A watermark's picture",
    response_class=Response,
    responses={200: {"content": {"application/octet-stream": {}}, "description": "As it was sent"}},
)
def the_picture(
    slug: Slug, name: SizeName, actor: Looking, session: Session, stamp: Stamp = None
) -> Response:
    data = work.picture_of(session, the_library(session, slug), name)
    kind = "image/png" if data.startswith(b"\x89PNG") else "image/webp"
    return Response(data, media_type=kind, headers={"Cache-Control": "private, no-cache"})


@router.delete("/libraries/{slug}/watermarks/{name}", status_code=204, summary="Remove a watermark")
def remove(slug: Slug, name: SizeName, actor: Administering, session: Session) -> None:
    """The next run brings the unmarked files back."""
    work.remove_watermark(session, the_library(session, slug), name)

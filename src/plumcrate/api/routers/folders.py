"""Folders of the service's machine that may be connected."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from plumcrate.api.needs import Serving
from plumcrate.api.problems import ApiError
from plumcrate.api.service import service_of
from plumcrate.contract.folders import FolderView
from plumcrate.imaging import ImagingError
from plumcrate.intake import offering
from plumcrate.sandbox.children import SandboxError

from .deps import PLAIN, Session, TheSettings, router_of

router = router_of("folders")

_Path = Annotated[str, Query(max_length=4_000, pattern=PLAIN)]


@router.get("/folders", summary="Folders that may be connected")
def folders(
    actor: Serving,
    session: Session,
    settings: TheSettings,
    path: Annotated[str | None, Query(max_length=4_000, pattern=PLAIN)] = None,
) -> FolderView:
    """What is in one, looked at for a moment; without a path, the folders that the settings offer. Nothing is
    touched."""
    return offering.offered(session, settings.offered_folders, path, settings.state_dir)


@router.get(
    "/folders/preview",
    summary="A small picture of a file that is not connected yet",
    response_class=Response,
    responses={200: {"content": {"image/webp": {}}, "description": "WebP, upright"}},
)
def preview(
    actor: Serving,
    settings: TheSettings,
    request: Request,
    path: _Path,
    width: Annotated[int, Query(ge=16, le=800)] = 400,
) -> Response:
    """Only of files in folders that the settings offer."""
    data = offering.example(settings.offered_folders, path, settings.most_bytes)
    try:
        small = service_of(request).sandbox.preview(data, width)
    except (ImagingError, SandboxError) as error:
        raise ApiError("cannot-show", str(error)) from None
    return Response(small, media_type="image/webp", headers={"Cache-Control": "private, max-age=600"})

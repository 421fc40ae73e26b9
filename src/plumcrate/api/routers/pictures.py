"""Pictures: lists, one picture whole, and the bytes of any version of a file."""

from __future__ import annotations

import hashlib
from enum import StrEnum
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from plumcrate import contract
from plumcrate.api.auth import Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract import FileState, PictureSort
from plumcrate.imaging import ImagingError
from plumcrate.imaging.identification import MEDIA_TYPES
from plumcrate.keeping.backups import BackupStore
from plumcrate.records import tables
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.queries.pictures import folders, picture_detail, pictures_page
from plumcrate.settings import Settings
from plumcrate.storage.folder import Folder
from plumcrate.work.planning import plan, settings_of
from plumcrate.work.sandbox import Sandbox, SandboxError

from .deps import Limit, Offset, Session, TheSettings, the, the_library

router = APIRouter(tags=["pictures"])


class Version(StrEnum):
    """Which bytes of a file: as it is now, as it first was, or a copy."""

    NOW = "now"
    BEFORE = "before"
    WEBP = "webp"
    AVIF = "avif"


@router.get("/libraries/{slug}/pictures", summary="List pictures")
def pictures(
    slug: str,
    person: Looking,
    session: Session,
    state: Annotated[list[FileState] | None, Query()] = None,
    folder: str | None = None,
    search: Annotated[str | None, Query(max_length=200)] = None,
    format: str | None = None,
    sort: PictureSort = PictureSort.PATH,
    offset: Offset = 0,
    limit: Limit = 60,
) -> contract.Page[contract.Picture]:
    return pictures_page(
        session,
        the_library(session, slug),
        states=state or [],
        folder=folder,
        search=search,
        format=format,
        sort=sort,
        offset=offset,
        limit=limit,
    )


@router.get("/libraries/{slug}/folders", summary="Folders that hold pictures")
def the_folders(slug: str, person: Looking, session: Session) -> list[str]:
    return folders(session, the_library(session, slug))


@router.get("/pictures/{picture_id}", summary="One picture, its files and history")
def picture(picture_id: int, person: Looking, session: Session) -> contract.PictureDetail:
    return picture_detail(session, the(session, tables.Picture, picture_id, "picture"))


@router.put("/pictures/{picture_id}/own", summary="Give one picture its own level")
def own(
    picture_id: int, body: contract.OwnRequest, person: Treating, session: Session
) -> contract.PictureDetail:
    """A level for this picture alone, or ``leave`` to leave it alone for ever; the next run goes by it."""
    row = the(session, tables.Picture, picture_id, "picture")
    row.own = body.own
    session.flush()
    return picture_detail(session, row)


@router.get("/pictures/{picture_id}/plan", summary="What would happen to one picture")
def the_plan(
    picture_id: int, person: Looking, session: Session, settings: TheSettings
) -> list[contract.Plan]:
    """Which rule applies to each of its files and what a run would do; nothing is done."""
    row = the(session, tables.Picture, picture_id, "picture")
    library = session.get_one(tables.Library, row.library_id)
    recipe = settings_of(current_recipe(session, library.id))
    return plan(session, library, recipe, picture_id, settings.max_megapixels)


@router.get(
    "/files/{file_id}/content",
    summary="The bytes of a file",
    response_class=Response,
    responses={200: {"content": {"image/*": {}}, "description": "The file's bytes"}},
)
def content(
    file_id: int,
    person: Looking,
    session: Session,
    settings: TheSettings,
    request: Request,
    version: Version = Version.NOW,
) -> Response:
    """A file as it is now, as it was before any treatment, or one of its copies."""
    file = the(session, tables.File, file_id, "file")
    kind, data = _bytes_of(session, settings, file, version)
    etag = f'"{hashlib.sha256(data).hexdigest()[:32]}"'
    headers = {
        "ETag": etag,
        "Cache-Control": "private, no-cache",
        "X-Content-Type-Options": "nosniff",
        # An SVG opened by itself must not run scripts with the console's rights.
        "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; sandbox",
    }
    if request.headers.get("if-none-match") == etag:
        return Response(status_code=304, headers=headers)
    return Response(data, media_type=MEDIA_TYPES.get(kind or "", "application/octet-stream"), headers=headers)


@router.get(
    "/files/{file_id}/preview",
    summary="A small picture for lists",
    response_class=Response,
    responses={200: {"content": {"image/webp": {}}, "description": "WebP, upright"}},
)
def preview(
    file_id: int,
    person: Looking,
    session: Session,
    settings: TheSettings,
    request: Request,
    width: Annotated[int, Query(ge=16, le=800)] = 320,
) -> Response:
    file = the(session, tables.File, file_id, "file")
    tag = hashlib.sha256(f"{file.path}:{file.mtime_ns}:{file.size_now}:{width}".encode()).hexdigest()[:32]
    headers = {"ETag": f'"{tag}"', "Cache-Control": "private, max-age=60"}
    if request.headers.get("if-none-match") == headers["ETag"]:
        return Response(status_code=304, headers=headers)
    place = settings.state_dir / "previews" / tag[:2] / f"{tag}.webp"
    if not place.exists():
        _, data = _bytes_of(session, settings, file, Version.NOW)
        sandbox: Sandbox = request.app.state.sandbox
        try:
            small = sandbox.preview(data, width, round(settings.max_megapixels * 1e6))
        except (ImagingError, SandboxError) as error:
            raise ApiError("cannot-show", str(error)) from None
        place.parent.mkdir(parents=True, exist_ok=True)
        staged = place.with_suffix(f".{id(small):x}")
        staged.write_bytes(small)
        staged.replace(place)
    return Response(place.read_bytes(), media_type="image/webp", headers=headers)


def _bytes_of(
    session: Session, settings: Settings, file: tables.File, version: Version
) -> tuple[str | None, bytes]:
    library = session.get_one(tables.Library, file.library_id)
    if version is Version.NOW or (version is Version.BEFORE and file.before_sha256 is None):
        return file.format, Folder(library.root).read(file.path)
    if version is Version.BEFORE:
        assert file.before_sha256 is not None
        return file.format, BackupStore(settings.backups_of(library.slug)).get(file.before_sha256)
    copy = next((copy for copy in file.copies if copy.kind == version), None)
    if copy is None:
        raise ApiError("no-version", f"{file.path} has no {version} copy")
    return copy.kind, Folder(library.root).read(copy.path)

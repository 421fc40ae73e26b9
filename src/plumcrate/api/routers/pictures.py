"""Pictures: lists, one picture whole, and the bytes of any version of a file."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from functools import partial
from pathlib import Path
from typing import Annotated, BinaryIO

import anyio
import anyio.to_thread
from fastapi import Query, Request, Response
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from plumcrate import contract
from plumcrate.api.auth import Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract import FileState, PictureSort
from plumcrate.imaging import ImagingError
from plumcrate.imaging.identification import MEDIA_TYPES
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records import tables
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.queries.pictures import folders, picture_detail, pictures_page
from plumcrate.settings import Settings
from plumcrate.work.planning import plan, settings_of
from plumcrate.work.sandbox import Sandbox, SandboxError

from .deps import (
    PLAIN,
    Id,
    Limit,
    Offset,
    Session,
    Slug,
    TheDatabase,
    TheSettings,
    TheState,
    router_of,
    the,
    the_library,
)

router = router_of("pictures")

Text = Annotated[str | None, Query(max_length=2000, pattern=PLAIN)]


class Version(StrEnum):
    """Which bytes of a file: as it is now, as it first was, or a copy."""

    NOW = "now"
    BEFORE = "before"
    WEBP = "webp"
    AVIF = "avif"
    JPEG = "jpeg"
    PNG = "png"


@router.get("/libraries/{slug}/pictures", summary="List pictures")
def pictures(
    slug: Slug,
    person: Looking,
    session: Session,
    state: Annotated[list[FileState] | None, Query()] = None,
    folder: Text = None,
    search: Text = None,
    format: Text = None,
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
def the_folders(slug: Slug, person: Looking, session: Session) -> list[str]:
    return folders(session, the_library(session, slug))


@router.get("/pictures/{picture_id}", summary="One picture, its files and history")
def picture(picture_id: Id, person: Looking, session: Session) -> contract.PictureDetail:
    return picture_detail(session, the(session, tables.Picture, picture_id, "picture"))


@router.put("/pictures/{picture_id}/own", summary="Give one picture its own level")
def own(
    picture_id: Id, body: contract.OwnRequest, person: Treating, session: Session
) -> contract.PictureDetail:
    """A level for this picture alone, or ``leave`` to leave it alone for ever; the next run goes by it."""
    row = the(session, tables.Picture, picture_id, "picture")
    row.own = body.own
    session.flush()
    return picture_detail(session, row)


@router.get("/pictures/{picture_id}/plan", summary="What would happen to one picture")
def the_plan(picture_id: Id, person: Looking, session: Session, settings: TheSettings) -> list[contract.Plan]:
    """Which rule applies to each of its files and what a run would do; nothing is done."""
    row = the(session, tables.Picture, picture_id, "picture")
    library = session.get_one(tables.Library, row.library_id)
    recipe = settings_of(current_recipe(session, library.id))
    return plan(session, library, recipe, picture_id, settings.max_megapixels)


@router.get(
    "/files/{file_id}/content",
    summary="The bytes of a file",
    response_class=Response,
    responses={
        200: {
            "content": {"application/octet-stream": {}},
            "description": "The file's bytes, as their own type",
        },
        304: {"description": "Not changed"},
    },
)
async def content(
    file_id: Id,
    person: Looking,
    database: TheDatabase,
    state: TheState,
    request: Request,
    version: Version = Version.NOW,
) -> Response:
    """A file as it is now, as it was before any treatment, or one of its copies."""
    found = await run_in_threadpool(_find, database, state, file_id, version)
    headers = {"ETag": f'"{found.tag}"', "Cache-Control": "private, no-cache"}
    if found.format not in SHOWN_INLINE:
        # Opened by itself such a file must not run scripts with the console's rights.
        headers["Content-Disposition"] = "attachment"
        headers["Content-Security-Policy"] = "default-src 'none'; style-src 'unsafe-inline'; sandbox"
    if request.headers.get("if-none-match") == headers["ETag"]:
        return Response(status_code=304, headers=headers)
    file = await run_in_threadpool(found.open)
    media_type = MEDIA_TYPES.get(found.format or "", "application/octet-stream")
    return StreamingResponse(_chunks(file), media_type=media_type, headers=headers)


@router.get(
    "/files/{file_id}/preview",
    summary="A small picture for lists",
    response_class=Response,
    responses={
        200: {"content": {"image/webp": {}}, "description": "WebP, upright"},
        304: {"description": "Not changed"},
    },
)
async def preview(
    file_id: Id,
    person: Looking,
    database: TheDatabase,
    state: TheState,
    settings: TheSettings,
    request: Request,
    width: Annotated[int, Query(ge=16, le=800)] = 320,
) -> Response:
    found = await run_in_threadpool(_find, database, state, file_id, Version.NOW)
    tag = hashlib.sha256(f"{found.tag}:{width}".encode()).hexdigest()[:32]
    headers = {"ETag": f'"{tag}"', "Cache-Control": "private, max-age=60"}
    if request.headers.get("if-none-match") == headers["ETag"]:
        return Response(status_code=304, headers=headers)
    place = settings.state_dir / "previews" / tag[:2] / f"{tag}.webp"
    if not place.exists():
        threads: anyio.CapacityLimiter = request.app.state.preview_threads
        if threads.statistics().tasks_waiting >= _MOST_WAITING:
            raise ApiError("busy", "many previews are being made; ask again in a moment")
        make = partial(_make_preview, request.app.state.sandbox, settings, found, width, place)
        await anyio.to_thread.run_sync(make, limiter=threads)
    return Response(await run_in_threadpool(place.read_bytes), media_type="image/webp", headers=headers)


def _make_preview(sandbox: Sandbox, settings: Settings, found: Found, width: int, place: Path) -> None:
    if place.exists():
        return
    if found.size > settings.max_file_mb * 1_000_000:
        raise ApiError("cannot-show", f"{found.path} is too large to be shown small")
    with found.open() as file:
        data = file.read()
    try:
        small = sandbox.preview(data, width, round(settings.max_megapixels * 1e6))
    except (ImagingError, SandboxError) as error:
        raise ApiError("cannot-show", str(error)) from None
    place.parent.mkdir(parents=True, exist_ok=True)
    staged = place.with_suffix(f".{secrets.token_hex(6)}")
    staged.write_bytes(small)
    staged.replace(place)


#: More previews than this are not waited for.
_MOST_WAITING = 150
_CHUNK = 1 << 18
#: What browsers show without running anything.
SHOWN_INLINE = frozenset(("jpeg", "png", "gif", "webp", "avif", "bmp"))


@dataclass(frozen=True, slots=True)
class Found:
    """Some bytes of a file: how they are opened, and what tells them from others."""

    path: str
    format: str | None
    size: int
    tag: str
    open: Callable[[], BinaryIO]


def _find(database: Database, state: StateFolder, file_id: int, version: Version) -> Found:
    with database.begin() as session:
        file = the(session, tables.File, file_id, "file")
        library = session.get_one(tables.Library, file.library_id)
    keeper = Keeper.of(database, library, state)
    if version is Version.BEFORE and file.before_sha256 is not None:
        sha = file.before_sha256
        return Found(file.path, file.format, file.size_before, sha.hex(), lambda: keeper.backups.open(sha))
    path, kind, size = file.path, file.format, file.size_now
    tag = hashlib.sha256(f"{file.id}:{file.path}:{file.mtime_ns}:{size}".encode()).hexdigest()
    if version not in (Version.NOW, Version.BEFORE):
        copy = next((copy for copy in file.copies if copy.kind == version), None)
        if copy is None:
            raise ApiError("no-version", f"{file.path} has no {version} copy")
        path, kind, size, tag = copy.path, copy.kind, copy.size, copy.sha256.hex()
    return Found(path, kind, size, tag, lambda: keeper.store.open(path))


def _chunks(file: BinaryIO) -> Iterator[bytes]:
    with file:
        while chunk := file.read(_CHUNK):
            yield chunk

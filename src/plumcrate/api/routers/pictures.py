"""Pictures: lists, one picture whole, the bytes of any version of a file, and the formats there are."""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import Annotated, BinaryIO

from anyio import to_thread
from fastapi import Depends, Query, Request, Response
from fastapi.responses import StreamingResponse
from sqlalchemy import func, select, update
from starlette.concurrency import run_in_threadpool

from plumcrate.api.acts import act_of
from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Looking, Mending, need
from plumcrate.api.problems import ApiError
from plumcrate.api.service import service_of
from plumcrate.contract.common import Level, Page
from plumcrate.contract.people import Ability
from plumcrate.contract.pictures import (
    Changed,
    Copied,
    Facets,
    FileState,
    Format,
    OverrideRequest,
    OverridesRequest,
    OwnRule,
    Picture,
    PictureDetail,
    PictureFilter,
    PictureSort,
    Purpose,
    SavingClass,
    ScoreClass,
    WeightClass,
)
from plumcrate.contract.recipes import FilePlan, Trial, TrialRequest
from plumcrate.deciding.planning import plan, settings_of
from plumcrate.delivery.conditions import Validators, judge
from plumcrate.imaging.formats import COPIES, FORMATS
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.keeping.versions import BEFORE, NOW, NoVersion, Version, version_of
from plumcrate.previews.previews import USUAL_WIDTH, CannotShow
from plumcrate.records import tables
from plumcrate.records.database import Database
from plumcrate.records.queries.facets import facets, fits
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.queries.pictures import folders, picture_at, picture_detail, pictures_page

from .deps import (
    PLAIN,
    After,
    Id,
    Limit,
    Session,
    Slug,
    Stamp,
    TheDatabase,
    TheState,
    router_of,
    the,
    the_library,
)

router = router_of("pictures")

Text = Annotated[str | None, Query(max_length=2000, pattern=PLAIN)]
#: Which bytes of a file: as it is now, as it first was, or what we made beside it, by its format, and of
#: leaner copies by their purpose too.
_VERSIONS = (
    NOW,
    BEFORE,
    *(name for name, format in FORMATS.items() if format.shown),
    *(f"{Purpose.SAVE_DATA}-{name}" for name in COPIES),
)
VersionName = Annotated[str, Query(pattern=f"^({'|'.join(_VERSIONS)})$")]


@router.get("/formats", summary="The picture formats known here")
def formats(actor: Looking) -> list[Format]:
    """Their names, endings and media types, and what is done with each."""
    return [Format.model_validate(format, from_attributes=True) for format in FORMATS.values()]


def _filter(
    state: Annotated[list[FileState] | None, Query()] = None,
    folder: Text = None,
    search: Text = None,
    format: Annotated[list[Annotated[str, Query(max_length=30, pattern=PLAIN)]] | None, Query()] = None,
    weight: Annotated[list[WeightClass] | None, Query()] = None,
    saving: Annotated[list[SavingClass] | None, Query()] = None,
    score: Annotated[list[ScoreClass] | None, Query()] = None,
    copied: Annotated[list[Copied] | None, Query()] = None,
    rule: Annotated[list[OwnRule] | None, Query()] = None,
) -> PictureFilter:
    return PictureFilter(
        state=state or [],
        folder=folder,
        search=search,
        format=format or [],
        weight=weight or [],
        saving=saving or [],
        score=score or [],
        copied=copied or [],
        rule=rule or [],
    )


Filter = Annotated[PictureFilter, Depends(_filter)]


@router.get("/libraries/{slug}/pictures", summary="List pictures")
def pictures(
    slug: Slug,
    actor: Looking,
    session: Session,
    request: Request,
    filter: Filter,
    path: Annotated[
        str | None, Query(max_length=2000, pattern=PLAIN, description="This path exactly.")
    ] = None,
    sort: PictureSort = PictureSort.PATH,
    limit: Limit = 60,
    after: After = None,
    previews: Annotated[
        bool, Query(description="Small pictures of the page will be asked for next.")
    ] = False,
) -> Page[Picture]:
    """``path`` finds the one picture at it; with ``previews`` the page's small pictures are made
    meanwhile."""
    library = the_library(session, slug)
    if path is not None:
        return picture_at(session, library, path)
    page = pictures_page(session, library, filter, sort, limit=limit, after=after)
    if previews:
        service_of(request).previews.ahead([picture.original_id for picture in page.rows])
    return page


@router.get("/libraries/{slug}/facets", summary="What a filter finds, and what more could be chosen")
def the_facets(slug: Slug, actor: Looking, session: Session, filter: Filter) -> Facets:
    """Counts and weights for each choice, of the pictures that fit all other choices."""
    return facets(session, the_library(session, slug), filter)


@router.put("/libraries/{slug}/overrides", summary="Override the recipe for many pictures")
def overrides(
    slug: Slug, body: OverridesRequest, actor: Mending, session: Session, request: Request
) -> Changed:
    """A level for these pictures, ``leave`` to leave them alone, or null for the recipe.

    To leave them alone, and to take that back, the right to mend is enough."""
    act_of(request).detail = body.model_dump_json(exclude_defaults=True, exclude={"pictures"})[:2000]
    library = the_library(session, slug)
    these = [tables.Picture.library_id == library.id]
    these += fits(body.which) if body.which else [tables.Picture.id == func.any(body.pictures)]
    levels = [str(level) for level in Level]
    if body.override in levels or session.scalar(
        select(tables.Picture.id).where(*these, tables.Picture.override.in_(levels)).limit(1)
    ):
        need(actor, library, Ability.TREAT)
    changed = session.execute(
        update(tables.Picture)
        .where(*these, tables.Picture.override.is_distinct_from(body.override))
        .values(override=body.override)
        .execution_options(synchronize_session=False)
    )
    return Changed(pictures=int(getattr(changed, "rowcount", 0)))


@router.get("/libraries/{slug}/folders", summary="Folders that hold pictures")
def the_folders(slug: Slug, actor: Looking, session: Session) -> list[str]:
    return folders(session, the_library(session, slug))


@router.get("/pictures/{picture_id}", summary="One picture, its files and history")
def picture(picture_id: Id, actor: Looking, session: Session, response: Response) -> PictureDetail:
    """Its `ETag` is of its own rule; it comes back as `If-Match` when that is changed."""
    row = the(session, tables.Picture, picture_id, "picture")
    return tagged(response, picture_detail(session, row), OverrideRequest(override=row.override))


@router.put("/pictures/{picture_id}/override", summary="Override the recipe for one picture")
def override(
    picture_id: Id, body: OverrideRequest, actor: Mending, session: Session, based: BasedOn
) -> PictureDetail:
    """A level for this picture alone, or ``leave`` to leave it alone for ever; the next run goes by it.

    To leave it alone, and to take that back, the right to mend is enough."""
    row = the(session, tables.Picture, picture_id, "picture")
    if {body.override, row.override} - {None, "leave"}:
        need(actor, session.get_one(tables.Library, row.library_id), Ability.TREAT)
    based.on(OverrideRequest(override=row.override))
    row.override = body.override
    session.flush()
    return based.tagged(picture_detail(session, row), body)


@router.get("/pictures/{picture_id}/plan", summary="What would happen to one picture")
def the_plan(picture_id: Id, actor: Looking, session: Session) -> list[FilePlan]:
    """Which rule applies to each of its files and what a run would do; nothing is done."""
    row = the(session, tables.Picture, picture_id, "picture")
    library = session.get_one(tables.Library, row.library_id)
    return plan(session, library, settings_of(current_recipe(session, library.id)), picture_id)


@router.post("/pictures/{picture_id}/trial", summary="Try settings on a part of a picture")
async def trial(
    picture_id: Id, body: TrialRequest, actor: Looking, database: TheDatabase, request: Request
) -> Trial:
    """What a recipe, or another level, makes of a part of the original: files, bytes and scores. Nothing is
    changed. One is made at a time."""
    service = service_of(request)

    def attempt() -> Trial:
        with database.reading() as session:
            picture = the(session, tables.Picture, picture_id, "picture")
        return service.trier.attempt(picture, body)

    return await to_thread.run_sync(attempt, limiter=service.trial_threads)


@router.get(
    "/files/{file_id}/content",
    summary="The bytes of a file",
    response_class=Response,
    responses={
        200: {
            "content": {"application/octet-stream": {}},
            "description": "The file's bytes, as their own type",
        },
        206: {"description": "The part that was asked for"},
        304: {"description": "Not changed"},
        412: {"description": "Not the version that was asked for"},
        416: {"description": "There is no such part"},
    },
)
async def content(
    file_id: Id,
    actor: Looking,
    database: TheDatabase,
    state: TheState,
    request: Request,
    version: VersionName = NOW,
    stamp: Stamp = None,
) -> Response:
    """A file as it is now, as it was before any treatment, or what was made beside it in a format. Of a file
    that made way for its conversion, ``now`` is the conversion. Conditions and ranges are those of RFC
    9110."""
    chosen = await run_in_threadpool(_version, database, state, file_id, version)
    file = await run_in_threadpool(chosen.open)
    # The file's own length: it may have been written to since it was recorded.
    now = Validators(f'"{chosen.tag}"', chosen.modified, file.seek(0, os.SEEK_END))
    verdict = judge(request.headers, now)
    headers = {
        "ETag": now.tag,
        "Last-Modified": now.last_modified,
        "Cache-Control": "private, no-cache",
        "Accept-Ranges": "bytes",
    }
    if verdict.status not in (200, 206):
        file.close()
        if verdict.status == 416:
            headers["Content-Range"] = f"bytes */{now.size}"
        return Response(status_code=verdict.status, headers=headers)
    format = FORMATS.get(chosen.format or "")
    if format is None or not format.shown:
        # Opened by itself such a file must not run scripts with the console's rights.
        headers["Content-Disposition"] = "attachment"
        headers["Content-Security-Policy"] = "default-src 'none'; style-src 'unsafe-inline'; sandbox"
    length = verdict.last - verdict.first + 1
    headers["Content-Length"] = str(length)
    if verdict.status == 206:
        headers["Content-Range"] = f"bytes {verdict.first}-{verdict.last}/{now.size}"
    media_type = format.media_type if format else "application/octet-stream"
    body = _chunks(file, verdict.first, length)
    return StreamingResponse(body, verdict.status, media_type=media_type, headers=headers)


def _version(database: Database, state: StateFolder, file_id: int, name: str) -> Version:
    with database.begin() as session:
        file = the(session, tables.File, file_id, "file")
        library = session.get_one(tables.Library, file.library_id)
    try:
        return version_of(Keeper.of(database, library, state), file, name)
    except NoVersion as error:
        raise ApiError("no-version", str(error)) from None


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
    actor: Looking,
    request: Request,
    width: Annotated[int, Query(ge=16, le=1600)] = USUAL_WIDTH,
    version: VersionName = NOW,
    stamp: Stamp = None,
) -> Response:
    previews = service_of(request).previews
    try:
        source = await run_in_threadpool(previews.source, file_id, width, version)
    except NoVersion as error:
        raise ApiError("no-version", str(error)) from None
    if source is None:
        raise ApiError("not-found", f"there is no file {file_id}")
    headers = {"ETag": f'"{source.tag}"', "Cache-Control": "private, max-age=60"}
    if request.headers.get("if-none-match") == headers["ETag"]:
        return Response(status_code=304, headers=headers)
    try:
        small = await previews.bytes_of(source, width)
    except CannotShow as error:
        raise ApiError("cannot-show", str(error)) from None
    return Response(small, media_type="image/webp", headers=headers)


_CHUNK = 1 << 18


def _chunks(file: BinaryIO, first: int, length: int) -> Iterator[bytes]:
    with file:
        file.seek(first)
        while length and (chunk := file.read(min(_CHUNK, length))):
            length -= len(chunk)
            yield chunk

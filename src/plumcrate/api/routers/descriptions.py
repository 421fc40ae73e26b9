"""Descriptions: what pictures say, one by one and many at once, out to files and in from them."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator
from typing import Annotated, BinaryIO, TypeVar, cast

import anyio.to_thread
from fastapi import Query, Request, Response
from fastapi.responses import StreamingResponse
from sqlalchemy.orm import Session as OrmSession

from plumcrate.api.acts import act_of
from plumcrate.api.conditions import BasedOn, IfMatch, tagged
from plumcrate.api.needs import Administering, Looking, Mending
from plumcrate.api.service import service_of
from plumcrate.contract.common import Page
from plumcrate.contract.descriptions import (
    BulkRequest,
    BulkResult,
    Description,
    DescriptionChange,
    DescriptionFilter,
    DescriptionRule,
    DescriptionSettings,
    DescriptionsSummary,
    ImportResult,
    Language,
    SearchTerm,
    TermsTaken,
    Texts,
    Undone,
)
from plumcrate.descriptions import changing, exchange, listing, terms
from plumcrate.descriptions.bulk import change_many
from plumcrate.records import tables
from plumcrate.records.database import Database
from plumcrate.records.tables import Library

from .deps import (
    PLAIN,
    After,
    Id,
    Session,
    Slug,
    TheDatabase,
    router_of,
    the,
    the_library,
    version_of,
)

router = router_of("descriptions")

_IN_MEMORY = 4_000_000
Text = Annotated[str | None, Query(max_length=2000, pattern=PLAIN)]
Tongue = Annotated[Language, Query(description="A language's tag, such as en or de-CH.")]
Preview = Annotated[bool, Query(description="Only tell what would change.")]
Taken = TypeVar("Taken")


@router.get("/libraries/{slug}/descriptions", summary="Pictures and what they say")
def descriptions(
    slug: Slug,
    actor: Looking,
    session: Session,
    request: Request,
    language: Tongue = "en",
    wanting: Annotated[list[DescriptionRule] | None, Query()] = None,
    folder: Text = None,
    search: Text = None,
    page_id: Annotated[int | None, Query(ge=1, le=2**63 - 1)] = None,
    used: bool | None = None,
    limit: Annotated[int, Query(ge=1, le=100)] = 30,
    after: After = None,
    previews: Annotated[
        bool, Query(description="Small pictures of the page will be asked for next.")
    ] = False,
) -> Page[Description]:
    """By path, described or not, with what is wanting, what could be said, and where pages show them."""
    filter = DescriptionFilter(
        wanting=wanting or [], folder=folder, search=search, page_id=page_id, used=used
    )
    library = the_library(session, slug)
    page = listing.descriptions_page(session, library, language, filter, limit=limit, after=after)
    if previews:
        service_of(request).previews.ahead([row.original_id for row in page.rows if row.original_id])
    return page


@router.get("/libraries/{slug}/descriptions/summary", summary="How far a library is described")
def the_summary(slug: Slug, actor: Looking, session: Session, language: Tongue = "en") -> DescriptionsSummary:
    """Counts for the library, by what is wanting, and for each weighed page."""
    return listing.summary(session, the_library(session, slug), language)


@router.get("/pictures/{picture_id}/descriptions", summary="What a picture says, in every language")
def of_picture(picture_id: Id, actor: Looking, session: Session) -> list[Description]:
    """In each language that the library has."""
    picture = the(session, tables.Picture, picture_id, "picture")
    library = session.get_one(Library, picture.library_id)
    languages = listing.settings_of(library).languages
    return [listing.description_of(session, library, language, picture) for language in languages]


@router.put("/pictures/{picture_id}/descriptions/{language}", summary="Say what a picture says")
def describe(
    picture_id: Id,
    language: Language,
    body: Texts,
    actor: Mending,
    session: Session,
    response: Response,
    if_match: IfMatch = None,
) -> Description:
    """All texts of the language at once. With the `If-Match` of the version that was changed (`"0"` where
    nobody had described it), what somebody else wrote meanwhile is not overwritten: 412 says who it was."""
    picture = the(session, tables.Picture, picture_id, "picture")
    library = session.get_one(Library, picture.library_id)
    changing.save(session, library, picture, language, body, actor.name, based_on=version_of(if_match))
    description = listing.description_of(session, library, language, picture)
    response.headers["ETag"] = f'"{description.version}"'
    return description


@router.post("/libraries/{slug}/descriptions/change", summary="Change many descriptions at once")
def change(slug: Slug, body: BulkRequest, actor: Mending, session: Session, request: Request) -> BulkResult:
    """Take suggestions, find and replace, fill in a pattern, or say that pictures are decorative. It is one
    change, which can be undone. With `preview` nothing is changed."""
    act = act_of(request)
    act.silent = body.preview
    act.detail = body.model_dump_json(exclude_defaults=True, exclude={"pictures"})[:2000]
    return change_many(session, the_library(session, slug), body, actor.name)


@router.get("/libraries/{slug}/description-changes", summary="The latest changes of descriptions")
def the_changes(slug: Slug, actor: Looking, session: Session) -> list[DescriptionChange]:
    return listing.changes(session, the_library(session, slug))


@router.post(
    "/libraries/{slug}/description-changes/{change_id}/undo", summary="Undo a change of descriptions"
)
def undo(slug: Slug, change_id: Id, actor: Mending, session: Session) -> Undone:
    """Each text goes back to what it was, unless somebody changed it again since."""
    return changing.undo(session, the_library(session, slug), change_id, actor.name)


@router.get("/libraries/{slug}/description-settings", summary="How a library's pictures are described")
def settings(slug: Slug, actor: Looking, session: Session, response: Response) -> DescriptionSettings:
    found = listing.settings_of(the_library(session, slug))
    return tagged(response, found, found)


@router.put("/libraries/{slug}/description-settings", summary="Change how pictures are described")
def save_settings(
    slug: Slug, body: DescriptionSettings, actor: Administering, session: Session, based: BasedOn
) -> DescriptionSettings:
    """Languages, rules that are switched on, and how long a text may be. No text is changed."""
    library = the_library(session, slug)
    former = listing.settings_of(library)
    based.on(former)
    library.descriptions = body.model_dump(mode="json")
    session.flush()
    if body.longest != former.longest:
        changing.judge_again(session, library)
    return based.tagged(body, body)


@router.get("/libraries/{slug}/search-terms", summary="What people search the site for")
def the_terms(slug: Slug, actor: Looking, session: Session) -> list[SearchTerm]:
    """The 500 that are searched most."""
    return terms.terms_view(session, the_library(session, slug))


@router.put("/libraries/{slug}/search-terms", summary="Take in search terms")
async def put_terms(slug: Slug, request: Request, actor: Mending, database: TheDatabase) -> TermsTaken:
    """The body is a CSV with a column `term` and, if there is one, `count`. It replaces what was there."""

    def take(session: OrmSession, library: Library, file: BinaryIO) -> TermsTaken:
        taken = terms.take_terms(session, library, file)
        changing.judge_again(session, library)
        return taken

    return await _taken(request, database, slug, take)


@router.get("/libraries/{slug}/descriptions/csv", summary="All descriptions as a table")
def as_csv(slug: Slug, actor: Looking, database: TheDatabase, language: Tongue = "en") -> StreamingResponse:
    """UTF-8 with its mark; nothing in it runs in a spreadsheet. `PUT` takes it back in."""
    with database.reading() as session:
        library = the_library(session, slug)
    return _file(exchange.as_csv(database, library, language), "text/csv", f"{slug}-{language}.csv")


@router.put("/libraries/{slug}/descriptions/csv", summary="Take in descriptions from a table")
async def put_csv(
    slug: Slug,
    request: Request,
    actor: Mending,
    database: TheDatabase,
    language: Tongue = "en",
    preview: Preview = False,
    clear: Annotated[bool, Query(description="An empty cell empties the text.")] = False,
) -> ImportResult:
    """Columns are found by name: `path`, and any of `language`, `alternative`, `title`, `caption`, `credit`,
    `decorative`. A row that cannot be used is refused by itself. It is one change, which can be undone."""
    name = actor.name

    def take(session: OrmSession, library: Library, file: BinaryIO) -> ImportResult:
        return exchange.take_csv(
            session, library, file, language=language, by=name, preview=preview, clear=clear
        )

    act_of(request).silent = preview
    return await _taken(request, database, slug, take)


@router.get("/libraries/{slug}/descriptions/xliff", summary="All descriptions for translation")
def as_xliff(
    slug: Slug, actor: Looking, database: TheDatabase, source: Tongue, target: Tongue
) -> StreamingResponse:
    """XLIFF 2.1 with the texts of one language, and what is there in the other."""
    with database.reading() as session:
        library = the_library(session, slug)
    body = exchange.as_xliff(database, library, source, target)
    return _file(body, "application/xliff+xml", f"{slug}-{source}-{target}.xlf")


@router.put("/libraries/{slug}/descriptions/xliff", summary="Take in translated descriptions")
async def put_xliff(
    slug: Slug, request: Request, actor: Mending, database: TheDatabase, preview: Preview = False
) -> ImportResult:
    """XLIFF 2: the language is what it was translated into. It is one change, which can be undone."""
    name = actor.name

    def take(session: OrmSession, library: Library, file: BinaryIO) -> ImportResult:
        return exchange.take_xliff(session, library, file, by=name, preview=preview)

    act_of(request).silent = preview
    return await _taken(request, database, slug, take)


def _file(body: Iterator[bytes], kind: str, name: str) -> StreamingResponse:
    return StreamingResponse(
        body, media_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


async def _taken(
    request: Request,
    database: Database,
    slug: str,
    take: Callable[[OrmSession, Library, BinaryIO], Taken],
) -> Taken:
    """What is made of the body, in one transaction of its own: all of it, or nothing."""

    def work() -> Taken:
        with database.begin() as session:
            return take(session, the_library(session, slug), cast(BinaryIO, spool))

    with tempfile.SpooledTemporaryFile(_IN_MEMORY) as spool:
        async for piece in request.stream():
            await anyio.to_thread.run_sync(spool.write, piece)
        spool.seek(0)
        return await anyio.to_thread.run_sync(work, limiter=service_of(request).upload_threads)

"""Pages of the site: rewritten here, or with facts from here."""

from __future__ import annotations

import tempfile
from collections.abc import AsyncIterator
from contextlib import ExitStack
from email.message import Message
from typing import IO, Annotated
from urllib.parse import urljoin

from fastapi import Query, Request, Response
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from plumcrate import contract
from plumcrate.api.needs import Looking
from plumcrate.api.problems import ApiError
from plumcrate.contract import Delivery
from plumcrate.markup.page import PageStream
from plumcrate.records.database import Database
from plumcrate.work.pages import PageFacts
from plumcrate.work.placeholders import Placeholders

from .deps import PLAIN, Slug, TheDatabase, router_of, the_library

router = router_of("pages")

#: Up to so many bytes a page waits in memory, beyond on disk; so many are sent at a time.
_IN_MEMORY, _PIECE = 4 << 20, 1 << 18


@router.post("/libraries/{slug}/page-files", summary="What pages need to know of files")
def page_files(
    slug: Slug, body: contract.PageFiles, who: Looking, database: TheDatabase, request: Request
) -> list[contract.PageFile]:
    """By their paths; those that are not known are left out of the answer."""
    library_id, _ = _library(database, slug)
    facts = PageFacts(database, library_id, _placeholders(request), body.placeholder)
    return list(facts.of(body.paths).values())


@router.post(
    "/libraries/{slug}/page",
    summary="Rewrite a page",
    response_class=Response,
    responses={200: {"content": {"text/html": {}}, "description": "The page, saying the right markup"}},
    openapi_extra={
        # Anything at all may stand in a page.
        "requestBody": {"required": True, "content": {"text/html": {"schema": {}}}}
    },
)
async def page(
    slug: Slug,
    who: Looking,
    database: TheDatabase,
    request: Request,
    address: Annotated[
        str, Query(max_length=2000, pattern=PLAIN, description="Where the page is on the site.")
    ] = "/",
) -> Response:
    """The request's body is the page, in any size; it is rewritten as it comes in. Everything but the
    library's pictures stays as it is, byte for byte."""
    library_id, settings = await run_in_threadpool(_library, database, slug)
    if settings.address is None:
        raise ApiError("no-address", "say first where the site serves the library's folder: its address")
    kind = request.headers.get("content-type", "text/html")
    facts = PageFacts(database, library_id, _placeholders(request), settings.markup.placeholder)
    try:
        stream = PageStream(urljoin(settings.address, address), settings, facts.of, _charset(kind))
    except ValueError:
        raise ApiError("invalid-request", "the page's address makes no sense") from None
    rewritten = await _rewritten(request, stream)
    # Written by strangers and sent from our address: nothing in it may act in the console's name.
    headers = {"Content-Security-Policy": "default-src 'none'; sandbox"}
    return StreamingResponse(_pieces(rewritten), media_type=kind, headers=headers)


def _library(database: Database, slug: str) -> tuple[int, Delivery]:
    with database.begin() as session:
        library = the_library(session, slug)
        return library.id, Delivery.model_validate(library.delivery)


def _placeholders(request: Request) -> Placeholders:
    placeholders: Placeholders = request.app.state.placeholders
    return placeholders


def _charset(content_type: str) -> str | None:
    message = Message()
    message["content-type"] = content_type
    return message.get_content_charset()


async def _rewritten(request: Request, stream: PageStream) -> IO[bytes]:
    """Rewrites the request's body as it comes in; what comes out waits in memory while it is small, else on
    disk."""
    with ExitStack() as until_done:
        spool = until_done.enter_context(tempfile.SpooledTemporaryFile(_IN_MEMORY))

        def put(piece: bytes) -> None:
            spool.write(stream.feed(piece))

        async for piece in request.stream():
            await run_in_threadpool(put, piece)
        await run_in_threadpool(lambda: spool.write(stream.close()))
        spool.seek(0)
        until_done.pop_all()
        return spool


async def _pieces(file: IO[bytes]) -> AsyncIterator[bytes]:
    try:
        while piece := await run_in_threadpool(file.read, _PIECE):
            yield piece
    finally:
        file.close()

"""Pages of the site: rewritten here, or with facts from here."""

from __future__ import annotations

from collections.abc import AsyncIterator
from email.message import Message
from typing import Annotated
from urllib.parse import urljoin

from fastapi import Query, Request, Response
from starlette.concurrency import run_in_threadpool
from starlette.types import Receive, Scope, Send

from plumcrate import contract
from plumcrate.api.auth import Looking
from plumcrate.api.problems import ApiError
from plumcrate.contract import Delivery
from plumcrate.markup.page import PageStream
from plumcrate.records.database import Database
from plumcrate.work.pages import PageFacts
from plumcrate.work.placeholders import Placeholders

from .deps import PLAIN, Slug, TheDatabase, router_of, the_library

router = router_of("pages")


@router.post("/libraries/{slug}/page-files", summary="What pages need to know of files")
def page_files(
    slug: Slug, body: contract.PageFiles, person: Looking, database: TheDatabase, request: Request
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
        "requestBody": {"required": True, "content": {"text/html": {"schema": {"type": "string"}}}}
    },
)
async def page(
    slug: Slug,
    person: Looking,
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
    stream = PageStream(urljoin(settings.address, address), settings, facts.of, _charset(kind))
    return _Rewritten(stream, request, kind)


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


class _Rewritten(Response):
    """Sends a page as it is rewritten, while the rest of it comes in."""

    def __init__(self, stream: PageStream, request: Request, kind: str) -> None:
        super().__init__(media_type=kind)
        del self.headers["content-length"]
        # Written by strangers and sent from our address: nothing in it may act in the console's name.
        self.headers["Content-Security-Policy"] = "default-src 'none'; sandbox"
        self._page, self._request = stream, request

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        begun = False
        async for piece in self._pieces():
            if not begun:
                await send(
                    {"type": "http.response.start", "status": self.status_code, "headers": self.raw_headers}
                )
                begun = True
            await send({"type": "http.response.body", "body": piece, "more_body": True})
        await send({"type": "http.response.body", "body": b""})

    async def _pieces(self) -> AsyncIterator[bytes]:
        held = b""
        async for piece in self._request.stream():
            # What can fail, fails before the answer has begun.
            rewritten = await run_in_threadpool(self._page.feed, piece)
            if held:
                yield held
            held = rewritten
        rest = await run_in_threadpool(self._page.close)
        yield held + rest

"""Pages leave the site with the right markup; whatever goes wrong, as the site wrote them."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from asgiref.sync import iscoroutinefunction, markcoroutinefunction, sync_to_async
from django.http import HttpRequest

from plumcrate.client.pages import SitePages, page_headers
from plumcrate.markup.page import PageStream

from .service import service

NOTE = "plumcrate_page"


@dataclass
class PageNote:
    """What became of a page, for the debug toolbar's panel; on its request as ``plumcrate_page``.

    ``seconds``: what rewriting took, waiting for the service included; ``reason``: why the answer was left as
    it is."""

    stream: PageStream | None
    seconds: float
    reason: str = ""


class PagesMiddleware:
    """Stands after whatever packs answers, such as GZipMiddleware, in the list of middleware."""

    sync_capable = async_capable = True

    def __init__(self, get_response: Callable[[HttpRequest], Any]) -> None:
        self.get_response = get_response
        self.is_async = iscoroutinefunction(get_response)
        if self.is_async:
            markcoroutinefunction(self)

    def __call__(self, request: HttpRequest) -> Any:
        if self.is_async:
            return self._later(request)
        return _rewritten(request, self.get_response(request))

    async def _later(self, request: HttpRequest) -> Any:
        answer: Awaitable[Any] = self.get_response(request)
        return await sync_to_async(_rewritten)(request, await answer)


def _rewritten(request: HttpRequest, response: Any) -> Any:
    pages = service().pages
    headers = list(response.items())
    began = time.perf_counter()
    stream = pages.stream(request.path, response.status_code, headers)
    note = PageNote(stream, time.perf_counter() - began)
    setattr(request, NOTE, note)
    if stream is None:
        note.reason = pages.reason_left(response.status_code, headers)
        return response
    for name, _ in headers:
        del response[name]
    for name, value in page_headers(headers):
        response[name] = value
    if not response.streaming:
        response.content = _whole(pages, request.path, stream, response.content)
        note.seconds = time.perf_counter() - began
    elif response.is_async:
        response.streaming_content = _pieces_later(pages, request.path, stream, response.streaming_content)
    else:
        response.streaming_content = _pieces(pages, request.path, stream, response.streaming_content)
    return response


def _whole(pages: SitePages, path: str, stream: PageStream, content: bytes) -> bytes:
    return b"".join(_pieces(pages, path, stream, [content]))


def _pieces(pages: SitePages, path: str, stream: PageStream, content: Iterable[bytes]) -> Iterator[bytes]:
    for piece in content:
        yield stream.feed(piece)
    yield stream.close()
    if stream.fault is not None:
        pages.note(path, stream.fault)


async def _pieces_later(
    pages: SitePages, path: str, stream: PageStream, content: AsyncIterator[bytes]
) -> AsyncIterator[bytes]:
    async for piece in content:
        yield await sync_to_async(stream.feed)(piece)
    yield await sync_to_async(stream.close)()
    if stream.fault is not None:
        pages.note(path, stream.fault)

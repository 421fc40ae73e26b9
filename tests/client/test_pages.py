"""The middleware of a site: which answers it touches, what it remembers, and what a silent service costs."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Iterable
from typing import Any

import httpx
import pytest

from plumcrate.client import Client
from plumcrate.client.pages import AsgiPages, SitePages, WsgiPages
from plumcrate.contract.delivery import Delivery

PAGE = b'<!doctype html><img src="/media/kite.jpg"><img src="/media/other.jpg">'
FILE = {
    "path": "kite.jpg",
    "media_type": "image/jpeg",
    "bytes": 900,
    "width": 300,
    "height": 200,
    "transparent": False,
    "copies": [{"path": "kite.jpg.avif", "media_type": "image/avif", "bytes": 300}],
    "sizes": [],
    "colour": None,
    "preview": None,
    "later": 1,
}
LIBRARY = {
    "slug": "l",
    "name": "L",
    "root": "/l",
    "recipe_version": 1,
    "level": "everyday",
    "copy_formats": [],
    "patterns": [],
    "automation": {},
    "created_at": "2026-01-01T00:00:00Z",
}


class Service:
    """A service that is made up: what it was asked, and whether it answers."""

    def __init__(self, **delivery: object) -> None:
        markup = {"elements": True, "dimensions": True}
        self.delivery = {"address": "https://ledge.example/media", "markup": markup} | delivery
        self.asked: list[str] = []
        self.faults: list[dict[str, Any]] = []
        self.silent = False
        self.now = 0.0
        client = Client("http://service", "key", transport=httpx.MockTransport(self._answer))
        self.pages = SitePages(client, "l", seconds=60, clock=lambda: self.now)

    def _answer(self, request: httpx.Request) -> httpx.Response:
        if self.silent:
            raise httpx.ConnectError("refused", request=request)
        self.asked.append(request.url.path.rpartition("/")[2])
        if request.method == "GET":
            settings = Delivery.model_validate(self.delivery).model_dump(mode="json")
            return httpx.Response(200, json=LIBRARY | {"delivery": settings})
        asked = json.loads(request.content)
        self.faults += asked.get("faults", [])
        paths = asked["paths"]
        return httpx.Response(200, json=[FILE] if "kite.jpg" in paths else [])


class Site:
    """An application that answers one thing, in pieces, by both gateways."""

    def __init__(self, pages: SitePages, *pieces: bytes, status: int = 200, **headers: str) -> None:
        self.pieces = pieces or (PAGE,)
        self.status = status
        named = {"content_type": "text/html; charset=utf-8"} | headers
        self.headers = [(name.replace("_", "-"), value) for name, value in named.items() if value]
        self.asgi, self.wsgi = AsgiPages(self._asgi, pages), WsgiPages(self._wsgi, pages)
        self.closed = False

    async def _asgi(self, scope: Any, receive: Any, send: Any) -> None:
        raw = [(name.encode(), value.encode()) for name, value in self.headers]
        await send({"type": "http.response.start", "status": self.status, "headers": raw})
        for piece in self.pieces:
            await send({"type": "http.response.body", "body": piece, "more_body": True})
        await send({"type": "http.response.body", "body": b""})

    def _wsgi(self, environ: Any, start_response: Any) -> Iterable[bytes]:
        write = start_response(f"{self.status} Said", self.headers)
        if len(self.pieces) > 1:
            write(self.pieces[0])
            return self.Closing(self, self.pieces[1:])
        return self.Closing(self, self.pieces)

    class Closing:
        def __init__(self, site: Site, pieces: tuple[bytes, ...]) -> None:
            self.site, self.pieces = site, pieces

        def __iter__(self) -> Any:
            return iter(self.pieces)

        def close(self) -> None:
            self.site.closed = True

    def ask(self, gateway: str, path: str = "/visit") -> tuple[dict[str, str], bytes]:
        if gateway == "asgi":
            return asyncio.run(self._ask(path))
        begun: list[Any] = []
        answer = self.wsgi({"PATH_INFO": path}, lambda *given: begun.append(given))
        body = b"".join(answer)
        answer.close()  # type: ignore[attr-defined]
        assert self.closed
        return {name.lower(): value for name, value in begun[0][1]}, body

    async def _ask(self, path: str) -> tuple[dict[str, str], bytes]:
        async with httpx.AsyncClient(
            transport=httpx.ASGITransport(self.asgi), base_url="http://site"
        ) as client:
            answer = await client.get(path)
            return dict(answer.headers), answer.content


GATEWAYS = pytest.mark.parametrize("gateway", ["asgi", "wsgi"])


@GATEWAYS
def test_a_page_leaves_with_its_copies_and_without_what_no_longer_holds(gateway: str) -> None:
    service = Service()
    site = Site(service.pages, content_length=str(len(PAGE)), etag='"1"', content_md5="x", x_kept="yes")
    headers, body = site.ask(gateway)
    assert b'<source type="image/avif" srcset="/media/kite.jpg.avif">' in body
    assert b'<img src="/media/other.jpg">' in body
    assert headers.get("content-length") in (None, str(len(body)))
    assert (headers["etag"], headers["x-kept"]) == ('W/"1"', "yes")
    assert "content-md5" not in headers


@GATEWAYS
def test_a_page_in_pieces_is_the_same_page(gateway: str) -> None:
    service = Service()
    whole = Site(service.pages).ask(gateway)[1]
    pieces = [PAGE[at : at + 7] for at in range(0, len(PAGE), 7)]
    assert Site(service.pages, *pieces).ask(gateway)[1] == whole


@GATEWAYS
@pytest.mark.parametrize(
    "answer",
    [
        {"status": 404},
        {"status": 206},
        {"content_type": "application/json"},
        {"content_type": ""},
    ],
)
def test_other_answers_are_left_as_they_are(gateway: str, answer: dict[str, Any]) -> None:
    service = Service()
    headers, body = Site(service.pages, etag='"1"', **answer).ask(gateway)
    assert body == PAGE
    assert headers["etag"] == '"1"'
    assert service.asked == []


def test_what_is_packed_is_left_as_it_is() -> None:
    service = Service()
    assert service.pages.stream("/", 200, [("Content-Type", "text/html"), ("Content-Encoding", "br")]) is None
    assert service.pages.stream("/", 200, [("Content-Type", "text/html"), ("Content-Encoding", "identity")])


@GATEWAYS
def test_pages_that_are_left_out_and_a_library_without_address(gateway: str) -> None:
    assert Site(Service(markup={"no_pages": ["/visit"]}).pages).ask(gateway)[1] == PAGE
    assert Site(Service(address=None).pages).ask(gateway)[1] == PAGE


def test_facts_are_remembered_for_a_while_those_that_are_not_there_too() -> None:
    service = Service()
    site = Site(service.pages)
    for _ in range(3):
        site.ask("wsgi")
    assert service.asked == ["l", "page-files"]
    service.now = 61
    site.ask("wsgi")
    assert service.asked == ["l", "page-files"] * 2


def test_a_silent_service_costs_the_markup_and_is_left_alone_for_a_while() -> None:
    service = Service()
    service.silent = True
    site = Site(service.pages)
    assert site.ask("wsgi")[1] == PAGE
    service.silent = False
    assert site.ask("wsgi")[1] == PAGE
    assert service.asked == []
    service.now = 31
    assert b"<source" in site.ask("wsgi")[1]


def test_a_service_that_falls_silent_leaves_what_is_remembered() -> None:
    service = Service()
    site = Site(service.pages)
    site.ask("wsgi")
    service.silent = True
    assert b"<source" in site.ask("wsgi")[1]
    service.now = 61
    assert site.ask("wsgi")[1] == PAGE


def test_other_events_pass_through() -> None:
    seen: list[str] = []

    async def app(scope: Any, receive: Any, send: Any) -> None:
        seen.append(scope["type"])

    nothing: Callable[..., Any] = lambda *_: None  # noqa: E731
    asyncio.run(AsgiPages(app, Service().pages)({"type": "lifespan"}, nothing, nothing))
    assert seen == ["lifespan"]


@pytest.mark.parametrize("now", [0.0, 35_514.623547071, 2.0**40 + 0.1])
def test_what_is_not_known_is_asked_for_whatever_the_clock_says(now: float) -> None:
    service = Service()
    service.now = now
    service.pages._seconds = 0.2
    assert b"<source" in Site(service.pages).ask("wsgi")[1]


@GATEWAYS
def test_a_page_that_cannot_be_rewritten_passes_and_the_service_hears_of_it(
    gateway: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    def failing(*_: object, **__: object) -> None:
        raise ZeroDivisionError("nobody thought of this")

    service = Service()
    service.pages.stream("/", 200, [("Content-Type", "text/html")])  # settings are known
    with monkeypatch.context() as broken:
        broken.setattr("plumcrate.markup.rewriter.Writer", failing)
        for _ in range(2):
            assert Site(service.pages).ask(gateway)[1] == PAGE
        odd = "/odd%01%1B%5B31m" if gateway == "asgi" else "/odd\x01\x1b[31m"
        assert Site(service.pages).ask(gateway, odd)[1] == PAGE
        broken.setattr("plumcrate.client.pages.PageStream", failing)
        assert Site(service.pages).ask(gateway)[1] == PAGE
    assert b"<source" in Site(service.pages).ask(gateway)[1]
    reason = "ZeroDivisionError: nobody thought of this"
    assert sum(fault["times"] for fault in service.faults) == 4
    pages = {"/visit", "/odd\ufffd\ufffd[31m"}
    assert {(fault["page"], fault["reason"]) for fault in service.faults} == {(one, reason) for one in pages}


@GATEWAYS
@pytest.mark.parametrize(
    ("policy", "wrapped"),
    [
        ("", True),
        ("default-src 'self'; style-src 'self' 'unsafe-inline'", True),
        ("img-src 'self'", True),
        ("default-src 'self'", False),
        ("style-src 'self'; style-src-attr 'unsafe-inline'", True),
        ("style-src 'unsafe-inline' 'nonce-abc'", False),
        ("style-src 'unsafe-inline', default-src 'none'", False),
        ("STYLE-SRC 'none'", False),
        (";;;", True),
    ],
)
def test_where_a_policy_forbids_styles_no_element_takes_a_place_of_its_own(
    gateway: str, policy: str, wrapped: bool
) -> None:
    _, body = Site(Service().pages, content_security_policy=policy).ask(gateway)
    assert (b"<picture" in body) == wrapped
    assert (b"style=" in body) == wrapped
    assert b'width="300" height="200"' in body, "all else is said"

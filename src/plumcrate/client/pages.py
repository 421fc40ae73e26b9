"""Middleware for a site's own application, ASGI or WSGI: its HTML leaves it with the right markup.

The facts come from the service and are remembered for a while. A service that does not answer, and a page
that cannot be rewritten, cost no page anything but its markup: it goes out as the site wrote it.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from email.message import Message
from typing import Any, TypeVar
from urllib.parse import quote, urljoin

from plumcrate.contract.delivery import Delivery, PageFault, PageFile, PageFiles
from plumcrate.markup.page import PageStream

from . import calls
from .calls import Call
from .clients import Client
from .errors import ClientError

T = TypeVar("T")

#: The service is left alone for so many seconds after it did not answer.
_QUIET = 30.0
_REMEMBERED = 50_000
_MOST_ASKED = 500
#: So many different faults wait for being told.
_MOST_FAULTS = 20
#: What no longer holds of a page that was rewritten.
_DROPPED = ("content-length", "content-md5", "digest", "content-digest", "repr-digest")

Headers = list[tuple[str, str]]


class SitePages:
    """What the middleware of one site shares. ``seconds``: how long facts are remembered; ``client``: its
    timeout bounds what a page waits at most."""

    def __init__(
        self,
        client: Client,
        library: str,
        *,
        seconds: float = 60.0,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._client, self._library, self._seconds, self._clock = client, library, seconds, clock
        self._settings: tuple[float, Delivery] | None = None
        self._files: OrderedDict[str, tuple[float, PageFile | None]] = OrderedDict()
        self._quiet_until = 0.0
        self._faults: OrderedDict[tuple[str, str], int] = OrderedDict()
        self._guard = threading.Lock()

    def stream(self, path: str, status: int, headers: Headers) -> PageStream | None:
        """What rewrites the page that an answer holds; None for answers that are left as they are. May wait
        for the service. Whatever goes wrong, a page leaves as the site wrote it."""
        try:
            return self._stream(path, status, headers)
        except Exception as error:
            self.note(path, error)
            return None

    def reason_left(self, status: int, headers: Headers) -> str:
        """Why an answer was left as it is, in words for the site's developer."""
        if status != 200 or not _is_page(headers):
            return "It is no page: only answers of status 200 with unpacked HTML are rewritten."
        if self._clock() < self._quiet_until:
            seconds = self._quiet_until - self._clock()
            return f"The service did not answer; it is asked again in {seconds:.0f} seconds."
        settings = self._settings
        if settings is None or settings[1].address is None:
            return "The service does not know at which address the library's folder is served."
        return "It could not be rewritten; the service says why (console: Serve)."

    def forget(self) -> None:
        """Asks the service anew about every file and its settings: something changed."""
        with self._guard:
            self._settings = None
            self._files.clear()

    def note(self, path: str, error: Exception) -> None:
        """A page that could not be rewritten; the service hears of it with the next question."""
        what = (_shown(path)[:2_000], _shown(f"{type(error).__name__}: {error}")[:300])
        with self._guard:
            self._faults[what] = self._faults.get(what, 0) + 1
            while len(self._faults) > _MOST_FAULTS:
                self._faults.popitem(last=False)

    def _stream(self, path: str, status: int, headers: Headers) -> PageStream | None:
        if status != 200 or not _is_page(headers):
            return None
        settings = self._delivery()
        if settings is None or settings.address is None:
            return None
        kind = _value(headers, "content-type")
        self._report(settings)
        address = urljoin(settings.address, quote(path))
        return PageStream(address, settings, self._look_up, _charset(kind), styled=_may_style(headers))

    def _report(self, settings: Delivery) -> None:
        """Tells the service of pages that failed, when there are any and it answers."""
        with self._guard:
            faults = [
                PageFault(page=page, reason=reason, times=times)
                for (page, reason), times in self._faults.items()
            ]
            self._faults.clear()
        if faults:
            request = PageFiles(paths=[], faults=faults)
            self._ask(calls.pages.files(self._library, request))

    def _delivery(self) -> Delivery | None:
        known, now = self._settings, self._clock()
        if known is not None and now - known[0] < self._seconds:
            return known[1]
        library = self._ask(calls.libraries.get(self._library))
        if library is not None:
            self._settings = (now, library.delivery)
            return library.delivery
        return known[1] if known else None

    def _look_up(self, paths: Sequence[str]) -> Mapping[str, PageFile]:
        now, known, lacking = self._clock(), {}, []
        with self._guard:
            for path in paths:
                found = self._files.get(path)
                if found is None or now - found[0] >= self._seconds:
                    lacking.append(path)
                elif found[1] is not None:
                    known[path] = found[1]
        settings = self._settings
        for at in range(0, len(lacking) if settings is not None else 0, _MOST_ASKED):
            assert settings is not None
            part = lacking[at : at + _MOST_ASKED]
            request = PageFiles(paths=part, placeholder=settings[1].markup.placeholder)
            answer = self._ask(calls.pages.files(self._library, request))
            if answer is None:
                break
            known |= self._remember(part, answer, now)
        return known

    def _remember(self, asked: list[str], answer: list[PageFile], now: float) -> dict[str, PageFile]:
        found = {file.path: file for file in answer}
        with self._guard:
            for path in asked:
                self._files[path] = (now, found.get(path))
                self._files.move_to_end(path)
            while len(self._files) > _REMEMBERED:
                self._files.popitem(last=False)
        return found

    def _ask(self, call: Call[T]) -> T | None:
        """None where the service does not answer; then it is not asked again for a while."""
        if self._clock() < self._quiet_until:
            return None
        try:
            return self._client.send(call, patience=0)
        except (ClientError, ValueError):
            self._quiet_until = self._clock() + _QUIET
            return None


class AsgiPages:
    """``app`` with its pages rewritten. It stands within whatever compresses answers."""

    def __init__(self, app: Any, pages: SitePages) -> None:
        self._app, self._pages = app, pages

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        start: Any = None
        stream: PageStream | None = None

        async def rewriting(message: Any) -> None:
            nonlocal start, stream
            if message["type"] == "http.response.start":
                headers = [
                    (name.decode("latin-1"), value.decode("latin-1")) for name, value in message["headers"]
                ]
                stream = await asyncio.to_thread(
                    self._pages.stream, scope["path"], message["status"], headers
                )
                if stream is not None:
                    pairs = [
                        (name.encode("latin-1"), value.encode("latin-1"))
                        for name, value in page_headers(headers)
                    ]
                    message = message | {"headers": pairs}
                await send(message)
            elif message["type"] == "http.response.body" and stream is not None:
                more = message.get("more_body", False)
                body = await asyncio.to_thread(_fed, stream, message.get("body", b""), more)
                if stream.fault is not None and not more:
                    self._pages.note(scope["path"], stream.fault)
                await send({"type": "http.response.body", "body": body, "more_body": more})
            else:
                await send(message)

        await self._app(scope, receive, rewriting)


class WsgiPages:
    """The same by PEP 3333."""

    def __init__(self, app: Any, pages: SitePages) -> None:
        self._app, self._pages = app, pages

    def __call__(self, environ: dict[str, Any], start_response: Any) -> Iterable[bytes]:
        begun: list[PageStream | None] = []
        written: list[bytes] = []

        def start(status: str, headers: Headers, *details: Any) -> Callable[[bytes], None]:
            stream = self._pages.stream(_path(environ), int(status[:3]), headers)
            begun[:] = [stream]
            start_response(status, headers if stream is None else page_headers(headers), *details)
            return written.append

        answer = self._app(environ, start)
        return _RewrittenAnswer(answer, begun, written, self._pages, environ)


class _RewrittenAnswer:
    """An application's answer, rewritten while it is read; closed as PEP 3333 asks."""

    def __init__(
        self,
        answer: Iterable[bytes],
        begun: list[PageStream | None],
        written: list[bytes],
        pages: SitePages,
        environ: dict[str, Any],
    ) -> None:
        self._answer, self._begun, self._written = answer, begun, written
        self._pages, self._environ = pages, environ

    def __iter__(self) -> Iterator[bytes]:
        for piece in self._answer:
            yield self._through(self._said() + piece)
        rest = self._through(self._said())
        stream = self._begun[0] if self._begun else None
        yield rest + (stream.close() if stream is not None else b"")
        if stream is not None and stream.fault is not None:
            self._pages.note(_path(self._environ), stream.fault)

    def _said(self) -> bytes:
        said = b"".join(self._written)
        self._written.clear()
        return said

    def _through(self, piece: bytes) -> bytes:
        stream = self._begun[0] if self._begun else None
        return piece if stream is None else stream.feed(piece)

    def close(self) -> None:
        close = getattr(self._answer, "close", None)
        if close is not None:
            close()


def _shown(text: str) -> str:
    """Text that the service takes, whatever a visitor asked for."""
    return "".join(character if character.isprintable() else "\ufffd" for character in text)


def _path(environ: dict[str, Any]) -> str:
    written: str = environ.get("PATH_INFO", "/")
    return written.encode("latin-1", "replace").decode("utf-8", "replace")


def _fed(stream: PageStream, body: bytes, more: bool) -> bytes:
    return stream.feed(body) if more else stream.feed(body) + stream.close()


def _is_page(headers: Headers) -> bool:
    """Whether an answer is HTML that nobody has packed yet."""
    kind = _value(headers, "content-type").partition(";")[0].strip().lower()
    packed = _value(headers, "content-encoding").strip().lower()
    return kind == "text/html" and packed in ("", "identity")


def _value(headers: Headers, wanted: str) -> str:
    return next((value for name, value in headers if name.lower() == wanted), "")


def _charset(kind: str) -> str | None:
    message = Message()
    message["content-type"] = kind or "text/html"
    return message.get_content_charset()


def _may_style(headers: Headers) -> bool:
    """Whether the page's policies let style attributes be (Content Security Policy Level 3, 6.7.3)."""
    policies = ",".join(value for name, value in headers if name.lower() == "content-security-policy").lower()
    return all(map(_lets_styles_be, policies.split(",")))


def _lets_styles_be(policy: str) -> bool:
    directives: dict[str, list[str]] = {}
    for directive in policy.split(";"):
        name, *sources = directive.split() or [""]
        directives.setdefault(name, sources)
    wanted = ("style-src-attr", "style-src", "default-src")
    sources = next((directives[name] for name in wanted if name in directives), ["'unsafe-inline'"])
    # A nonce or a hash of other styles takes 'unsafe-inline' its force.
    exact = any(source.startswith(("'nonce-", "'sha")) for source in sources)
    return "'unsafe-inline'" in sources and not exact


def page_headers(headers: Headers) -> Headers:
    """The headers of an answer whose page is rewritten: its length is not what it was, and its tag speaks of
    what it says, no longer of its bytes."""
    kept = []
    for name, value in headers:
        if name.lower() in _DROPPED:
            continue
        strong = name.lower() == "etag" and not value.startswith("W/")
        kept.append((name, f"W/{value}" if strong else value))
    return kept

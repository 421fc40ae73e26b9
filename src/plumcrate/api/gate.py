"""The gate: what every request passes before any of it is believed, as pure ASGI.

In this order: the address and headers must be fit to be read, whoever asks must have signed in, and only
then is the body let through, as much of it as this address takes and no slower than a person's line. Every
answer gets its security headers here.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable, Mapping
from functools import partial
from typing import Any
from urllib.parse import unquote_to_bytes

import anyio
import anyio.to_thread
from starlette.requests import Request
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from plumcrate import trace
from plumcrate.records.database import lost_connection
from plumcrate.settings import Settings

from . import problems
from .access import AccessLine
from .acts import act_in
from .auth import identify
from .metrics import Metrics
from .probes import LIVES, READY
from .problems import ApiError
from .recording import Recorder

API = "/api/v1"
#: Open to everybody: whoever asks for one of these has not signed in yet, or signs each message.
_OPEN = re.compile(
    rf"(POST {API}/session|GET {API}/session|DELETE {API}/session|GET {API}/health|POST {API}/hooks/[^/]+"
    rf"|POST {API}/joining(/offer)?"
    rf"|(GET|HEAD) {API}/docs|(GET|HEAD) {API}/openapi\.json)\Z"
)
#: Asked for by number, not by name.
_PROBES = frozenset({LIVES, READY})
_PAGE = re.compile(
    rf"(POST {API}/libraries/[^/]+/page"
    rf"|PUT {API}/libraries/[^/]+/(mapping|search-terms|descriptions/(csv|xliff)))\Z"
)
_LISTS = re.compile(rf"POST {API}/libraries/[^/]+/(traffic/log|page-files|site-files)\Z")
_WATERMARK = re.compile(rf"PUT {API}/libraries/[^/]+/watermarks/[^/]+/picture\Z")
_UPLOAD = re.compile(
    rf"(PUT {API}/libraries/[^/]+/files/.+|PATCH {API}/libraries/[^/]+/uploads/[^/]+)\Z", re.S
)
_MOST_BODY, _MOST_WATERMARK = 2_000_000, 6_000_000
_MOST_OPEN_BODY = 1_000_000
_MOST_LIST, _MOST_PAGE = 20_000_000, 200_000_000
#: A body that stops for so long, in seconds, is given up; so is one slower than this on the whole.
_IDLE, _SLOWEST = 20.0, 1_000

_HSTS = b"max-age=31536000"
_SECURITY = tuple(
    (name.lower().encode(), value.encode()) for name, value in problems.SECURITY_HEADERS.items()
)


class Gate:
    """Wraps the application. ``open_to_all``: what stands below a path without anybody signing in; it reads
    no body."""

    def __init__(
        self,
        app: ASGIApp,
        settings: Settings,
        open_to_all: Mapping[str, ASGIApp],
        recorder: Recorder,
        metrics: Metrics,
    ) -> None:
        self._app, self._settings, self._recorder, self._metrics = app, settings, recorder, metrics
        self._open_to_all = open_to_all
        # Looking up who asks must not wait behind those who already work.
        self._limiter = anyio.CapacityLimiter(8)
        self._described: list[tuple[re.Pattern[str], set[str]]] | None = None

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        named = dict(scope["headers"]).get(b"traceparent", b"").decode("latin-1")
        request = trace.begin(named)
        noted = AccessLine(scope, send) if self._settings.access_log else None
        timed = self._metrics.timing(scope, noted or send)
        answer: Send = partial(
            _with_headers, timed, secure=self._settings.secure_cookies, request=request.encode()
        )
        with trace.span(scope["method"], {"http.request.method": scope["method"]}, named) as span:
            try:
                await self._answer(scope, receive, partial(_told, answer, span))
            finally:
                template = getattr(scope.get("route"), "path_format", None)
                if template is not None:
                    template = f"{API}{template}" if scope["path"].startswith(f"{API}/") else template
                    span.say({"http.route": template}, f"{scope['method']} {template}")
                if noted is not None:
                    noted.write()

    async def _answer(self, scope: Scope, receive: Receive, answer: Send) -> None:
        try:
            _refuse_odd_address(scope)
            for prefix, app in self._open_to_all.items():
                if scope["path"].startswith(f"{prefix}/"):
                    self._refuse_other_host(scope)
                    await app({**scope, "root_path": prefix}, receive, answer)
                    return
            allowed = self._methods_at(scope)
            if allowed and scope["method"] not in allowed:
                detail = f"this address does {', '.join(sorted(allowed))} only"
                refusal = problems.respond("not-possible-here", detail)
                refusal.headers["Allow"] = ", ".join(sorted(allowed))
                await refusal(scope, receive, answer)
                return
            answer = self._recorder.sending(scope, answer)
            self._refuse_other_host(scope)
            most = await self._admit(scope)
        except ApiError as error:
            act_in(scope).problem = error.code
            refusal = problems.respond(error.code, error.detail)
            if _has_much(scope):
                refusal.headers["Connection"] = "close"  # what it would send is not read
            await refusal(scope, receive, answer)
            return
        except Exception as error:
            if not lost_connection(error):
                raise
            await problems.respond("database", problems.DATABASE_AWAY)(scope, receive, answer)
            return
        body = _Body(receive, most)
        try:
            body.check_declared(scope)
            await self._app(scope, body.receive, _Once(answer, body))
        except ApiError as error:
            if not body.answered:
                await problems.respond(error.code, error.detail)(scope, receive, answer)

    def _methods_at(self, scope: Scope) -> set[str]:
        """What the interface's description says of an address; nothing for one that it does not name."""
        if self._described is None:
            self._described = [
                (_template(path, operations), {method.upper() for method in operations})
                for path, operations in scope["app"].openapi()["paths"].items()
            ]
        return {
            method
            for pattern, methods in self._described
            if pattern.match(scope["path"])
            for method in methods
        }

    def _refuse_other_host(self, scope: Scope) -> None:
        allowed = self._settings.allowed_hosts
        if "*" in allowed or scope["path"] in _PROBES:
            return
        host = dict(scope["headers"]).get(b"host", b"").decode("latin-1").rpartition(":")
        name = host[0] if host[1] and host[2].isdigit() else "".join(host)
        if name.strip("[]") not in allowed:
            raise ApiError("other-host", "the service does not answer under this host name")

    async def _admit(self, scope: Scope) -> int:
        """Who asks is put into the scope; how many bytes the body may have. Raises ApiError."""
        asked = f"{scope['method']} {scope['path']}"
        if not scope["path"].startswith(f"{API}/"):
            return 0
        if _OPEN.match(asked):
            return _MOST_OPEN_BODY
        actor = await anyio.to_thread.run_sync(identify, Request(scope), limiter=self._limiter)
        act_in(scope).actor = actor
        if _PAGE.match(asked):
            return _MOST_PAGE
        if _WATERMARK.match(asked):
            return _MOST_WATERMARK
        if _LISTS.match(asked):
            return _MOST_LIST
        return self._settings.max_upload_mb * 1_000_000 if _UPLOAD.match(asked) else _MOST_BODY


def _template(path: str, operations: dict[str, Any]) -> re.Pattern[str]:
    """An address of the description as an expression; only a file's path holds slashes."""
    choices = {
        parameter["name"]: "|".join(map(re.escape, parameter["schema"]["enum"]))
        for operation in operations.values()
        for parameter in operation.get("parameters", ())
        if parameter["in"] == "path" and "enum" in parameter["schema"]
    }
    written = ""
    for index, part in enumerate(re.split(r"\{(\w+)\}", path)):
        if index % 2:
            written += ".+" if part == "path" else f"(?:{choices.get(part, '[^/]+')})"
        else:
            written += re.escape(part)
    return re.compile(written + r"\Z", re.S)


def _refuse_odd_address(scope: Scope) -> None:
    for raw in (scope.get("raw_path") or scope["path"].encode(), scope["query_string"]):
        plain = unquote_to_bytes(raw)
        try:
            text = plain.decode("utf-8")
        except UnicodeDecodeError:
            raise ApiError("bad-address", "the address is not valid UTF-8") from None
        if any(character < " " or character == "\x7f" for character in text):
            raise ApiError("bad-address", "the address holds a control character")
    if len(scope.get("raw_path") or b"") > 8_000 or len(scope["query_string"]) > 16_000:
        raise ApiError("bad-address", "the address is too long")


async def _told(send: Send, span: trace.Span, message: Message) -> None:
    if message["type"] == "http.response.start":
        span.say({"http.response.status_code": message["status"]})
    await send(message)


def _has_much(scope: Scope) -> bool:
    """Whether a body comes that is not worth taking off the line for the sake of the connection."""
    headers = dict(scope["headers"])
    declared = headers.get(b"content-length", b"0")
    return b"transfer-encoding" in headers or not declared.isdigit() or int(declared[:20]) > 65_536


class _Body:
    """The request's body as it comes in, bounded in size and patience."""

    def __init__(self, receive: Receive, most: int) -> None:
        self._receive, self._most = receive, most
        self._taken = 0
        self._began: float | None = None
        self._whole = False
        self.answered = False

    def check_declared(self, scope: Scope) -> None:
        declared = dict(scope["headers"]).get(b"content-length", b"0")
        if declared.isdigit() and int(declared[:20]) > self._most:
            raise self._too_large()

    def _too_large(self) -> ApiError:
        return ApiError("too-large", f"this address takes at most {self._most:,} bytes")

    async def receive(self) -> Message:
        if self._whole:
            return await self._receive()  # waits for the client to go away
        loop = asyncio.get_running_loop()
        self._began = self._began or loop.time()
        try:
            message = await asyncio.wait_for(self._receive(), _IDLE)
        except TimeoutError:
            raise ApiError("too-slow", f"nothing came for {_IDLE:.0f} seconds") from None
        if message["type"] == "http.request":
            self._taken += len(message.get("body", b""))
            self._whole = not message.get("more_body", False)
            if self._taken > self._most:
                raise self._too_large()
            spent = loop.time() - self._began
            if not self._whole and spent > _IDLE and self._taken < spent * _SLOWEST:
                raise ApiError("too-slow", "the body came too slowly")
        return message


class _Once:
    """Notes that an answer has begun."""

    def __init__(self, send: Callable[[Message], Awaitable[None]], body: _Body) -> None:
        self._send, self._body = send, body

    async def __call__(self, message: Message) -> None:
        self._body.answered = True
        await self._send(message)


async def _with_headers(send: Send, message: Message, *, secure: bool, request: bytes) -> None:
    if message["type"] == "http.response.start":
        headers: list[tuple[bytes, bytes]] = list(message.get("headers", []))
        there = {name.lower() for name, _ in headers}
        headers += [pair for pair in _SECURITY if pair[0] not in there]
        headers.append((b"request-id", request))
        if secure:
            headers.append((b"strict-transport-security", _HSTS))
        message = {**message, "headers": headers}
    await send(message)

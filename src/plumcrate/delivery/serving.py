"""Serving a library's pictures to anybody, as an ASGI application (RFC 9110, RFC 9111).

``GET`` and ``HEAD`` of ``/LIBRARY/PATH``. Each request gets the lightest form that it accepts, under the
file's own address. ``?v=`` with what ``X-Picture`` of an answer says makes an address whose content never
changes.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import BinaryIO
from urllib.parse import quote, unquote

import anyio
import anyio.to_thread
import structlog
from starlette.types import Receive, Scope, Send

from plumcrate.records.database import lost_connection
from plumcrate.storage.errors import NotThere, StorageError

from .conditions import Validators, Verdict, judge
from .counting import LEANER, SentCounter
from .finding import Finder, Found, MovedAway, ServedForm
from .negotiation import choose
from .purging import tag_of

log = structlog.get_logger()

#: So much of a file is read and sent at a time.
_CHUNK = 1 << 18
_YEAR = 31_536_000
_LOOKED_AT = (
    b"accept",
    b"save-data",
    b"if-match",
    b"if-none-match",
    b"if-modified-since",
    b"if-unmodified-since",
    b"if-range",
    b"range",
)
#: Pictures are shown by pages of other sites; what could run scripts is shut in.
_PICTURE = ((b"cross-origin-resource-policy", b"cross-origin"),)
_SHUT_IN = (
    (b"cross-origin-resource-policy", b"cross-origin"),
    (b"content-security-policy", b"default-src 'none'; style-src 'unsafe-inline'; sandbox"),
)

Headers = list[tuple[bytes, bytes]]


@dataclass(frozen=True, slots=True)
class _PictureAnswer:
    status: int
    headers: Headers
    body: bytes = b""
    file: BinaryIO | None = None
    left: int = 0


class PictureServer:
    """``lacking`` hears of a file whose copies, or whose own record, are not as they should be; it is called
    in a thread, and must not take long."""

    def __init__(
        self,
        finder: Finder,
        lacking: Callable[[Found], None],
        counter: SentCounter | None = None,
        *,
        threads: int = 4,
    ) -> None:
        self._finder, self._lacking, self._counter = finder, lacking, counter
        self._limiter = threads
        self._threads: anyio.CapacityLimiter | None = None

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            return
        if scope["method"] not in ("GET", "HEAD"):
            await _send(send, _said(405, "pictures are fetched with GET or HEAD", [(b"allow", b"GET, HEAD")]))
            return
        self._threads = self._threads or anyio.CapacityLimiter(self._limiter)
        answer = await anyio.to_thread.run_sync(self._answer, scope, limiter=self._threads)
        if answer.file is None:
            await _send(send, answer)
            return
        try:
            await self._stream(send, answer, answer.file)
        finally:
            await anyio.to_thread.run_sync(answer.file.close, limiter=self._threads)

    async def _stream(self, send: Send, answer: _PictureAnswer, file: BinaryIO) -> None:
        await send({"type": "http.response.start", "status": answer.status, "headers": answer.headers})
        await send({"type": "http.response.body", "body": answer.body, "more_body": True})
        left = answer.left
        while left > 0:
            chunk = await anyio.to_thread.run_sync(file.read, min(_CHUNK, left), limiter=self._threads)
            if not chunk:
                # Cut short by somebody: the connection must end, or the client waits for the rest.
                raise OSError("a file became shorter while it was sent")
            left -= len(chunk)
            await send({"type": "http.response.body", "body": chunk, "more_body": left > 0})

    def _answer(self, scope: Scope) -> _PictureAnswer:
        """All of an answer but the rest of a large file; in a thread."""
        slug, path = _asked_for(scope)
        if path is None:
            return _NOTHING
        try:
            with self._finder.find(slug, path) as found:
                if found is None:
                    return _NOTHING
                if isinstance(found, MovedAway):
                    if found.wanted is not None and self._counter is not None:
                        self._counter.ask(found.wanted, _agent(scope))
                    return _moved(scope, slug, found)
                if found.missing or found.changed:
                    self._lacking(found)
                return self._of(scope, found)
        except NotThere as error:
            log.warning("a library is away", library=slug, reason=str(error))
        except StorageError as error:
            if error.code in ("gone", "not-a-file", "symbolic-link"):
                return _NOTHING
            log.warning("a picture cannot be served", library=slug, path=path, reason=str(error))
        except Exception as error:
            if not lost_connection(error):
                raise
            log.error("the database does not answer", reason=str(error).splitlines()[:1])
        return _said(503, "the picture cannot be reached just now", [(b"retry-after", b"5")])

    def _of(self, scope: Scope, found: Found) -> _PictureAnswer:
        answer, form, sent = _found(scope, found)
        if sent and self._counter is not None and found.known is not None:
            known = found.known
            instead = known.size_before * sent // max(form.size, 1)
            self._counter.count(
                found.library.id,
                known.picture_id,
                f"{form.format}{LEANER}" if form.leaner else form.format,
                sent,
                instead,
                _agent(scope),
                known.file_id,
            )
        return answer


def _agent(scope: Scope) -> str:
    agent = next((value for name, value in scope["headers"] if name == b"user-agent"), b"")
    return agent.decode("latin-1")


def _asked_for(scope: Scope) -> tuple[str, str | None]:
    """Library and path; no path where slashes or dots are written so that others may read them otherwise."""
    raw = (scope.get("raw_path") or b"").partition(b"?")[0].lower()
    if b"%2f" in raw or b"%5c" in raw or b"%2e" in raw or b"%00" in raw:
        return "", None
    inside = scope["path"].removeprefix(scope.get("root_path", "")).lstrip("/")
    slug, slash, path = inside.partition("/")
    return slug, path if slash and path else None


def _found(scope: Scope, found: Found) -> tuple[_PictureAnswer, ServedForm, int]:
    """The answer, the form that it is about, and how many bytes of that are sent."""
    headers = {name.decode(): value.decode("latin-1") for name, value in _wanted(scope)}
    forms = [form for form in found.forms if not form.leaner]
    if _saves_data(headers.get("save-data")):
        forms = _leanest(found.forms)
    form = choose(forms, headers.get("accept"))
    now = Validators(form.tag, form.mtime_ns // 1_000_000_000, form.size)
    verdict = judge(headers, now)
    out = _headers(scope, found, form, now)
    if verdict.status in (304, 412):
        return _PictureAnswer(verdict.status, out), form, 0
    if verdict.status == 416:
        out += [(b"content-range", f"bytes */{form.size}".encode()), (b"content-length", b"0")]
        return _PictureAnswer(416, out), form, 0
    length = verdict.last - verdict.first + 1
    out += [
        (b"content-type", form.media_type.encode()),
        (b"content-length", str(length).encode()),
        *(_PICTURE if form.shown else _SHUT_IN),
    ]
    if verdict.status == 206:
        out.append((b"content-range", f"bytes {verdict.first}-{verdict.last}/{form.size}".encode()))
    if scope["method"] == "HEAD" or length == 0:
        return _PictureAnswer(verdict.status, out), form, 0
    return _opened(found, form, verdict, out, length), form, length


def _saves_data(header: str | None) -> bool:
    """Whether a request asks for less data (Save-Data API, WICG, section 2)."""
    return header is not None and any(part.strip().lower() == "on" for part in header.split(";"))


def _leanest(forms: Sequence[ServedForm]) -> list[ServedForm]:
    """The forms for who asks for less data: of a type that has a leaner form, only that."""
    leaner = {form.media_type for form in forms if form.leaner}
    return [form for form in forms if form.own or form.leaner or form.media_type not in leaner]


def _wanted(scope: Scope) -> Headers:
    """The headers that count, several of one name joined as section 5.3 has it."""
    joined: dict[bytes, bytes] = {}
    for name, value in scope["headers"]:
        if name in _LOOKED_AT:
            joined[name] = joined[name] + b", " + value if name in joined else value
    return list(joined.items())


def _opened(
    found: Found, form: ServedForm, verdict: Verdict, headers: Headers, length: int
) -> _PictureAnswer:
    file = found.folder.open(form.path.rpartition("/")[2])
    try:
        if verdict.first:
            file.seek(verdict.first)
        body = file.read(min(_CHUNK, length))
        if len(body) < min(_CHUNK, length):
            raise StorageError("storage-error", f"{form.path} became shorter while it was sent")
    except BaseException:
        file.close()
        raise
    if len(body) == length:
        file.close()
        return _PictureAnswer(verdict.status, headers, body)
    return _PictureAnswer(verdict.status, headers, body, file, length - len(body))


def _headers(scope: Scope, found: Found, form: ServedForm, now: Validators) -> Headers:
    """What every answer about a form says: how long it may be shown, and what it depends on."""
    age = found.library.settings.max_age
    lasting = f"public, max-age={age}" if age else "public, no-cache"
    version = _version(scope["query_string"])
    if version is not None:
        lasting = f"public, max-age={_YEAR}, immutable" if version == found.content else "public, no-cache"
    out: Headers = [
        (b"etag", form.tag.encode()),
        (b"last-modified", now.last_modified.encode()),
        (b"cache-control", lasting.encode()),
        (b"vary", b"Accept, Save-Data" if any(one.leaner for one in found.forms) else b"Accept"),
        (b"accept-ranges", b"bytes"),
        (b"x-picture", found.content.encode()),
    ]
    caches, known = found.library.settings.caches, found.known
    if caches.tag_header is not None and known is not None:
        tags = f"{found.library.slug}, {tag_of(found.library.slug, known.picture_id)}"
        out.append((caches.tag_header.lower().encode(), tags.encode()))
    if not form.own:
        out.append((b"content-location", _quoted(form.path.rpartition("/")[2]).encode()))
    return out


@lru_cache(maxsize=4096)
def _quoted(path: str) -> str:
    return quote(path, safe="/-._~!$&'()*+,;=@")


def _version(query: bytes) -> str | None:
    """The value of ``v`` in a query."""
    for part in query.split(b"&"):
        name, _, value = part.partition(b"=")
        if name == b"v":
            return unquote(value.decode("latin-1"))
    return None


def _moved(scope: Scope, slug: str, moved: MovedAway) -> _PictureAnswer:
    """To the conversion that took the file's place, or the picture of a file that was removed. Not for ever:
    the file may be put back."""
    query = scope["query_string"]
    place = f"{scope.get('root_path', '')}/{slug}/{_quoted(moved.path)}".encode() + (
        b"?" + query if query else b""
    )
    return _said(
        302, "the picture is at another address now", [(b"location", place), (b"cache-control", b"no-cache")]
    )


def _said(status: int, text: str, headers: Headers) -> _PictureAnswer:
    body = f"{text}\n".encode()
    plain = [(b"content-type", b"text/plain; charset=utf-8"), (b"content-length", str(len(body)).encode())]
    return _PictureAnswer(status, [*plain, *headers], body)


#: The same for a library that there is not, one that is not public, and a path at which nothing is.
_NOTHING = _said(404, "there is no such picture here", [(b"cache-control", b"public, max-age=10")])


async def _send(send: Send, answer: _PictureAnswer) -> None:
    await send({"type": "http.response.start", "status": answer.status, "headers": answer.headers})
    await send({"type": "http.response.body", "body": answer.body})

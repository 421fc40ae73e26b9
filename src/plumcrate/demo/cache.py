"""A small shared cache, standing in for a CDN: it stores and reuses by RFC 9111, obeys PURGE, and says what
it did by RFC 9211.

It stands before one origin. Whole answers to GET are stored; ranges and everything else pass through.
"""

from __future__ import annotations

import os
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import format_datetime, parsedate_to_datetime

import httpx
import uvicorn
from starlette.types import Receive, Scope, Send

_NAME = "gannet-cache"
#: So many answers are kept, none larger than this.
_MOST, _LARGEST = 5_000, 50_000_000
#: Section 7.6.1 of RFC 9110: these speak of one connection only.
_HOP = frozenset(
    ("connection", "keep-alive", "proxy-connection", "te", "trailer", "transfer-encoding", "upgrade")
)

Headers = list[tuple[str, str]]


@dataclass
class Stored:
    """A stored answer. ``asked`` holds the request's headers that ``Vary`` names; ``age`` was its age at
    ``at``."""

    status: int
    headers: Headers
    body: bytes
    asked: dict[str, str]
    at: float
    age: float
    tags: frozenset[str] = frozenset()

    @property
    def lifetime(self) -> float:
        """Seconds for which it is fresh (section 4.2.1); 0 where nothing is said."""
        said = directives(self.headers)
        for name in ("s-maxage", "max-age"):
            if (seconds := said.get(name, "")).isdigit():
                return float(seconds)
        expires, date = _value(self.headers, "expires"), _value(self.headers, "date")
        try:
            return max(0.0, (parsedate_to_datetime(expires) - parsedate_to_datetime(date)).total_seconds())
        except (TypeError, ValueError):
            return 0.0


@dataclass
class Cache:
    """The application. ``clock`` gives seconds; ``transport`` stands in for the origin."""

    origin: str
    tag_header: str = "cache-tag"
    clock: Callable[[], float] = time.time
    transport: httpx.AsyncBaseTransport | None = None
    _stored: OrderedDict[str, list[Stored]] = field(default_factory=OrderedDict)
    _http: httpx.AsyncClient | None = None

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            return
        self._http = self._http or httpx.AsyncClient(transport=self.transport, timeout=30)
        body = b""
        while True:
            message = await receive()
            body += message.get("body", b"")
            if not message.get("more_body", False):
                break
        headers = [(name.decode("latin-1"), value.decode("latin-1")) for name, value in scope["headers"]]
        target = (scope.get("raw_path") or scope["path"].encode()).partition(b"?")[0].decode("latin-1")
        query = scope["query_string"].decode("latin-1")
        status, answer, content = await self.answer(
            scope["method"], target + (f"?{query}" if query else ""), headers, body
        )
        if not _value(answer, "content-length") and status not in (204, 304):
            answer.append(("content-length", str(len(content))))
        raw = [(name.lower().encode("latin-1"), value.encode("latin-1")) for name, value in answer]
        await send({"type": "http.response.start", "status": status, "headers": raw})
        await send({"type": "http.response.body", "body": b"" if scope["method"] == "HEAD" else content})

    async def answer(
        self, method: str, target: str, headers: Headers, body: bytes = b""
    ) -> tuple[int, Headers, bytes]:
        """Status, headers and content for a request."""
        key = f"{_value(headers, 'host').lower()} {target}"
        if method == "PURGE":
            return self._purge(key, headers)
        wanted = directives(headers)
        fit = method in ("GET", "HEAD") and not _value(headers, "range") and "no-store" not in wanted
        if not fit:
            return await self._through(
                method, target, headers, body, "bypass" if method == "GET" else "method"
            )
        found = self._find(key, headers)
        if found is not None and self._fresh(found, wanted):
            return self._reuse(found, headers)
        if "only-if-cached" in wanted:
            return 504, [("cache-status", f"{_NAME}; fwd=miss"), ("cache-control", "no-store")], b""
        reason = "stale" if found is not None else ("vary-miss" if self._stored.get(key) else "uri-miss")
        return await self._fetch(key, target, headers, found, reason)

    def _purge(self, key: str, headers: Headers) -> tuple[int, Headers, bytes]:
        tags = {tag.strip() for tag in _value(headers, self.tag_header).split(",") if tag.strip()}
        gone = 0
        if tags:
            for each, variants in list(self._stored.items()):
                kept = [stored for stored in variants if not tags & stored.tags]
                gone += len(variants) - len(kept)
                if kept:
                    self._stored[each] = kept
                else:
                    del self._stored[each]
        else:
            # With any query: a page may have added one to get past a cache.
            for each in [each for each in self._stored if each.partition("?")[0] == key]:
                gone += len(self._stored.pop(each))
        return 200, [("cache-status", f"{_NAME}; detail=purged-{gone}")], f"{gone} forgotten\n".encode()

    def _find(self, key: str, headers: Headers) -> Stored | None:
        """The stored answer whose request had the same headers that it depends on (section 4.1)."""
        for stored in self._stored.get(key, ()):
            if all(_joined(headers, name) == value for name, value in stored.asked.items()):
                self._stored.move_to_end(key)
                return stored
        return None

    def _age(self, stored: Stored) -> float:
        return max(0.0, stored.age + self.clock() - stored.at)

    def _fresh(self, stored: Stored, wanted: dict[str, str]) -> bool:
        """Sections 4.2 and 5.2.1: by its lifetime, and by what the request allows."""
        age, said = self._age(stored), directives(stored.headers)
        if "no-cache" in said or "no-cache" in wanted:
            return False
        if (most := wanted.get("max-age", "")).isdigit() and age > int(most):
            return False
        return age < stored.lifetime

    def _reuse(self, stored: Stored, headers: Headers) -> tuple[int, Headers, bytes]:
        left = int(stored.lifetime - self._age(stored))
        out = [pair for pair in stored.headers if pair[0] not in ("age", "cache-status")]
        out += [("age", str(int(self._age(stored)))), ("cache-status", f"{_NAME}; hit; ttl={left}")]
        tag, wanted = _value(stored.headers, "etag"), _value(headers, "if-none-match")
        if tag and wanted and _weakly_in(tag, wanted):
            return 304, [pair for pair in out if pair[0] not in ("content-length", "content-type")], b""
        return stored.status, out, stored.body

    async def _fetch(
        self, key: str, target: str, headers: Headers, found: Stored | None, reason: str
    ) -> tuple[int, Headers, bytes]:
        """From the origin; a stale answer is validated first (section 4.3)."""
        sent = [pair for pair in headers if not pair[0].lower().startswith("if-")]
        if found is not None and (tag := _value(found.headers, "etag")):
            sent.append(("if-none-match", tag))
        status, answer, content = await self._through("GET", target, sent, b"", reason)
        if status == 304 and found is not None:
            fresh = dict(answer)
            found.headers = [pair for pair in found.headers if pair[0] not in fresh] + [
                pair for pair in answer if pair[0] not in ("cache-status", "content-length")
            ]
            found.at, found.age = self.clock(), 0.0
            status, out, content = self._reuse(found, headers)
            out = [pair for pair in out if pair[0] != "cache-status"]
            return status, [*out, ("cache-status", f"{_NAME}; fwd=stale; fwd-status=304; stored")], content
        if self._keeps(status, answer, headers, content):
            self._store(key, status, answer, headers, content)
            name, value = answer.pop()
            answer.append((name, f"{value}; stored"))
        return status, answer, content

    async def _through(
        self, method: str, target: str, headers: Headers, body: bytes, reason: str
    ) -> tuple[int, Headers, bytes]:
        assert self._http is not None
        sent = [pair for pair in headers if pair[0].lower() not in _HOP]
        try:
            async with self._http.stream(
                method, self.origin + target, headers=sent, content=body or None
            ) as got:
                content = b"".join([piece async for piece in got.aiter_raw()])
        except httpx.TransportError as error:
            said = f"the origin does not answer: {error or type(error).__name__}\n"
            return 502, [("cache-status", f"{_NAME}; fwd={reason}; detail=silent")], said.encode()
        answer = [
            (name.lower(), value) for name, value in got.headers.multi_items() if name.lower() not in _HOP
        ]
        if not _value(answer, "date"):
            now = datetime.fromtimestamp(self.clock(), UTC)
            answer.append(("date", format_datetime(now, usegmt=True)))
        answer.append(("cache-status", f"{_NAME}; fwd={reason}; fwd-status={got.status_code}"))
        return got.status_code, answer, content

    def _keeps(self, status: int, answer: Headers, headers: Headers, content: bytes) -> bool:
        """Section 3: whether an answer may be stored by a cache that many share."""
        said = directives(answer)
        if status not in (200, 203, 301, 404, 410) or len(content) > _LARGEST or "no-store" in said:
            return False
        if "private" in said or _value(answer, "vary").strip() == "*":
            return False
        if _value(headers, "authorization") and not {"public", "s-maxage", "must-revalidate"} & set(said):
            return False
        return bool({"public", "max-age", "s-maxage", "no-cache"} & set(said)) or bool(
            _value(answer, "expires")
        )

    def _store(self, key: str, status: int, answer: Headers, headers: Headers, content: bytes) -> None:
        depends = [name.strip().lower() for name in _value(answer, "vary").split(",") if name.strip()]
        age = _value(answer, "age")
        stored = Stored(
            status,
            [pair for pair in answer if pair[0] != "cache-status"],
            content,
            {name: _joined(headers, name) for name in depends},
            self.clock(),
            float(age) if age.isdigit() else 0.0,
            frozenset(tag.strip() for tag in _value(answer, self.tag_header).split(",") if tag.strip()),
        )
        others = [other for other in self._stored.get(key, ()) if other.asked != stored.asked]
        self._stored[key] = [*others, stored][-20:]
        self._stored.move_to_end(key)
        while len(self._stored) > _MOST:
            self._stored.popitem(last=False)


def directives(headers: Headers) -> dict[str, str]:
    """What ``Cache-Control`` says, by name in lower case (section 5.2)."""
    found: dict[str, str] = {}
    for part in _joined(headers, "cache-control").split(","):
        name, _, value = part.strip().partition("=")
        if name:
            found.setdefault(name.lower(), value.strip('"'))
    return found


def _value(headers: Iterable[tuple[str, str]], wanted: str) -> str:
    return next((value for name, value in headers if name.lower() == wanted), "")


def _joined(headers: Headers, wanted: str) -> str:
    return ", ".join(value.strip() for name, value in headers if name.lower() == wanted)


def _weakly_in(tag: str, wanted: str) -> bool:
    if wanted.strip() == "*":
        return True
    return tag.removeprefix("W/") in [each.strip().removeprefix("W/") for each in wanted.split(",")]


if __name__ == "__main__":
    uvicorn.run(
        Cache(os.environ["PLUMCRATE_CACHE_ORIGIN"]),
        host="127.0.0.1",
        port=int(os.environ.get("PLUMCRATE_CACHE_PORT", "8040")),
        log_level="warning",
    )

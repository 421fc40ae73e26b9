"""What a page asked for, from the browser's own reports (Chrome DevTools Protocol, domain Network)."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Any

#: By the protocol's resource types.
_KINDS = {
    "Document": "page",
    "Stylesheet": "styles",
    "Image": "pictures",
    "Media": "media",
    "Font": "fonts",
    "Script": "scripts",
    "XHR": "data",
    "Fetch": "data",
    "EventSource": "data",
    "WebSocket": "data",
    "Prefetch": "other",
    "Manifest": "other",
    "Ping": "other",
}
KINDS = ("pictures", "scripts", "styles", "fonts", "page", "media", "data", "other")


@dataclass(slots=True)
class RequestRecord:
    """One request and its answer. ``bytes`` went over the wire, headers among them; ``asked`` is the address
    before it was sent on; ``begun`` counts in seconds from the first request."""

    id: str
    address: str
    kind: str
    first: bool
    status: int = 0
    media_type: str = ""
    bytes: int = 0
    ended: bool = False
    failed: str | None = None
    asked: str = ""
    begun: float = 0.0
    varies: str = ""

    def as_dict(self) -> dict[str, Any]:
        return {name: getattr(self, name) for name in self.__slots__}


@dataclass
class VisitTraffic:
    """Every exchange of one visit. ``first``: until the page was quiet for the first time."""

    most: int
    exchanges: list[RequestRecord] = field(default_factory=list)
    first: bool = True
    closed: bool = False
    too_many: bool = False
    quiet_since: float = field(default_factory=time.monotonic)
    documents: int = 0
    began: float | None = None
    _open: dict[str, RequestRecord] = field(default_factory=dict)

    @property
    def in_flight(self) -> int:
        return sum(not one.ended for one in self._open.values())

    def sent(self, event: dict[str, Any]) -> None:
        if self.closed:
            return
        address = event["request"]["url"]
        if address.startswith(("data:", "blob:", "about:", "chrome")):
            return
        if event.get("type") == "Other" and event.get("initiator", {}).get("type") == "other":
            return  # the page's sign in a tab: the browser's own wish, at its own time
        before = self._open.get(event["requestId"])
        asked = address
        if before is not None:
            # It was sent on: the answer that said so has come, and the same id goes on.
            answer = event.get("redirectResponse") or {}
            before.status = int(answer.get("status", 0))
            before.bytes = int(answer.get("encodedDataLength", 0))
            before.ended, before.media_type = True, ""
            asked = before.asked
        if len(self.exchanges) >= self.most:
            self.too_many = True
            return
        if event.get("type") == "Document" and event.get("frameId") == event.get("loaderId"):
            self.documents += 1
        kind = _KINDS.get(event.get("type", ""), "other")
        at = float(event.get("timestamp", 0.0))
        self.began = at if self.began is None else self.began
        one = RequestRecord(event["requestId"], address, kind, self.first, asked=asked, begun=at - self.began)
        self.exchanges.append(one)
        self._open[event["requestId"]] = one
        self._stir()

    def answered(self, event: dict[str, Any]) -> None:
        one = self._open.get(event["requestId"])
        if one is None:
            return
        answer = event["response"]
        one.status, one.media_type = int(answer["status"]), str(answer.get("mimeType", ""))
        headers = {name.lower(): value for name, value in answer.get("headers", {}).items()}
        one.varies = str(headers.get("vary", ""))
        if one.kind == "other" and one.media_type.startswith("image/"):
            one.kind = "pictures"
        one.bytes = int(answer.get("encodedDataLength", 0))
        if answer.get("fromDiskCache") or answer.get("fromPrefetchCache"):
            one.bytes = 0
        self._stir()

    def received(self, event: dict[str, Any]) -> None:
        one = self._open.get(event["requestId"])
        if one is not None and not one.ended:
            one.bytes += int(event.get("encodedDataLength", 0))
            self._stir()

    def finished(self, event: dict[str, Any]) -> None:
        one = self._open.get(event["requestId"])
        if one is not None:
            one.ended = True
            one.bytes = int(event.get("encodedDataLength", one.bytes))
            self._stir()

    def failed(self, event: dict[str, Any]) -> None:
        one = self._open.get(event["requestId"])
        if one is not None:
            one.ended, one.failed = True, str(event.get("errorText", "failed"))
            self._stir()

    def _stir(self) -> None:
        self.quiet_since = time.monotonic()

"""The access log: one line for each request of the interface and the console."""

from __future__ import annotations

import time

import structlog
from starlette.types import Message, Scope, Send

from .acts import act_in
from .probes import LIVES, READY

log = structlog.get_logger()

#: Not logged: a supervisor asks every few seconds; pictures for visitors are counted, see delivery.
_SILENT = (LIVES, READY)
_MEDIA = "/media/"


class AccessLine:
    """A ``send`` that takes down how one request was answered."""

    def __init__(self, scope: Scope, send: Send) -> None:
        self._scope, self._send = scope, send
        self._began = time.perf_counter()
        self._status, self._bytes = 0, 0

    async def __call__(self, message: Message) -> None:
        if message["type"] == "http.response.start":
            self._status = message["status"]
        elif message["type"] == "http.response.body":
            self._bytes += len(message.get("body", b""))
        await self._send(message)

    def write(self) -> None:
        """Once the answer has ended, or was cut off."""
        path = self._scope["path"]
        if path in _SILENT or path.startswith(_MEDIA):
            return
        actor = act_in(self._scope).actor
        client = self._scope.get("client")
        log.info(
            "request",
            method=self._scope["method"],
            path=path,
            status=self._status,
            ms=round((time.perf_counter() - self._began) * 1000),
            bytes=self._bytes,
            who=f"{actor.kind} {actor.number}" if actor is not None else "nobody",
            address=client[0] if client else "unknown",
        )

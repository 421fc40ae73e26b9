"""Bounds on connections, before anything of a request has been read.

At most so many are open together and from one address; one that has not sent a request's headers within a
few seconds is closed. The proxy in front of a public service does the same, and this does not rely on one.
"""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Iterable
from typing import Any

from uvicorn.protocols.http.h11_impl import H11Protocol

#: Seconds in which the headers of a connection's first request must be there.
_HEADERS_WITHIN = 10.0


class BoundedProtocol(H11Protocol):
    """One connection. The limits are set once, for the process."""

    most = 500
    most_each = 200
    trusted: frozenset[str] = frozenset()
    _open: Counter[str] = Counter()  # noqa: RUF012 - shared by all connections

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        peer = transport.get_extra_info("peername")
        self._address = str(peer[0]) if peer else "local"
        self._counted = False
        self._deadline: asyncio.TimerHandle | None = None
        crowded = self._open[self._address] >= self.most_each and self._address not in self.trusted
        if crowded or self._open.total() >= self.most:
            transport.abort()
            super().connection_made(transport)
            return
        self._counted = True
        self._open[self._address] += 1
        self._deadline = asyncio.get_running_loop().call_later(_HEADERS_WITHIN, self._give_up)
        super().connection_made(transport)

    def _give_up(self) -> None:
        waiting: object = self.cycle  # no request has begun
        if waiting is None and not self.transport.is_closing():
            self.transport.abort()

    def connection_lost(self, exc: Exception | None) -> None:
        if self._deadline is not None:
            self._deadline.cancel()
        if self._counted:
            self._counted = False
            self._open[self._address] -= 1
            if not self._open[self._address]:
                del self._open[self._address]
        super().connection_lost(exc)


def bounded(most: int, most_each: int, trusted: Iterable[str]) -> type[Any]:
    """The protocol with these limits; from ``trusted`` addresses many come through one."""
    limits = {"most": most, "most_each": most_each, "trusted": frozenset(trusted)}
    return type("Bounded", (BoundedProtocol,), limits)

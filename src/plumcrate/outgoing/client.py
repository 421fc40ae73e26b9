"""Asking by HTTP where others said: only what the guard lets be reached, so many bytes, for so long."""

from __future__ import annotations

import socket
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import httpx

from .guard import Forbidden, Guard

_AGENT = "PlumCrate"


class CannotReach(Exception):
    """Nothing was answered; the text says what address, and why."""


@dataclass(frozen=True, slots=True)
class OutgoingAnswer:
    """What came back. ``body`` is as it was sent, content codings and all; ``size`` are its bytes."""

    status: int
    headers: httpx.Headers
    body: bytes

    @property
    def size(self) -> int:
        return len(self.body)

    def text(self) -> str:
        """The body as text, with content codings undone."""
        whole = httpx.Response(self.status, headers=self.headers, content=self.body)
        return whole.text


def host_of(address: str) -> str:
    """What ``Host`` says of an address, in ASCII whatever the name."""
    return httpx.URL(address).netloc.decode("ascii")


class Outgoing:
    """A client of the outside. A request takes ``seconds`` at most in all, and an answer has at most
    ``most`` bytes. Redirects are not followed, and nothing is read from the environment.

    ``transport`` stands in for the network in tests; only with it may ``guard`` be None, and no name looked
    up."""

    def __init__(
        self,
        guard: Guard | None,
        *,
        seconds: float = 10.0,
        most: int = 1_000_000,
        agent: str = _AGENT,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self._guard = guard
        self._seconds, self._most = seconds, most
        self._http = httpx.Client(
            timeout=seconds,
            transport=transport,
            follow_redirects=False,
            trust_env=False,
            headers={"User-Agent": agent},
        )
        self._http.headers.pop("accept-encoding", None)

    def close(self) -> None:
        self._http.close()

    def ask(
        self,
        method: str,
        address: str,
        *,
        headers: Mapping[str, str] | None = None,
        content: bytes | str | None = None,
        most: int | None = None,
        stopped: Callable[[], bool] = lambda: False,
    ) -> OutgoingAnswer:
        """Sends a request and reads its answer. Raises :class:`CannotReach`.

        The connection is made to the very address that was judged, so that a name that changes its answer
        gains nothing. ``stopped`` is asked between two pieces of the answer.
        """
        ends = time.monotonic() + self._seconds
        bound = self._most if most is None else most
        try:
            url = httpx.URL(address)
        except (httpx.InvalidURL, ValueError):
            raise CannotReach(f"{address} is no address of the web") from None
        try:
            place, own, extensions = self._judged(url)
            with self._http.stream(
                method,
                place,
                headers={"Host": own, **(headers or {})},
                content=content,
                extensions=extensions,
            ) as answer:
                pieces: list[bytes] = []
                size = 0
                # One that was made, and did not come over a network, has no stream.
                whole = answer.is_stream_consumed
                for piece in [answer.content] if whole else answer.iter_raw(65_536):
                    pieces.append(piece)
                    size += len(piece)
                    if size > bound:
                        raise CannotReach(f"{address} answered with more than {bound:,} bytes")
                    if time.monotonic() > ends or stopped():
                        raise CannotReach(f"{address} had not answered whole after {self._seconds:g} s")
                return OutgoingAnswer(answer.status_code, answer.headers, b"".join(pieces))
        except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
            raise CannotReach(f"{url.host} does not answer: {error or type(error).__name__}") from None

    def _judged(self, url: httpx.URL) -> tuple[httpx.URL, str, dict[str, str]]:
        """Where to connect to, what ``Host`` says, and whose certificate is expected. Raises CannotReach."""
        own = url.netloc.decode("ascii")
        if self._guard is None:
            return url, own, {}
        if url.scheme not in ("http", "https"):
            raise CannotReach(f"{url} is no address of the web")
        host = url.raw_host.decode("ascii").strip("[]")
        port = url.port or (443 if url.scheme == "https" else 80)
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError):
            raise CannotReach(f"{host} is not known to the network") from None
        try:
            fit = self._guard.fit(host, port, list(dict.fromkeys(str(one[4][0]) for one in found)))
        except Forbidden as error:
            raise CannotReach(str(error)) from None
        return url.copy_with(host=fit[0]), own, {"sni_hostname": host}

"""The one way from a browser to the network: a SOCKS5 server (RFC 1928) on loopback.

Names are looked up here, addresses are judged by the :class:`~.guard.Guard`, and the connection is made to
the very address that was judged. What goes through is slowed to a line of a :class:`~.profiles.Speed`: bytes
take their turn at a gate that all connections share, and arrive half a round trip later. Hosts below
``predicted.invalid`` (RFC 6761) are answered from here, over the same line.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import ipaddress
import socket
from collections import deque
from collections.abc import Awaitable, Callable

from plumcrate.outgoing.guard import Forbidden, Guard

from .profiles import OPEN, Speed

#: Hosts below are answered by :attr:`Tunnel.answer`.
PREDICTED = "predicted.invalid"
_PIECE, _LEAST_PIECE = 16_384, 1_460
#: A turn at the gate takes about so many seconds, so that connections share the line evenly.
_TURN = 0.02
_LOOKUP, _CONNECT = 10.0, 10.0
_MOST_CONNECTIONS = 256
#: Replies of RFC 1928, section 6.
_DONE, _NOT_ALLOWED, _HOST_UNREACHABLE, _REFUSED, _UNKNOWN_COMMAND = 0, 2, 4, 5, 7


def predicted_host(scheme: str, netloc: str) -> str:
    """The host that answers in another's place."""
    return f"{hashlib.sha256(f'{scheme}://{netloc}'.encode()).hexdigest()[:12]}.{PREDICTED}"


Resolve = Callable[[str, int], Awaitable[list[str]]]
Answer = Callable[[str, str], tuple[int, dict[str, str], bytes]]


class _Throttle:
    """One direction of the line."""

    def __init__(self, rate: float | None) -> None:
        self.rate, self._free, self._turn = rate, 0.0, asyncio.Lock()

    @property
    def piece(self) -> int:
        """So many bytes go at a time."""
        return _PIECE if self.rate is None else max(_LEAST_PIECE, min(_PIECE, int(self.rate * _TURN)))

    async def passed(self, size: int) -> None:
        """Waits until so many bytes went through."""
        if self.rate is None:
            return
        async with self._turn:
            now = asyncio.get_running_loop().time()
            self._free = max(self._free, now) + size / self.rate
            await asyncio.sleep(self._free - now)


async def look_up(host: str, port: int) -> list[str]:
    """A host's addresses, by the system's resolver. Raises OSError."""
    found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
    return list(dict.fromkeys(str(entry[4][0]) for entry in found))


class Tunnel:
    """``most_bytes`` may come down; then every connection ends, and :attr:`spent` is set.

    ``answer`` says what stands under a host below ``predicted.invalid`` and a target: status, headers, body.
    """

    def __init__(
        self, guard: Guard, *, most_bytes: int, resolve: Resolve = look_up, answer: Answer | None = None
    ) -> None:
        self._guard, self._resolve, self.answer = guard, resolve, answer
        self._most, self.spent = most_bytes, False
        self.down_bytes = 0
        #: A host to which a connection stands already, in truth under another name: the first to it shakes no
        #: hands.
        self.warm: str | None = None
        #: Why hosts could not be reached, by ``host:port``.
        self.faults: dict[str, str] = {}
        self._server: asyncio.Server | None = None
        self._predicted: asyncio.Server | None = None
        self._open: set[asyncio.Task[None]] = set()
        self.set_line(OPEN)

    async def start(self) -> int:
        """The port on which it listens."""
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        self._predicted = await asyncio.start_server(self._answer_predicted, "127.0.0.1", 0)
        return int(self._server.sockets[0].getsockname()[1])

    async def close(self) -> None:
        for server in (self._server, self._predicted):
            if server is not None:
                server.close()
        self.hang_up()
        await asyncio.gather(*self._open, return_exceptions=True)

    def set_line(self, speed: Speed) -> None:
        """From now on; connections that are open keep what they have."""
        self._speed = speed
        self._down, self._up = _Throttle(speed.down), _Throttle(speed.up)

    def begin(self) -> None:
        """Counts anew, as for another page."""
        self.hang_up()
        self.spent, self.down_bytes, self.warm = False, 0, None
        self.faults.clear()

    def hang_up(self) -> None:
        for task in list(self._open):
            task.cancel()

    # -- SOCKS ---------------------------------------------------------------------------------

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._open.add(task)
        try:
            await self._through(reader, writer)
        except (OSError, EOFError, ValueError, asyncio.IncompleteReadError, TimeoutError):
            pass
        except asyncio.CancelledError:
            pass  # hung up; the server's own task has nobody who would wait for it
        finally:
            self._open.discard(task)
            writer.close()

    async def _through(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        version, count = await reader.readexactly(2)
        await reader.readexactly(count)
        if version != 5:
            return
        writer.write(b"\x05\x00")
        version, command, _, kind = await reader.readexactly(4)
        host = await self._host(reader, kind)
        port = int.from_bytes(await reader.readexactly(2), "big")
        if version != 5 or command != 1 or not host:
            writer.write(_reply(_UNKNOWN_COMMAND))
            return
        if self.spent or len(self._open) > _MOST_CONNECTIONS:
            writer.write(_reply(_NOT_ALLOWED))
            return
        try:
            there, back = await self._connect(host, port)
        except Forbidden as error:
            self.faults[f"{host}:{port}"] = str(error)
            writer.write(_reply(_NOT_ALLOWED))
            return
        except (OSError, TimeoutError, UnicodeError) as error:
            self.faults[f"{host}:{port}"] = _why(host, port, error)
            writer.write(_reply(_REFUSED if isinstance(error, ConnectionError) else _HOST_UNREACHABLE))
            return
        try:
            if host == self.warm:
                self.warm = None
            else:
                await asyncio.sleep(self._speed.round_trip)  # the handshake of TCP
            writer.write(_reply(_DONE))
            await writer.drain()
            await _both(self._pump(reader, back, self._up), self._pump(there, writer, self._down, count=True))
        finally:
            back.close()

    async def _host(self, reader: asyncio.StreamReader, kind: int) -> str | None:
        if kind == 1:
            return str(ipaddress.IPv4Address(await reader.readexactly(4)))
        if kind == 4:
            return str(ipaddress.IPv6Address(await reader.readexactly(16)))
        if kind == 3:
            (length,) = await reader.readexactly(1)
            return (await reader.readexactly(length)).decode("ascii", "replace").strip("[]")
        return None

    async def _connect(self, host: str, port: int) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        """To an address that was judged. Raises :class:`Forbidden`, OSError, TimeoutError."""
        if host.endswith(f".{PREDICTED}") and self._predicted is not None:
            return await asyncio.open_connection(*self._predicted.sockets[0].getsockname()[:2])
        try:
            addresses = [str(ipaddress.ip_address(host))]
        except ValueError:
            async with asyncio.timeout(_LOOKUP):
                addresses = await self._resolve(host, port)
        if not addresses:
            raise OSError("no address")
        failed: OSError | TimeoutError = OSError("no address")
        for address in self._guard.fit(host, port, addresses):
            try:
                async with asyncio.timeout(_CONNECT):
                    return await asyncio.open_connection(address, port)
            except (OSError, TimeoutError) as error:
                failed = error
        raise failed

    async def _pump(
        self,
        source: asyncio.StreamReader,
        sink: asyncio.StreamWriter,
        gate: _Throttle,
        *,
        count: bool = False,
    ) -> None:
        """Passes bytes on, each piece half a round trip after its turn at the gate."""
        later, half = _Later(sink), self._speed.round_trip / 2
        clock = asyncio.get_running_loop()
        try:
            while piece := await source.read(gate.piece):
                if count:
                    self.down_bytes += len(piece)
                    if self.down_bytes > self._most:
                        self.spent = True
                        asyncio.get_running_loop().call_soon(self.hang_up)
                        return
                await gate.passed(len(piece))
                await later.put(clock.time() + half, piece)
        finally:
            await later.end()

    # -- what is predicted ----------------------------------------------------------------------

    async def _answer_predicted(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """HTTP/1.1 (RFC 9112), as far as a browser's GET needs it."""
        try:
            while True:
                head = (await reader.readuntil(b"\r\n\r\n")).decode("latin-1").split("\r\n")
                target = head[0].split(" ")[1]
                host = next((line[5:].strip() for line in head if line[:5].lower() == "host:"), "")
                status, headers, body = (
                    self.answer(host, target) if self.answer is not None else (404, {}, b"")
                )
                lines = [f"HTTP/1.1 {status} .", f"Content-Length: {len(body)}"]
                lines += [f"{name}: {value}" for name, value in headers.items()]
                writer.write("\r\n".join([*lines, "", ""]).encode("latin-1") + body)
                await writer.drain()
        except (OSError, EOFError, IndexError, asyncio.IncompleteReadError, asyncio.LimitOverrunError):
            pass
        finally:
            writer.close()


class _Later:
    """Writes pieces when their time has come, in their order."""

    def __init__(self, sink: asyncio.StreamWriter) -> None:
        self._sink, self._pieces = sink, deque[tuple[float, bytes]]()
        self._more = asyncio.Event()
        self._ended = False
        self._task = asyncio.create_task(self._write())

    async def put(self, when: float, piece: bytes) -> None:
        if self._task.done():
            raise ConnectionResetError
        self._pieces.append((when, piece))
        self._more.set()

    async def end(self) -> None:
        self._ended = True
        self._more.set()
        try:
            await self._task
        except asyncio.CancelledError:
            self._task.cancel()
            raise
        except OSError:
            pass

    async def _write(self) -> None:
        clock = asyncio.get_running_loop()
        while True:
            while not self._pieces:
                if self._ended:
                    with contextlib.suppress(OSError):
                        if self._sink.can_write_eof():
                            self._sink.write_eof()
                    return
                self._more.clear()
                await self._more.wait()
            when, piece = self._pieces.popleft()
            await asyncio.sleep(max(0.0, when - clock.time()))
            self._sink.write(piece)
            await self._sink.drain()


async def _both(first: Awaitable[None], second: Awaitable[None]) -> None:
    """Until both ways have ended, or one of them failed."""
    tasks = [asyncio.ensure_future(first), asyncio.ensure_future(second)]
    try:
        await asyncio.gather(*tasks)
    finally:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)


def _reply(code: int) -> bytes:
    return bytes([5, code, 0, 1, 0, 0, 0, 0, 0, 0])


def _why(host: str, port: int, error: Exception) -> str:
    if isinstance(error, socket.gaierror | UnicodeError):
        return f"there is no host called {host}"
    if isinstance(error, TimeoutError):
        return f"{host}:{port} does not answer"
    if isinstance(error, ConnectionRefusedError):
        return f"nothing listens at {host}:{port}"
    return f"{host}:{port} cannot be reached ({error})"

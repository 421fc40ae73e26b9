"""The tunnel: what goes through, how fast, and what never does."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Callable

import httpx
import pytest

from plumcrate.outgoing.guard import Guard
from plumcrate.pages.profiles import Speed
from plumcrate.pages.tunnel import PREDICTED, Tunnel, predicted_host

BODY = bytes(range(256)) * 400  # 102,400 bytes
HEAD = f"HTTP/1.1 200 OK\r\nContent-Length: {len(BODY)}\r\nContent-Type: text/plain\r\n\r\n".encode()


class Site:
    """A server on loopback that answers anything with the same body, and counts who came."""

    def __init__(self) -> None:
        self.asked: list[bytes] = []
        self.port = 0

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(asyncio.IncompleteReadError, ConnectionError):
            while True:
                self.asked.append(await reader.readuntil(b"\r\n\r\n"))
                writer.write(HEAD + BODY)
                await writer.drain()
        writer.close()

    async def start(self) -> asyncio.Server:
        server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        self.port = server.sockets[0].getsockname()[1]
        return server


@contextlib.asynccontextmanager
async def through(
    allowed: Callable[[int], list[str]], speed: Speed | None = None, most: int = 10**8, **more: object
) -> AsyncIterator[tuple[Site, Tunnel, httpx.AsyncClient]]:
    site = Site()
    server = await site.start()
    tunnel = Tunnel(Guard(allowed(site.port)), most_bytes=most, **more)  # type: ignore[arg-type]
    port = await tunnel.start()
    if speed is not None:
        tunnel.set_line(speed)
    async with httpx.AsyncClient(proxy=f"socks5://127.0.0.1:{port}", timeout=20, trust_env=False) as client:
        yield site, tunnel, client
    await tunnel.close()
    server.close()


def here(port: int) -> list[str]:
    return [f"127.0.0.1:{port}"]


def nowhere(port: int) -> list[str]:
    return []


def test_bytes_come_through_as_they_are_and_are_counted() -> None:
    async def main() -> None:
        async with through(here) as (site, tunnel, client):
            for _ in range(3):
                answer = await client.get(f"http://127.0.0.1:{site.port}/a")
                assert answer.content == BODY
            assert tunnel.down_bytes == 3 * (len(HEAD) + len(BODY))
            assert len(site.asked) == 3

    asyncio.run(main())


def test_what_is_not_listed_is_never_connected_to() -> None:
    async def main() -> None:
        async with through(nowhere) as (site, tunnel, client):
            with pytest.raises(httpx.HTTPError):
                await client.get(f"http://127.0.0.1:{site.port}/")
            with pytest.raises(httpx.HTTPError):
                await client.get(f"http://localhost:{site.port}/")
            assert site.asked == []
            assert "not listed as allowed" in tunnel.faults[f"127.0.0.1:{site.port}"]
            assert "not listed as allowed" in tunnel.faults[f"localhost:{site.port}"]

    asyncio.run(main())


def test_a_name_that_changes_its_answer_gains_nothing() -> None:
    """What is connected to is what was judged: the name is looked up once for each connection."""
    answers = [["93.184.215.14"], ["127.0.0.1"], ["127.0.0.1"]]
    looked_up: list[str] = []

    async def resolve(host: str, port: int) -> list[str]:
        looked_up.append(host)
        return answers.pop(0) if answers else ["127.0.0.1"]

    async def main() -> None:
        async with through(nowhere, resolve=resolve) as (site, tunnel, client):
            # The first answer is public: that very address is tried, not the name once more.
            connected: list[str] = []

            async def connect(address: str, port: int) -> None:
                connected.append(address)
                raise ConnectionRefusedError

            original = asyncio.open_connection
            asyncio.open_connection = connect  # type: ignore[assignment]
            try:
                reader, writer = await original("127.0.0.1", tunnel._server.sockets[0].getsockname()[1])  # type: ignore[union-attr]
                writer.write(b"\x05\x01\x00" + b"\x05\x01\x00\x03\x0chost.example" + (80).to_bytes(2, "big"))
                await reader.readexactly(2)
                assert (await reader.readexactly(10))[1] == 5
                writer.close()
            finally:
                asyncio.open_connection = original
            assert (connected, looked_up) == (["93.184.215.14"], ["host.example"])
            for _ in range(2):
                with pytest.raises(httpx.HTTPError):
                    await client.get(f"http://host.example:{site.port}/")
            assert site.asked == []
            assert "not listed" in tunnel.faults[f"host.example:{site.port}"]

    asyncio.run(main())


def test_a_line_takes_its_time() -> None:
    """A round trip for the connection, one for the answer, and the bytes at their rate, shared by all."""

    async def main() -> None:
        speed = Speed(0.1, 200_000, 100_000)
        async with through(here, speed) as (site, _, client):
            clock = asyncio.get_running_loop().time
            began = clock()
            await client.get(f"http://127.0.0.1:{site.port}/")
            alone = clock() - began
            assert 0.2 + len(BODY) / 200_000 <= alone + 0.005
            began = clock()
            await asyncio.gather(*(client.get(f"http://127.0.0.1:{site.port}/{n}") for n in range(3)))
            assert 3 * len(BODY) / 200_000 <= clock() - began + 0.005

    asyncio.run(main())


def test_connections_share_a_line_evenly() -> None:
    """None waits until another one has all of its bytes."""

    async def main() -> None:
        async with through(here, Speed(0.0, 300_000, None)) as (site, _, client):
            clock = asyncio.get_running_loop().time

            async def fetch() -> tuple[float, float]:
                first = None
                async with client.stream("GET", f"http://127.0.0.1:{site.port}/") as answer:
                    async for _ in answer.aiter_raw():
                        first = first or clock()
                assert first is not None
                return first, clock()

            fetched = await asyncio.gather(*(fetch() for _ in range(4)))
            assert max(first for first, _ in fetched) < min(last for _, last in fetched)

    asyncio.run(main())


def test_what_goes_on_for_ever_is_cut_off() -> None:
    async def main() -> None:
        async with through(here, most=150_000) as (site, tunnel, client):
            await client.get(f"http://127.0.0.1:{site.port}/")
            with pytest.raises(httpx.HTTPError):
                await client.get(f"http://127.0.0.1:{site.port}/")
            assert tunnel.spent
            with pytest.raises(httpx.HTTPError):
                await client.get(f"http://127.0.0.1:{site.port}/")
            tunnel.begin()
            assert (await client.get(f"http://127.0.0.1:{site.port}/")).content == BODY

    asyncio.run(main())


def test_the_first_connection_to_a_warm_host_shakes_no_hands() -> None:
    """Told by whether the wait for the handshake was asked for, not by a clock."""
    waits: list[float] = []

    async def main() -> None:
        warm, other = predicted_host("http", "ledge.example"), predicted_host("https", "ledge.example")
        assert warm != other
        round_trip = 0.0625
        async with through(
            nowhere, Speed(down=None, up=None, round_trip=round_trip), answer=lambda *_: (200, {}, b"x")
        ) as (_, tunnel, client):
            plain_sleep = asyncio.sleep

            async def sleep(seconds: float) -> None:
                waits.append(seconds)
                await plain_sleep(0)

            asyncio.sleep = sleep  # type: ignore[assignment]
            try:
                for host, handshakes in ((other, 1), (warm, 0), (warm, 1)):
                    if host == warm and handshakes == 0:
                        tunnel.warm = warm
                    waits.clear()
                    await client.get(f"http://{host}/", headers={"Connection": "close"})
                    assert waits.count(round_trip) == handshakes, host
                tunnel.warm = warm
                tunnel.begin()
                assert tunnel.warm is None, "another page's connections are its own"
            finally:
                asyncio.sleep = plain_sleep

    asyncio.run(main())


def test_predicted_hosts_are_answered_from_here() -> None:
    def answer(host: str, target: str) -> tuple[int, dict[str, str], bytes]:
        return 200, {"X-Asked": f"{host} {target}"}, target.encode() * 3

    async def main() -> None:
        async with through(nowhere, answer=answer) as (_, tunnel, client):
            for number in range(3):
                got = await client.get(f"http://abc.{PREDICTED}/{number}")
                assert got.text == f"/{number}" * 3
                assert got.headers["x-asked"] == f"abc.{PREDICTED} /{number}"
            assert not tunnel.faults
            # Only hosts below that name are; what merely looks like it is looked up, and not found.
            with pytest.raises(httpx.HTTPError):
                await client.get(f"http://not{PREDICTED}/")

    asyncio.run(main())


@pytest.mark.parametrize(
    "nonsense",
    [
        b"GET / HTTP/1.1\r\nHost: x\r\n\r\n",
        b"\x04\x01\x00\x50\x7f\x00\x00\x01\x00",
        b"\x05",
        b"",
        b"\x05\x01\x00\x05\x02\x00\x01\x7f\x00\x00\x01\x00\x50",
        b"\x05\x01\x00\x05\x01\x00\x09",
        b"\x05\x01\x00\x05\x01\x00\x03\x00\x00\x50",
        b"\x05\xff" + b"\x00" * 255 + b"\x05\x03\x00\x01",
    ],
)
def test_nonsense_is_hung_up_on(nonsense: bytes) -> None:
    async def main() -> None:
        async with through(nowhere) as (site, tunnel, client):
            port = tunnel._server.sockets[0].getsockname()[1]  # type: ignore[union-attr]
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(nonsense)
            writer.write_eof()
            async with asyncio.timeout(5):
                said = await reader.read()
            assert not said or said[0] == 5
            writer.close()
            # and the next is served as ever
            with pytest.raises(httpx.HTTPError):
                await client.get(f"http://127.0.0.1:{site.port}/")
            assert tunnel.faults

    asyncio.run(main())

"""The service under what strangers, or many visitors at once, may send: its memory and its health."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import httpx
from rich.console import Console
from rich.table import Table

from .corpus import as_uploaded, photo, wallpapers
from .stand import Stand, stand

_BODIES, _SLOW, _UPLOADS, _PREVIEWS = 50, 1000, 100, 100


class _Health:
    """Asks for the health, again and again, as a monitor does; keeps the slowest answer."""

    def __init__(self, bench: Stand) -> None:
        self._address = f"http://127.0.0.1:{bench.port}/api/v1/health"
        self._stop = threading.Event()
        self.seconds: list[float] = []
        self._thread = threading.Thread(target=self._ask, daemon=True)
        self._thread.start()

    def _ask(self) -> None:
        with httpx.Client(timeout=60) as client:
            while not self._stop.is_set():
                began = time.perf_counter()
                with suppress(httpx.HTTPError):
                    client.get(self._address).raise_for_status()
                    self.seconds.append(time.perf_counter() - began)
                time.sleep(0.05)

    def end(self) -> str:
        while len(self.seconds) < 20:
            time.sleep(0.05)
        self._stop.set()
        self._thread.join()
        ordered = sorted(self.seconds)
        middle, far = ordered[len(ordered) // 2], ordered[int(len(ordered) * 0.95)]
        return f"{middle * 1000:.0f} ms median, {far * 1000:.0f} ms p95, {ordered[-1] * 1000:.0f} ms at most"


def main() -> None:
    table = Table("what", "health meanwhile", "service's peak", "outcome", title="Under attack, two cores")
    with stand(workers=1, children=1) as bench:
        root = bench.home / "library"
        root.mkdir()
        found = wallpapers()
        pictures = [as_uploaded(photo(found[number % len(found)], 1600)) for number in range(8)]
        for number in range(_PREVIEWS):
            (root / f"p{number:03d}.jpg").write_bytes(pictures[number % 8] + bytes([number]))
        bench.connect(root)
        at_rest = bench.peak("service")
        _row(table, bench, f"at rest ({at_rest:.0f} MB)", _rest)
        _row(table, bench, f"{_BODIES} bodies of 1 GB without a key", lambda: _bodies(bench))
        _row(table, bench, f"{_SLOW:,} slow connections", lambda: _slow(bench))
        _row(table, bench, f"{_PREVIEWS} previews at once", lambda: _previews(bench))
        _row(table, bench, f"{_UPLOADS} uploads that wait", lambda: _uploads(bench, pictures))
    Console(width=120).print(table)


def _row(table: Table, bench: Stand, what: str, deed: Callable[[], str]) -> None:
    health = _Health(bench)
    outcome = deed()
    table.add_row(what, health.end(), f"{bench.peak('service'):.0f} MB", outcome)


def _rest() -> str:
    time.sleep(2)
    return ""


def _bodies(bench: Stand) -> str:
    def one(number: int) -> int:
        """How many bytes went through before the answer, or the end."""
        head = f"POST /api/v1/runs HTTP/1.1\r\nHost: x\r\nContent-Length: {10**9}\r\n\r\n"
        sent, chunk = 0, b" " * 65_536
        with socket.create_connection(("127.0.0.1", bench.port), 10) as connection, suppress(OSError):
            connection.sendall(head.encode())
            for _ in range(16_000):
                sent += connection.send(chunk)
        return sent

    with ThreadPoolExecutor(_BODIES) as pool:
        taken = list(pool.map(one, range(_BODIES)))
    return f"refused after {max(taken) / 1e6:.1f} MB at most"


def _slow(bench: Stand) -> str:
    held: list[socket.socket] = []
    refused = 0
    for number in range(_SLOW):
        # From many addresses of the loopback network, as though from many places.
        connection = socket.socket()
        connection.bind((f"127.0.{number // 200}.{number % 200 + 2}", 0))
        connection.settimeout(1)
        try:
            connection.connect(("127.0.0.1", bench.port))
            connection.sendall(b"GET / HTTP/1.1\r\nHost: x\r\nX-Slow: ")
            held.append(connection)
        except OSError:
            refused += 1
            connection.close()
    time.sleep(12)
    open_still = sum(_is_open(connection) for connection in held)
    for connection in held:
        connection.close()
    return f"{open_still} of {_SLOW:,} still open after 12 s"


def _is_open(connection: socket.socket) -> bool:
    connection.setblocking(False)
    try:
        return connection.recv(1) != b""
    except BlockingIOError:
        return True
    except OSError:
        return False


def _client(bench: Stand) -> httpx.Client:
    """One client with a connection for each of many threads."""
    headers = {"Authorization": bench.client._http.headers["Authorization"]}
    return httpx.Client(headers=headers, timeout=120, limits=httpx.Limits(max_connections=150))


def _previews(bench: Stand) -> str:
    rows = bench.client.pictures("l", limit=_PREVIEWS).rows
    client = _client(bench)

    def one(number: int) -> int:
        address = f"http://127.0.0.1:{bench.port}/api/v1/files/{rows[number].original_id}/preview?width=320"
        return client.get(address).status_code

    began = time.perf_counter()
    with ThreadPoolExecutor(_PREVIEWS) as pool:
        codes = list(pool.map(one, range(len(rows))))
    return f"{codes.count(200)} of {len(codes)} shown in {time.perf_counter() - began:.1f} s"


def _uploads(bench: Stand, pictures: list[bytes]) -> str:
    bench.stop("worker 0")  # nobody treats them, so that each waits as long as it may
    client = _client(bench)

    def one(number: int) -> int:
        address = f"http://127.0.0.1:{bench.port}/api/v1/libraries/l/files/up/{number}.jpg?wait=10"
        content = pictures[number % 8] + bytes([number, 1])
        return client.put(address, content=content).status_code

    began = time.perf_counter()
    with ThreadPoolExecutor(_UPLOADS) as pool:
        codes = list(pool.map(one, range(_UPLOADS)))
    there = len(list(Path(bench.home / "library/up").iterdir()))
    return f"{codes.count(201)} answered, {there} there, in {time.perf_counter() - began:.1f} s"


if __name__ == "__main__":
    main()

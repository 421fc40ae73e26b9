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

from plumcrate.contract.delivery import Delivery, Markup
from plumcrate.contract.libraries import LibraryChange, LibraryRequest

from .corpus import as_uploaded, photo, wallpapers
from .stand import Stand, stand

_NESTED = b"<svg><desc>" * 7_000 + b"</q>" * 19_000
_ODD = b'<img src="/media/p000.jpg" srcset="/media/p000.jpg ' + b"9" * 4_301 + b'w">' + b"<p>" * 20_000
_BODIES, _SLOW, _UPLOADS, _PREVIEWS = 50, 1000, 100, 100


class _Other:
    """Asks for something, again and again, as a monitor or another client does; keeps how long it took."""

    def __init__(self, bench: Stand, path: str = "/health") -> None:
        self._address = f"http://127.0.0.1:{bench.port}/api/v1{path}"
        self._headers = {"Authorization": bench.client._http.headers["Authorization"]}
        self._stop = threading.Event()
        self.seconds: list[float] = []
        self._thread = threading.Thread(target=self._ask, daemon=True)
        self._thread.start()

    def _ask(self) -> None:
        with httpx.Client(timeout=60, headers=self._headers) as client:
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
    table = Table(
        "what",
        "health, or another client, meanwhile",
        "service's peak",
        "outcome",
        title="Under attack, two cores",
    )
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
        other = bench.home / "other"
        other.mkdir()
        (other / "a.jpg").write_bytes(pictures[0])
        bench.client.libraries.connect(LibraryRequest(name="Other", root=str(other), slug="other"))
        asked = "/libraries/other/pictures"
        stars = Markup(no_pages=["**a" * 60 + "**b"])
        bench.client.libraries.change(
            "l", LibraryChange(delivery=Delivery(address="https://ledge.example/media", markup=stars))
        )
        rows: list[tuple[str, Callable[[], str]]] = [
            ("a pattern of 60 stars, 44 pages", lambda: _pages(bench, b"<p>", "/" + "a" * 1_500, 44)),
            ("44 pages of nested drawings", lambda: _pages(bench, _NESTED, "/", 44)),
            ("4 pages of 40 MB", lambda: _pages(bench, b"<img src=a.jpg>" * 2_700_000, "/", 4)),
            ("44 pages with odd sizes", lambda: _pages(bench, _ODD, "/", 44)),
            ("asking for inner addresses", lambda: _inner(bench)),
            ("200 guesses of a password", lambda: _guesses(bench)),
        ]
        _pages(bench, b"<p>", "/", 2)  # until their children are there
        for what, deed in rows:
            _row(table, bench, f"{what} (another client)", deed, asked)
        _row(table, bench, f"{_PREVIEWS} previews at once", lambda: _previews(bench))
        _row(table, bench, f"{_UPLOADS} uploads that wait", lambda: _uploads(bench, pictures))
    Console(width=120).print(table)


def _row(table: Table, bench: Stand, what: str, deed: Callable[[], str], path: str = "/health") -> None:
    other = _Other(bench, path)
    outcome = deed()
    table.add_row(what, other.end(), f"{bench.peak('service'):.0f} MB", outcome)


def _pages(bench: Stand, page: bytes, address: str, times: int) -> str:
    """One client's pages, many at once."""
    client = _client(bench)
    target = f"http://127.0.0.1:{bench.port}/api/v1/libraries/l/page"

    def one(_: int) -> bool:
        answer = client.post(
            target, params={"address": address}, content=page, headers={"Content-Type": "text/html"}
        )
        return answer.status_code == 200 and len(answer.content) >= len(page)

    began = time.perf_counter()
    with ThreadPoolExecutor(times) as pool:
        whole = sum(pool.map(one, range(times)))
    return f"{whole} of {times} came back whole in {time.perf_counter() - began:.1f} s"


def _inner(bench: Stand) -> str:
    """A client asks for addresses that are not the public's."""
    client = _client(bench)
    said: list[int] = []
    for host in ("127.0.0.1:9", "169.254.169.254", "10.0.0.1", "[fe80::1]", "192.0.0.8", "168.63.129.16"):
        settings = {"delivery": {"address": f"http://{host}/media"}}
        root = f"http://127.0.0.1:{bench.port}/api/v1/libraries/l"
        client.patch(root, json=settings).raise_for_status()
        said.append(client.post(f"{root}/asking", json={"path": "p000.jpg"}).status_code)
    client.patch(root, json={"delivery": {"address": "https://ledge.example/media"}}).raise_for_status()
    return f"answers {sorted(set(said))}, nothing was connected to"


def _guesses(bench: Stand) -> str:
    client = httpx.Client(timeout=60)
    target = f"http://127.0.0.1:{bench.port}/api/v1/session"

    def one(number: int) -> int:
        body = {"email": "keeper@ledge.example", "password": f"guess {number}"}
        return client.post(target, json=body).status_code

    with ThreadPoolExecutor(16) as pool:
        codes = list(pool.map(one, range(200)))
    return f"{codes.count(401)} tried, {codes.count(429)} turned away"


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
    rows = bench.client.pictures.page("l", limit=_PREVIEWS).rows
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

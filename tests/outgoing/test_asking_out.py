"""The one way out: what it reaches, how much it reads, how long it waits."""

import gzip
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import httpx
import pytest

import plumcrate
from plumcrate.outgoing import CannotReach, Guard, Outgoing


class Site(ThreadingHTTPServer):
    """Answers as its path says, and notes who asked for what."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), Handler)
        self.asked: list[tuple[str, str]] = []
        self.going_on = threading.Event()
        self.sent = 0

    @property
    def place(self) -> str:
        return f"127.0.0.1:{self.server_port}"


class Handler(BaseHTTPRequestHandler):
    server: Site

    def do_GET(self) -> None:
        self.server.asked.append((self.path, self.headers["Host"]))
        if self.path == "/elsewhere":
            self.send_response(302)
            self.send_header("Location", "/whole")
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        body = gzip.compress(b"packed") if self.path == "/packed" else b"whole"
        self.send_response(200)
        if self.path == "/packed":
            self.send_header("Content-Encoding", "gzip")
        if self.path == "/endless":
            self.end_headers()
            try:
                while not self.server.going_on.wait(0.001):
                    self.wfile.write(b"x" * 10_000)
                    self.server.sent += 10_000
            except OSError:
                pass
            return
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def site() -> Iterator[Site]:
    with Site() as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server
        server.going_on.set()
        server.shutdown()


def out(site: Site, **options: object) -> Outgoing:
    return Outgoing(Guard([site.place]), **options)  # type: ignore[arg-type]


def test_what_is_listed_is_asked_by_its_own_name(site: Site) -> None:
    answer = out(site).ask("GET", f"http://{site.place}/whole")
    assert (answer.status, answer.body, answer.size) == (200, b"whole", 5)
    assert site.asked == [("/whole", site.place)]


@pytest.mark.parametrize("name", ["127.0.0.1", "localhost", "[::ffff:127.0.0.1]", "2130706433", "0x7f.1"])
def test_what_is_not_listed_is_never_connected_to(site: Site, name: str) -> None:
    strict = Outgoing(Guard())
    with pytest.raises(CannotReach):
        strict.ask("GET", f"http://{name}:{site.server_port}/whole")
    assert site.asked == []


@pytest.mark.parametrize(
    "address", ["file:///etc/passwd", "ftp://127.0.0.1/x", "http://", "no address", "http://[::1"]
)
def test_what_is_no_address_of_the_web_is_refused(site: Site, address: str) -> None:
    with pytest.raises(CannotReach):
        out(site).ask("GET", address)


def test_redirects_are_told_and_not_followed(site: Site) -> None:
    answer = out(site).ask("GET", f"http://{site.place}/elsewhere")
    assert (answer.status, answer.headers["location"]) == (302, "/whole")
    assert [path for path, _ in site.asked] == ["/elsewhere"]


def test_an_answer_without_end_ends_at_so_many_bytes(site: Site) -> None:
    with pytest.raises(CannotReach, match="more than 50,000 bytes"):
        out(site, most=50_000).ask("GET", f"http://{site.place}/endless")


def test_an_answer_without_end_ends_when_nobody_waits_for_it(site: Site) -> None:
    asked = []

    def stopped() -> bool:
        asked.append(1)
        return len(asked) > 3

    with pytest.raises(CannotReach, match="not answered whole"):
        out(site, most=10**12).ask("GET", f"http://{site.place}/endless", stopped=stopped)
    assert len(asked) == 4


def test_bytes_are_as_sent_and_text_is_unpacked(site: Site) -> None:
    answer = out(site).ask("GET", f"http://{site.place}/packed")
    assert answer.body == gzip.compress(b"packed", mtime=0) or answer.size > 6
    assert answer.text() == "packed"


def test_a_transport_of_tests_stands_in_for_the_network_and_its_names() -> None:
    seen = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(str(request.url))
        return httpx.Response(204)

    quiet = Outgoing(None, transport=httpx.MockTransport(answer))
    assert quiet.ask("PURGE", "http://cache.example/x").status == 204
    assert seen == ["http://cache.example/x"]


def test_nothing_else_opens_a_connection() -> None:
    """Beside the way out: the tunnel that asks the same guard, and what speaks to our own service or
    browser."""
    home = Path(plumcrate.__file__).parent
    allowed = {
        "outgoing/client.py",
        "pages/tunnel.py",
        "pages/plain.py",
        "client/async_clients.py",
        "client/clients.py",
        "demo/cache.py",
    }
    openers = (
        "create_connection(",
        "open_connection(",
        "urlopen(",
        "httpx.Client(",
        "httpx.AsyncClient(",
        ".connect((",
    )
    found = {
        path.relative_to(home).as_posix()
        for path in home.rglob("*.py")
        if any(opener in path.read_text() for opener in openers)
    }
    assert found <= allowed, found - allowed

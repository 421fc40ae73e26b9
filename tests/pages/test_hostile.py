"""Pages that do their worst, in the real browser: a plain word for each, nothing hangs, nothing leaks, and
every process of the browser ends."""

from __future__ import annotations

import contextlib
import http.server
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from plumcrate.pages.faults import Fault
from plumcrate.pages.process import Walls, Weigher, find_browser, weigher
from plumcrate.pages.processes import below

pytestmark = pytest.mark.skipif(find_browser() is None, reason="no Chromium on this machine")

PIXEL = bytes.fromhex(
    "89504e470d0a1a0a0000000d49484452000000010000000108060000001f15c489"
    "0000000d49444154789c63606060600000000500"
    "0157a8a8b30000000049454e44ae426082"
)


@dataclass
class Site:
    """A server on loopback; ``pages`` are functions of its handler by path. Counts who came with what."""

    pages: dict[str, Callable[[http.server.BaseHTTPRequestHandler], None]] = field(default_factory=dict)
    came: list[tuple[str, dict[str, str]]] = field(default_factory=list)
    port: int = 0

    def page(self, body: str) -> Callable[[http.server.BaseHTTPRequestHandler], None]:
        def answer(handler: http.server.BaseHTTPRequestHandler) -> None:
            send(handler, f"<!doctype html><meta charset=utf-8><title>t</title>{body}".encode())

        return answer

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def asked(self, path: str) -> list[dict[str, str]]:
        return [headers for name, headers in self.came if name.partition("?")[0] == path]


def send(
    handler: http.server.BaseHTTPRequestHandler,
    body: bytes,
    kind: str = "text/html",
    status: int = 200,
    **headers: str,
) -> None:
    handler.send_response(status)
    handler.send_header("Content-Type", kind)
    handler.send_header("Content-Length", str(len(body)))
    for name, value in headers.items():
        handler.send_header(name.replace("_", "-"), value)
    handler.end_headers()
    handler.wfile.write(body)


@contextlib.contextmanager
def serving() -> Iterator[Site]:
    site = Site()

    class Handler(http.server.BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def log_message(self, *_: object) -> None:
            pass

        def do_GET(self) -> None:
            site.came.append((self.path, {name.lower(): value for name, value in self.headers.items()}))
            path = self.path.partition("?")[0]
            with contextlib.suppress(OSError):
                if path == "/pixel.png":
                    send(self, PIXEL, "image/png")
                elif path in site.pages:
                    site.pages[path](self)
                else:
                    send(self, b"no", "text/plain", 404)

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    site.port = server.server_port
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield site
    server.shutdown()
    server.server_close()


@pytest.fixture
def site() -> Iterator[Site]:
    with serving() as one:
        yield one


@pytest.fixture
def secret() -> Iterator[Site]:
    """Something on this machine that pages must not reach."""
    with serving() as one:
        one.pages["/"] = one.page("a secret")
        yield one


def order(address: str, **more: Any) -> dict[str, Any]:
    return {
        "do": "visit",
        "address": address,
        "device": "desktop",
        "line": "open",
        "slower": 1,
        "cookies": [],
        "headers": [],
        "predict": False,
        "rewrite": False,
        "look": False,
        "seconds": 60,
    } | more


def visited(
    site: Site, path: str, *, memory: int = 3_000_000_000, most: int = 50_000_000, **more: Any
) -> dict[str, Any]:
    """What came of one visit. Raises Fault. Nothing of the browser is left."""
    with weigher(Walls([f"127.0.0.1:{site.port}"], most_bytes=most, memory=memory)) as process:
        scratch = str(process.scratch)
        outcome = process.call(order(f"{site.address}{path}", **more), more.get("seconds", 60) + 30)
    assert_gone(scratch)
    return outcome


def fault_of(site: Site, path: str, **more: Any) -> Fault:
    began = time.monotonic()
    with pytest.raises(Fault) as caught:
        visited(site, path, **more)
    assert time.monotonic() - began < 110
    assert "net::" not in str(caught.value)
    assert "Traceback" not in str(caught.value)
    return caught.value


def _environment(number: int) -> bytes:
    try:
        return Path(f"/proc/{number}/environ").read_bytes()
    except OSError:
        return b""


def assert_gone(scratch: str) -> None:
    end = time.monotonic() + 10
    while marked_anywhere(scratch) and time.monotonic() < end:
        time.sleep(0.1)
    assert not marked_anywhere(scratch), "processes of the browser are left"
    assert not Path(scratch).exists()


# -- what comes of a good page -----------------------------------------------------------------------


def test_a_page_is_measured_and_its_pictures_are_found_wherever_they_are_named(site: Site) -> None:
    site.pages["/"] = site.page(
        "<link rel=preload as=image href=/pixel.png?preloaded><h1>Ledge</h1>"
        "<style>.b{width:90px;height:40px;background:url('/pixel.png?background') 0 0/cover}"
        ".c::before{content:'';display:block;width:9px;height:9px;background-image:url(/pixel.png?pseudo)}</style>"
        "<img src=/pixel.png?plain width=200 height=100><div class=b></div><div class=c></div>"
        "<img srcset='/pixel.png?one 1x, /pixel.png?two 2x' style='width:50px'>"
        "<picture><source srcset=/pixel.png?source><img src=/pixel.png?fallback></picture>"
        "<svg width=30 height=30><image href=/pixel.png?svg width=30 height=30 /></svg>"
        "<input type=image src=/pixel.png?input><video poster=/pixel.png?poster width=60 height=40></video>"
        "<img src=/pixel.png?hidden style='display:none'>"
        "<div style='height:5000px'></div><img src=/pixel.png?late loading=lazy width=20 height=20>"
    )
    outcome = visited(site, "/", look=True)
    found = {row["address"].partition("?")[2]: row for row in outcome["page"]["pictures"]}
    assert set(found) == {
        "plain",
        "background",
        "pseudo",
        "one",
        "source",
        "svg",
        "input",
        "poster",
        "hidden",
        "late",
    }
    assert found["late"]["lazy"]
    assert not found["plain"]["lazy"]
    assert found["hidden"]["shown"] is False
    assert found["plain"]["stated"]
    assert not found["one"]["stated"]
    assert found["plain"]["drawn"] == [200, 100]
    assert found["background"]["drawn"] == [90, 90], "cover: as wide as it takes"
    asked = {row["asked"].partition("?")[2]: row for row in outcome["exchanges"]}
    assert "fallback" not in asked
    assert asked["late"]["first"] is False, "it came when the page was scrolled through"
    assert asked["plain"]["bytes"] > len(PIXEL), "with its headers"
    assert outcome["times"]["lcp"] > 0
    assert [shot["part"] for shot in outcome["shots"]] == ["first", "whole"]
    assert outcome["shots"][1]["height"] > 5_000


def test_bytes_are_the_same_every_time(site: Site) -> None:
    site.pages["/"] = site.page("<img src=/pixel.png width=9 height=9><script>1</script>" + "x" * 5_000)
    with weigher(Walls([f"127.0.0.1:{site.port}"])) as process:
        sums = {
            sum(row["bytes"] for row in process.call(order(f"{site.address}/"), 60)["exchanges"])
            for _ in range(4)
        }
    assert len(sums) == 1


def test_a_page_with_broken_scripts_is_weighed_all_the_same(site: Site) -> None:
    site.pages["/"] = site.page(
        "<script>throw 1</script><script>this is no script</script><img src=/pixel.png width=5 height=5>"
        "<script>window.PerformanceObserver = undefined; Object.prototype.toJSON = () => 'x';"
        "Array.prototype.map = null; document.querySelectorAll = null; console.log = null</script>"
    )
    with contextlib.suppress(Fault):
        # What a page breaks for itself may keep it from being looked at; it is said, and nothing hangs.
        assert visited(site, "/")["status"] == 200


def test_text_that_no_record_can_hold_is_mended(site: Site) -> None:
    """NUL and halves of surrogate pairs, in words and addresses."""
    site.pages["/"] = site.page(
        "<h1 id=h></h1><script>h.textContent = 'Ledge \\u0001\\ud800 \\udc00 ' + String.fromCharCode(0)"
        " + 'x'.repeat(30);</script>"
    )
    words = visited(site, "/")["times"]["largest"]["words"]
    assert "\0" not in words
    assert "Ledge" in words
    words.encode()


# -- what signs in -----------------------------------------------------------------------------------


def test_what_signs_in_goes_to_the_pages_own_host_alone(site: Site, secret: Site) -> None:
    def protected(handler: http.server.BaseHTTPRequestHandler) -> None:
        if handler.headers.get("x-key") == "k3y" and "crew=aboard" in (handler.headers.get("cookie") or ""):
            body = f"<!doctype html><img src=http://localhost:{secret.port}/pixel.png><img src=/pixel.png>"
            send(handler, body.encode())
        else:
            send(handler, b"who?", "text/html", 401)

    site.pages["/"] = protected
    assert fault_of(site, "/").code == "sign-in"
    allowed = [f"127.0.0.1:{site.port}", f"localhost:{secret.port}"]
    with weigher(Walls(allowed)) as process:
        signed = order(f"{site.address}/", cookies=[("crew", "aboard")], headers=[("X-Key", "k3y")])
        assert process.call(signed, 60)["status"] == 200
    (headers,) = secret.asked("/pixel.png")
    assert "x-key" not in headers
    assert "cookie" not in headers
    assert site.asked("/pixel.png")[-1]["x-key"] == "k3y"


# -- pages that are none -----------------------------------------------------------------------------


def test_a_page_that_does_not_answer(site: Site) -> None:
    closed = Site(port=1)
    with weigher(Walls(["127.0.0.1"])) as process:
        with pytest.raises(Fault) as caught:
            process.call(order("http://127.0.0.1:9999/"), 60)
        assert caught.value.code == "no-answer"
        assert "nothing listens" in str(caught.value)
        with pytest.raises(Fault) as caught:
            process.call(order(f"{closed.address}/"), 60)
        assert caught.value.code == "unsafe-port"
        # A fault ends nothing: the next page is weighed by the same browser.
        site.pages["/"] = site.page("<p>here")
        assert process.call(order(f"{site.address}/"), 60)["status"] == 200


def test_a_page_that_is_silent(site: Site) -> None:
    site.pages["/"] = lambda handler: time.sleep(15)
    assert fault_of(site, "/", seconds=6).code == "no-answer"


def test_a_page_that_sends_on_for_ever(site: Site) -> None:
    site.pages["/"] = lambda handler: send(handler, b"", "text/html", 302, Location="/")
    assert fault_of(site, "/").code == "redirects"


@pytest.mark.parametrize("kind", ["image/png", "application/json", "text/plain"])
def test_what_is_not_html(site: Site, kind: str) -> None:
    site.pages["/"] = lambda handler: send(handler, PIXEL, kind)
    assert fault_of(site, "/").code == "not-html"


def test_what_would_be_saved_as_a_file(site: Site) -> None:
    site.pages["/"] = lambda handler: send(
        handler, b"x" * 100, "application/octet-stream", Content_Disposition="attachment; filename=a.exe"
    )
    assert fault_of(site, "/").code in ("not-a-page", "not-html")


def test_an_error_page(site: Site) -> None:
    assert "404" in str(fault_of(site, "/nothing"))


def test_a_page_without_end(site: Site) -> None:
    def endless(handler: http.server.BaseHTTPRequestHandler) -> None:
        handler.send_response(200)
        handler.send_header("Content-Type", "text/html")
        handler.send_header("Connection", "close")
        handler.end_headers()
        for _ in range(3_000):
            handler.wfile.write(b"<p>more" * 2_000)
        handler.close_connection = True

    site.pages["/"] = endless
    assert fault_of(site, "/", most=5_000_000).code == "too-large"


@pytest.mark.slow
def test_a_page_that_goes_elsewhere_again_and_again(site: Site) -> None:
    site.pages["/"] = site.page("<script>setTimeout(() => location.search = Math.random(), 30)</script>")
    assert fault_of(site, "/").code in ("never-stays", "too-long", "no-answer")


# -- pages that do not behave --------------------------------------------------------------------------


def test_dialogs_windows_downloads_and_devices_are_of_no_use(site: Site) -> None:
    site.pages["/file"] = lambda handler: send(
        handler, b"x" * 1_000, "application/octet-stream", Content_Disposition="attachment"
    )
    site.pages["/"] = site.page(
        "<a id=a href=/file download>x</a><script>"
        "alert(1); confirm(2); prompt(3); onbeforeunload = () => 'stay';"
        "for (let i = 0; i < 4; i++) window.open('/?' + i); document.getElementById('a').click();"
        "navigator.geolocation.getCurrentPosition(() => {}); Notification.requestPermission();"
        "navigator.mediaDevices?.getUserMedia({audio: true, video: true}).catch(() => {});"
        "navigator.usb?.requestDevice({filters: []}).catch(() => {}); print();"
        "document.documentElement.requestFullscreen?.().catch(() => {}); history.pushState(1, '', '/?state');"
        "</script><p>here"
    )
    outcome = visited(site, "/")
    assert any("dialogs" in note for note in outcome["notes"])
    assert outcome["status"] == 200


@pytest.mark.slow
def test_a_page_that_is_never_quiet(site: Site) -> None:
    site.pages["/"] = site.page(
        "<script>setInterval(() => fetch('/pixel.png?' + Math.random()), 60)</script>"
    )
    outcome = visited(site, "/", seconds=90)
    assert any("never goes quiet" in note for note in outcome["notes"])


@pytest.mark.slow
def test_a_page_that_never_lets_go_of_the_processor(site: Site) -> None:
    site.pages["/"] = site.page("<p>here<script>onload = () => { for (;;); }</script>")
    assert fault_of(site, "/", seconds=15).code == "too-long"


def test_a_page_that_eats_memory(site: Site) -> None:
    site.pages["/"] = site.page(
        "<script>setInterval(() => fetch('/pixel.png?' + Math.random()), 60);"
        "window.kept = []; setInterval(() => {"
        " const more = new Uint8Array(40e6); for (let i = 0; i < more.length; i += 4096) more[i] = i;"
        " kept.push(more); }, 20)</script>"
    )
    assert fault_of(site, "/", memory=900_000_000).code in ("memory", "crashed")


def test_a_temporary_folder_far_down_is_no_obstacle(
    site: Site, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The browser's sockets have names of at most 108 bytes."""
    deep = tmp_path / ("deep" * 20)
    deep.mkdir()
    monkeypatch.setattr(tempfile, "tempdir", str(deep))
    site.pages["/"] = site.page("<p>here")
    assert visited(site, "/")["status"] == 200
    assert list(deep.iterdir()) == []


@pytest.mark.slow
def test_a_browser_that_ends_costs_one_page(site: Site) -> None:
    site.pages["/"] = site.page(
        "<script>setInterval(() => fetch('/pixel.png?' + Math.random()), 60)</script>"
    )
    with weigher(Walls([f"127.0.0.1:{site.port}"])) as process:
        killer = threading.Thread(target=_kill_browser, args=(process, site))
        killer.start()
        with pytest.raises(Fault) as caught:
            process.call(order(f"{site.address}/"), 90)
        killer.join()
        assert caught.value.code == "crashed"
        site.pages["/calm"] = site.page("<p>here")
        assert process.call(order(f"{site.address}/calm"), 90)["status"] == 200, "another is started"
        scratch = str(process.scratch)
    assert_gone(scratch)


def _kill_browser(process: Weigher, site: Site) -> None:
    while not site.asked("/pixel.png"):
        time.sleep(0.1)
    for number in below(process._process.pid):
        command = Path(f"/proc/{number}/cmdline").read_bytes()
        if b"chromium" in command and b"--type=" not in command:
            os.kill(number, signal.SIGKILL)


# -- what must not be reached --------------------------------------------------------------------------


def test_a_page_on_an_address_that_is_not_listed(site: Site, secret: Site) -> None:
    with weigher(Walls([f"127.0.0.1:{site.port}"])) as process, pytest.raises(Fault) as caught:
        process.call(order(f"{secret.address}/"), 60)
    assert caught.value.code == "not-allowed"
    assert secret.came == []


def test_a_redirect_to_an_address_that_is_not_listed(site: Site, secret: Site) -> None:
    site.pages["/"] = lambda handler: send(handler, b"", "text/html", 302, Location=f"{secret.address}/")
    assert fault_of(site, "/").code == "not-allowed"
    assert secret.came == []


def test_a_page_that_probes_this_machine_reaches_nothing(site: Site, secret: Site) -> None:
    """By pictures, styles, scripts, frames, fetch, beacons, sockets and forms, under every name of
    loopback."""
    names = ["127.0.0.1", "localhost", "0.0.0.0", "[::1]", "127.1", "2130706433", "ledge.localhost"]
    targets = ", ".join(f"'http://{name}:{secret.port}/'" for name in names)
    site.pages["/"] = site.page(
        f"<div id=d></div><script>for (const t of [{targets}]) {{"
        " const d = document.getElementById('d');"
        " d.insertAdjacentHTML('beforeend', `<img src=${t}?img><link rel=stylesheet href=${t}?css>"
        "<iframe src=${t}?frame></iframe><object data=${t}?object></object><video src=${t}?video></video>"
        "<link rel=preconnect href=${t}><link rel=prefetch href=${t}?prefetch>`);"
        " const s = document.createElement('script'); s.src = t + '?script'; d.append(s);"
        " fetch(t + '?fetch', {mode: 'no-cors'}).catch(() => {}); navigator.sendBeacon(t + '?beacon', 'x');"
        " try { new WebSocket(t.replace('http', 'ws')); } catch {}"
        " try { new EventSource(t + '?events'); } catch {}"
        " }"
        f" try {{ const s = 'stun:127.0.0.1:{secret.port}';"
        " const p = new RTCPeerConnection({iceServers: [{urls: s}]});"
        " p.createDataChannel('x'); p.createOffer().then((o) => p.setLocalDescription(o)); } catch {}"
        "</script>"
    )
    outcome = visited(site, "/", seconds=100)
    assert outcome["status"] == 200
    assert secret.came == []


def test_the_tunnel_itself_and_the_browsers_own_ports_are_not_reached(site: Site) -> None:
    """A page asks every port that this weighing listens on."""
    heard: list[str] = []
    site.pages["/heard"] = lambda handler: (heard.append(handler.path), send(handler, b"ok", "text/plain"))[1]
    with weigher(Walls([f"127.0.0.1:{site.port}"])) as process:
        site.pages["/calm"] = site.page("<p>here")
        process.call(order(f"{site.address}/calm"), 60)
        ports = _listening(below(process._process.pid) | {process._process.pid})
        assert ports, "the tunnel listens"
        site.pages["/"] = site.page(
            f"<script>Promise.allSettled({sorted(ports)}.map((p) => fetch(`http://127.0.0.1:${{p}}/`,"
            " {mode: 'no-cors'}))).then((all) => fetch('/heard?' + all.map((one) => one.status)))</script>"
        )
        process.call(order(f"{site.address}/"), 60)
    assert heard
    assert "fulfilled" not in heard[0]


def _listening(processes: set[int]) -> set[int]:
    sockets = set()
    for number in processes:
        with contextlib.suppress(OSError):
            for entry in Path(f"/proc/{number}/fd").iterdir():
                with contextlib.suppress(OSError):
                    target = os.readlink(entry)
                    if target.startswith("socket:["):
                        sockets.add(target[8:-1])
    ports = set()
    for line in Path("/proc/net/tcp").read_text().splitlines()[1:]:
        fields = line.split()
        if fields[3] == "0A" and fields[9] in sockets:
            ports.add(int(fields[1].rpartition(":")[2], 16))
    return ports


# -- nothing is left ---------------------------------------------------------------------------------

_DIES = """
import os, sys, threading, time
from plumcrate.pages.process import Walls, weigher
with weigher(Walls([sys.argv[2]])) as process:
    print(process.scratch, flush=True)
    process.call({"do": "visit", "address": sys.argv[1], "device": "desktop", "line": "open", "slower": 1,
                  "cookies": [], "headers": [], "predict": False, "rewrite": False, "look": False,
                  "seconds": 60}, 90)
"""


def test_a_worker_that_is_killed_leaves_no_browser(site: Site) -> None:
    site.pages["/"] = site.page(
        "<script>setInterval(() => fetch('/pixel.png?' + Math.random()), 60)</script>"
    )
    worker = subprocess.Popen(
        [sys.executable, "-c", _DIES, f"{site.address}/", f"127.0.0.1:{site.port}"], stdout=subprocess.PIPE
    )
    assert worker.stdout is not None
    scratch = worker.stdout.readline().decode().strip()
    while not site.asked("/pixel.png"):
        time.sleep(0.1)
    assert len([n for n in below(worker.pid) if scratch.encode() in _environment(n)]) > 2
    worker.kill()
    worker.wait()
    end = time.monotonic() + 15
    while marked_anywhere(scratch) and time.monotonic() < end:
        time.sleep(0.2)
    assert not marked_anywhere(scratch)


def marked_anywhere(scratch: str) -> set[int]:
    return {
        int(place.name)
        for place in Path("/proc").iterdir()
        if place.name.isdigit() and scratch.encode() in _environment(int(place.name)) and _alive(place)
    }


def _alive(place: Path) -> bool:
    try:
        return (place / "stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def test_somebody_who_stops_is_heard_at_once(site: Site) -> None:
    site.pages["/"] = site.page(
        "<script>setInterval(() => fetch('/pixel.png?' + Math.random()), 60)</script>"
    )
    with weigher(Walls([f"127.0.0.1:{site.port}"])) as process:
        scratch = str(process.scratch)
        began = time.monotonic()
        with pytest.raises(Fault) as caught:
            process.call(order(f"{site.address}/"), 90, stopped=lambda: bool(site.asked("/pixel.png")))
        assert caught.value.code == "stopped"
        assert time.monotonic() - began < 20
    assert_gone(scratch)

"""On a busy machine: what bulk work still gets, what it costs the site, how long a person waits.

Four states of the machine: idle; one loop that never rests; two; a web server that is asked all the time.
Each is a session of its own, as other programs on a machine are."""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
from rich.console import Console
from rich.table import Table

from plumcrate.contract.runs import RunKind, RunRequest, RunState, Scope
from plumcrate.records.private import free_port

from .corpus import as_uploaded, photo, wallpapers
from .stand import Stand, stand

_PICTURES, _SIDE, _WATCHED = 60, 1200, 60.0
_LOOP = "while True: pass"
_SITE = """
import http.server, sys
class Site(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        body = bytes(sum(range(20_000)) % 251 for _ in range(20))
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    def log_message(self, *_): pass
http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Site).serve_forever()
"""
_VISITOR = """
import sys, urllib.request
while True: urllib.request.urlopen(f"http://127.0.0.1:{sys.argv[1]}/").read()
"""


def main() -> None:
    table = Table(
        "machine",
        "bulk",
        "to idle",
        "site median",
        "site p95",
        "to without us",
        "a person waits",
        "to idle",
        title="On a busy machine of two cores; goals: bulk 0.1, site's p95 1.15, a person 2.5",
    )
    port = free_port()
    with stand() as bench, _started(_SITE, str(port)):
        _fill(bench)
        idle_rate = idle_wait = 0.0
        states: dict[str, list[str]] = {
            "idle": [],
            "one busy loop": [_LOOP],
            "two busy loops": [_LOOP] * 2,
            "a site under load": [_VISITOR],
        }
        for name, programs in states.items():
            with _all_started(programs, str(port)):
                without = _site(port)
                rate, seen, waited = _watched(bench, port)
            idle_rate, idle_wait = idle_rate or rate, idle_wait or waited
            table.add_row(
                name,
                f"{rate:.2f} MP/s",
                f"{rate / idle_rate:.2f}",
                f"{seen[0]:.1f} ms",
                f"{seen[1]:.1f} ms",
                f"{seen[0] / without[0]:.2f}, {seen[1] / without[1]:.2f}",
                f"{waited:.1f} s",
                f"{waited / idle_wait:.1f}",
            )
    Console(width=130).print(table)


def _fill(bench: Stand) -> None:
    root = bench.home / "library"
    found = wallpapers()
    for number in range(_PICTURES):
        folder = "asked" if number < 4 else "bulk"
        place = root / folder / f"p{number:02d}.jpg"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(as_uploaded(photo(found[number % len(found)], _SIDE)))
    bench.connect(root)
    time.sleep(20)  # until kernels are loaded


def _watched(bench: Stand, port: int) -> tuple[float, tuple[float, float], float]:
    """Megapixels a second of a bulk run, the site's median and p95 in milliseconds meanwhile, and the seconds
    until one picture that a person asks for is treated."""
    client = bench.client
    run = client.runs.start(RunRequest(library="l", scope=Scope(folder="bulk"), force=True))
    time.sleep(5)
    began, before = time.monotonic(), client.runs.get(run.id).done
    seen = _site(port)
    picture = client.pictures.page("l", folder="asked").rows[0].id
    asked = time.monotonic()
    single = client.runs.start(RunRequest(library="l", scope=Scope(pictures=[picture]), force=True))
    client.runs.wait(single.id)
    waited = time.monotonic() - asked
    time.sleep(max(0.0, _WATCHED - (time.monotonic() - began)))
    done = client.runs.get(run.id).done - before
    rate = done * _SIDE * _SIDE * 2 / 3 / 1e6 / (time.monotonic() - began)
    if client.runs.get(run.id).state is RunState.RUNNING:
        client.runs.stop(run.id)
    while client.runs.items(run.id, state=["working", "queued"]).total:
        time.sleep(0.2)
    client.runs.wait(client.runs.start(RunRequest(library="l", kind=RunKind.RESTORE)).id)
    return rate, seen, waited


def _site(port: int) -> tuple[float, float]:
    took = []
    with httpx.Client(base_url=f"http://127.0.0.1:{port}") as visitor:
        for _ in range(150):
            began = time.perf_counter()
            visitor.get("/")
            took.append((time.perf_counter() - began) * 1000)
            time.sleep(0.05)
    return statistics.median(took), statistics.quantiles(took, n=20)[-1]


@contextmanager
def _started(program: str, argument: str) -> Iterator[None]:
    process = subprocess.Popen([sys.executable, "-c", program, argument], start_new_session=True)
    try:
        time.sleep(1)
        yield
    finally:
        process.kill()
        process.wait()


@contextmanager
def _all_started(programs: list[str], argument: str) -> Iterator[None]:
    if not programs:
        yield
        return
    with _started(programs[0], argument), _all_started(programs[1:], argument):
        yield


if __name__ == "__main__":
    main()

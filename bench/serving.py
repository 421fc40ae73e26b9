"""Serving: rate, median time and memory against the framework's own static files, and against nginx.

``script/bench serving``: 10,000 files with copies, 32 connections of wrk (Debian's package), one process
each. Every answer is a copy that was asked for by ``Accept``; the static files are asked for the same bytes
by name.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import httpx
import numpy as np
from rich.console import Console
from rich.table import Table
from sqlalchemy import insert

from plumcrate.contract.delivery import Delivery
from plumcrate.delivery.rules import RulesContext, Server, rules
from plumcrate.records.private import free_port
from plumcrate.records.tables import Derived, File, Library, Picture

from .stand import Stand, stand

_FILES, _CONNECTIONS, _SECONDS, _ROUNDS = 10_000, 32, 8, 3
_OWN, _COPY = 24_000, 9_000
_ACCEPT = "image/avif,image/webp,image/*,*/*;q=0.8"
_LUA = """
local at = 0
request = function()
  at = (at * 1103515245 + 12345) % 2147483648
  local number = math.floor(at / 65536) % {files}
  return wrk.format("GET", string.format("{path}", number % 100, number), {{["Accept"] = "{accept}"}})
end
"""
_STATIC = """
import sys, uvicorn
from starlette.applications import Starlette
from starlette.routing import Mount
from starlette.staticfiles import StaticFiles
app = Starlette(routes=[Mount("/media", StaticFiles(directory=sys.argv[1]))])
uvicorn.run(app, host="127.0.0.1", port=int(sys.argv[2]), log_level="warning", access_log=False)
"""


@dataclass(frozen=True, slots=True)
class Figures:
    rate: float
    median_ms: float


def main() -> None:
    if shutil.which("wrk") is None or not Path("/usr/sbin/nginx").exists():
        sys.exit("this bench needs Debian's wrk and nginx-light")
    table = Table(
        "what",
        "answers a second",
        "median",
        "goal",
        title=f"Serving {_FILES:,} files, {_CONNECTIONS} clients",
    )
    # Where a server may read that does not run as who runs the bench.
    root = Path(tempfile.mkdtemp(prefix="plumcrate-bench-"))
    root.chmod(0o755)
    try:
        _fill(root / "library")
        with stand(workers=0) as bench:
            _record(bench, root / "library")
            _measure(table, bench, root)
    finally:
        shutil.rmtree(root, ignore_errors=True)
    Console(width=110).print(table)


def _name(number: int) -> str:
    return f"{number % 100:02d}/p{number:05d}.jpg"


def _fill(root: Path) -> None:
    rng = np.random.default_rng(1)
    for number in range(_FILES):
        place = root / _name(number)
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(rng.bytes(_OWN))
        Path(f"{place}.avif").write_bytes(rng.bytes(_COPY))


def _record(bench: Stand, root: Path) -> None:
    """Records as a run leaves them, so that nothing has to be treated."""
    bench.connect_only(root)
    settings = Delivery(public=True, address="http://127.0.0.1/media").model_dump(mode="json")
    with bench.database.begin() as session:
        library = session.get_one(Library, 1)
        library.delivery = settings
        session.execute(
            insert(Picture),
            [{"library_id": 1, "path": _name(n), "folder": "", "name": _name(n)} for n in range(_FILES)],
        )
    with bench.database.begin() as session:
        rows = []
        for number in range(_FILES):
            facts = (root / _name(number)).stat()
            rows.append(
                {
                    "library_id": 1,
                    "picture_id": number + 1,
                    "path": _name(number),
                    "format": "jpeg",
                    "width": 640,
                    "height": 480,
                    "size_before": 2 * _OWN,
                    "size_now": facts.st_size,
                    "mtime_ns": facts.st_mtime_ns,
                    "mtime_ns_before": 1,
                    "sha256": number.to_bytes(32),
                    "state": "lighter",
                }
            )
        session.execute(insert(File), rows)
        session.execute(
            insert(Derived),
            [
                {
                    "library_id": 1,
                    "file_id": number + 1,
                    "purpose": "copy",
                    "format": "avif",
                    "size": _COPY,
                    "path": f"{_name(number)}.avif",
                    "sha256": (number + _FILES).to_bytes(32),
                }
                for number in range(_FILES)
            ],
        )


def _measure(table: Table, bench: Stand, root: Path) -> None:
    ours = f"http://127.0.0.1:{bench.port}"
    got = httpx.get(f"{ours}/media/l/{_name(7)}", headers={"Accept": _ACCEPT})
    assert (got.headers["content-type"], len(got.content)) == ("image/avif", _COPY), got.text
    static, nginx = _static(root / "library"), _nginx(root)
    service = bench.processes["service"].pid
    rounds: dict[str, list[Figures]] = {"ours": [], "static": [], "nginx": []}
    _warm(f"{ours}/media/l/")
    before = _memory(service)
    try:
        for _ in range(_ROUNDS):
            rounds["ours"].append(_wrk(f"{ours}/media/l/%02d/p%05d.jpg", root))
            rounds["static"].append(_wrk(f"http://127.0.0.1:{static[1]}/media/%02d/p%05d.jpg.avif", root))
            rounds["nginx"].append(_wrk(f"http://127.0.0.1:{nginx[1]}/media/%02d/p%05d.jpg", root))
    finally:
        for process, _ in (static, nginx):
            process.terminate()
            process.wait(10)
    best = {name: max(found, key=lambda figures: figures.rate) for name, found in rounds.items()}
    for name, said in (
        ("ours", "this service"),
        ("static", "the framework's static files"),
        ("nginx", "nginx with our rules"),
    ):
        table.add_row(said, f"{best[name].rate:,.0f}", f"{best[name].median_ms:.1f} ms", "")
    for name, said, goal in (("static", "against static files", "1.0"), ("nginx", "against nginx", "0.3")):
        table.add_row(
            said,
            f"{best['ours'].rate / best[name].rate:.2f}",
            f"{best[name].median_ms / best['ours'].median_ms:.2f}",
            goal,
        )
    grown = _memory(service) - before
    table.add_row("memory of the service, grown by", f"{grown:+.0f} MB of {before:.0f}", "", "flat")


def _warm(home: str) -> None:
    """Every file once, as after the first visitors."""
    with httpx.Client(headers={"Accept": _ACCEPT}) as client:
        for number in range(_FILES):
            assert client.get(home + _name(number)).status_code == 200


def _static(root: Path) -> tuple[subprocess.Popen[bytes], int]:
    port = free_port()
    process = subprocess.Popen([sys.executable, "-c", _STATIC, str(root), str(port)])
    _wait(port)
    return process, port


def _nginx(root: Path) -> tuple[subprocess.Popen[bytes], int]:
    port, home = free_port(), root / "nginx"
    home.mkdir()
    home.chmod(0o777)
    shutil.copy("/etc/nginx/mime.types", home)
    ground = RulesContext("L", str(root / "library"), "http://x/media", ("avif",), 3_600)
    first, second = rules(Server.NGINX, ground).split("# -- Part 2")
    temporary = " ".join(f"{kind}_temp_path {home}/{kind};" for kind in ("proxy", "fastcgi", "uwsgi", "scgi"))
    (home / "nginx.conf").write_text(
        f"daemon off; worker_processes 1; pid {home}/pid; error_log {home}/error.log; events {{ }}\n"
        f"http {{ access_log off; sendfile on; tcp_nopush on;\n"
        f"client_body_temp_path {home}/body; {temporary}\n"
        f"include mime.types;\n{first}\nserver {{ listen 127.0.0.1:{port};\n# {second} }} }}\n"
    )
    as_nobody = {"user": "nobody", "group": "nogroup", "extra_groups": []} if os.geteuid() == 0 else {}
    process = subprocess.Popen(
        ["/usr/sbin/nginx", "-e", f"{home}/error.log", "-p", str(home), "-c", f"{home}/nginx.conf"],
        stderr=subprocess.DEVNULL,
        **as_nobody,  # type: ignore[call-overload]
    )
    _wait(port)
    return process, port


def _wait(port: int) -> None:
    for _ in range(200):
        try:
            httpx.get(f"http://127.0.0.1:{port}/", timeout=1)
            return
        except httpx.TransportError:
            time.sleep(0.05)
    raise RuntimeError("a server did not come up")


def _wrk(address: str, root: Path) -> Figures:
    origin, path = re.match(r"(http://[^/]+)(/.*)", address).groups()  # type: ignore[union-attr]
    script = root / "ask.lua"
    script.write_text(_LUA.format(files=_FILES, path=path, accept=_ACCEPT))
    said = subprocess.run(
        ["wrk", "-t1", f"-c{_CONNECTIONS}", f"-d{_SECONDS}s", "--latency", "-s", str(script), origin],
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    assert "Non-2xx" not in said, said
    rate = float(re.search(r"Requests/sec:\s+([\d.]+)", said)[1])  # type: ignore[index]
    number, unit = re.search(r"50%\s+([\d.]+)(us|ms|s)", said).groups()  # type: ignore[union-attr]
    return Figures(rate, float(number) * {"us": 0.001, "ms": 1, "s": 1_000}[unit])


def _memory(pid: int) -> float:
    """Resident megabytes of a process."""
    pages = int(Path(f"/proc/{pid}/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6

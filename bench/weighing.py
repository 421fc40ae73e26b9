"""Weighing: how far repeats of one page are from each other, and what is found on real documentation.

``script/bench weighing``: one painted page ten times on each device; then 20 pages with pictures of Debian's
-doc packages, served on loopback. ``script/bench weighing --pictures`` names the pictures of each finding.
"""

from __future__ import annotations

import argparse
import contextlib
import functools
import http.server
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.contract.weighing import Device, PageFinding, Reading
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.pages.faults import Fault
from plumcrate.pages.findings import FindingContext, findings_of
from plumcrate.pages.page_reading import reading_of
from plumcrate.pages.process import Walls, Weigher, weigher
from plumcrate.pages.profiles import PROCESSORS, USUAL

from .pages import unpacked

_REPEATS, _PASSES, _PAGES = 10, 3, 20


def main() -> None:
    parser = argparse.ArgumentParser(prog="script/bench weighing")
    parser.add_argument("--pictures", action="store_true", help="name the pictures of each finding")
    options = parser.parse_args()
    console = Console(width=170)
    with tempfile.TemporaryDirectory() as folder, served(Path(folder)) as site:
        _paint(Path(folder))
        console.print(_repeats(f"{site}/index.html"))
    root = unpacked()
    with served(root) as site:
        for address in _with_pictures(root):
            _tell(console, site, address, pictures=options.pictures)


@contextlib.contextmanager
def served(root: Path) -> Iterator[str]:
    """A folder on loopback."""

    class Quiet(http.server.SimpleHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def log_message(self, *_: object) -> None:
            pass

    handler = functools.partial(Quiet, directory=str(root))
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


def _paint(folder: Path) -> None:
    for number in range(6):
        scene = SCENES["headland"](np.random.default_rng(number), 1_200, 800, number)
        Image.fromarray((scene.clip(0, 1) * 255).astype("uint8")).save(folder / f"{number}.jpg", quality=85)
    pictures = "".join(f'<img src="{number}.jpg" width="600" height="400">' for number in range(6))
    (folder / "index.html").write_text(
        f'<!doctype html><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
        f"<title>Ledge</title><style>img{{max-width:100%;height:auto}}</style><h1>Ledge</h1>{pictures}"
    )


def _order(address: str, device: Device) -> dict[str, Any]:
    line, processor = USUAL[device]
    return {
        "do": "visit",
        "address": address,
        "device": str(device),
        "line": str(line),
        "slower": PROCESSORS[processor],
        "cookies": [],
        "headers": [],
        "predict": False,
        "rewrite": False,
        "look": False,
        "seconds": 120,
    }


def _read(
    process: Weigher, address: str, device: Device, passes: int
) -> tuple[Reading, list[dict[str, Any]]]:
    order = _order(address, device)
    looked = process.call(order | {"look": True, "line": "open", "slower": 1}, 200)
    outcomes = [process.call(order, 200) for _ in range(passes)]
    return reading_of([looked, *outcomes], device, *USUAL[device]), [looked, *outcomes]


def _repeats(address: str) -> Table:
    table = Table(
        "device",
        "what",
        "median",
        "least",
        "most",
        "goal",
        title=f"one page, {_REPEATS} weighings of {_PASSES} passes: how far they are from their median",
    )
    for device in Device:
        with weigher(Walls(["127.0.0.1"])) as process:
            found = [_read(process, address, device, _PASSES)[0] for _ in range(_REPEATS)]
        sizes = [reading.bytes.median for reading in found]
        table.add_row(
            str(device), "bytes", f"{sizes[0]:,.0f}", f"{min(sizes):,.0f}", f"{max(sizes):,.0f}", "the same"
        )
        for name in ("fcp", "lcp", "load"):
            values = sorted(getattr(reading, name).median for reading in found)
            middle = (values[4] + values[5]) / 2
            low, high = (f"{100 * (value / middle - 1):+.1f} %" for value in (values[0], values[-1]))
            table.add_row(str(device), name, f"{middle:.3f} s", low, high, "±10 %" if name == "lcp" else "")
    return table


def _with_pictures(root: Path) -> list[str]:
    """Pages of several packages, each with pictures that are there."""
    found = sorted(
        path for path in root.rglob("*.html") if path.is_file() and not path.is_symlink() and _shows(path)
    )
    step = max(1, len(found) // _PAGES)
    return [path.relative_to(root).as_posix() for path in found[::step]][:_PAGES]


def _shows(page: Path) -> bool:
    if page.stat().st_size > 500_000:
        return False
    text = page.read_bytes().lower()
    return b"<img" in text and (b".png" in text or b".jpg" in text)


def _tell(console: Console, site: str, path: str, *, pictures: bool) -> None:
    console.print(f"\n[bold]{path}[/bold]")
    try:
        with weigher(Walls(["127.0.0.1"])) as process:
            for device in Device:
                reading, outcomes = _read(process, f"{site}/{quote(path)}", device, 1)
                said = f"  {device}: {reading.bytes.median / 1e3:,.0f} kB, {len(reading.pictures)} pictures"
                lcp = f", largest paint {reading.lcp.median:.2f} s" if reading.lcp else ""
                console.print(said + lcp + "".join(f"; {note}" for note in reading.notes), markup=False)
                for finding in findings_of(reading, _ground(outcomes)):
                    _say(console, reading, finding, pictures=pictures)
    except Fault as fault:
        console.print(f"  {fault.code}: {fault}", markup=False)


def _ground(outcomes: list[dict[str, Any]]) -> FindingContext:
    looked, measured = outcomes
    failed = {
        row["asked"]: f"the site answers {row['status']}"
        for row in looked["exchanges"]
        if row["status"] >= 400
    }
    begun = {row["asked"].partition("#")[0]: row["begun"] for row in reversed(measured["exchanges"])}
    return FindingContext({}, begun, {}, failed, 0.5)


def _say(console: Console, reading: Reading, finding: PageFinding, *, pictures: bool) -> None:
    won = f"−{finding.bytes / 1e3:,.0f} kB " if finding.bytes else ""
    won += f"−{finding.seconds:.2f} s " if finding.seconds >= 0.1 else ""
    numbers = ", ".join(map(str, finding.pictures[:12]))
    console.print(f"    {won}{finding.code} [{numbers}]: {finding.text}", markup=False)
    if pictures:
        for one in reading.pictures:
            if one.number in finding.pictures[:4]:
                name = one.address.rpartition("/")[2]
                console.print(
                    f"        {one.number} {name} {one.how} {one.natural_width}x{one.natural_height} at "
                    f"{one.box.left:.0f},{one.box.top:.0f} {one.box.width:.0f}x{one.box.height:.0f} "
                    f"{'lazy ' if one.lazy else ''}{'stated ' if one.stated else ''}{one.bytes:,}",
                    markup=False,
                )

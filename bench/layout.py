"""Layout: pages of real documentation before and after our rewriting, drawn in Chromium; which boxes moved.

``script/bench layout [PAGES]``: pages with pictures of Debian's -doc packages, at 390 and 1280 pixels, with
their styles. Each picture is really there in a lighter form and in two sizes, as the server would choose
them. A box moved when an element lies or measures a pixel or more elsewhere than before, once everything has
loaded.
"""

from __future__ import annotations

import io
import sys
import threading
from collections import Counter
from collections.abc import Mapping, Sequence
from functools import cache
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote, urlsplit

from PIL import Image
from playwright.sync_api import Page, sync_playwright
from rich.console import Console
from rich.table import Table

from plumcrate.contract.delivery import Delivery, Markup, PageCopy, PageFile
from plumcrate.markup import rewrite

from .pages import unpacked

_WIDTHS = (390, 1280)
_ENDINGS = (".png", ".jpg", ".jpeg", ".gif")
_WAYS = {
    "as we do unless asked": Markup(),
    "with width and height": Markup(dimensions=True),
    "with <picture> elements": Markup(elements=True),
}
_BOXES = """() => [...document.body.querySelectorAll('*')]
  .filter((one) => !['SOURCE', 'PICTURE'].includes(one.tagName))
  .map((one) => { const box = one.getBoundingClientRect();
                  return [one.tagName, box.left + scrollX, box.top + scrollY, box.width, box.height]; })"""
_ALL_LOADED = """async () => {
  for (let y = 0; y < document.documentElement.scrollHeight; y += 600) {
    scrollTo(0, y); await new Promise((done) => setTimeout(done, 15)); }
  const still = [...document.images].filter((one) => !one.complete);
  await Promise.race([Promise.all(still.map((one) => new Promise((done) => { one.onload = one.onerror = done;
  }))),
                      new Promise((done) => setTimeout(done, 3000))]);
  scrollTo(0, 0); }"""


class Site(ThreadingHTTPServer):
    """The documentation as a site; below ``/WAY/`` its pages are rewritten so."""

    def __init__(self, root: Path) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.root, self.ways = root, dict(enumerate(_WAYS.values(), 1))
        self.address = f"http://127.0.0.1:{self.server_address[1]}"

    def look_up(self, way: int, paths: Sequence[str]) -> Mapping[str, PageFile]:
        return {
            path: file for path in paths if (file := facts_of(self.root / unquote(path), path)) is not None
        }

    def page(self, way: int, path: str) -> bytes:
        data = (self.root / path).read_bytes()
        if way not in self.ways:
            return data
        home = f"{self.address}/{way}"
        settings = Delivery(address=home, markup=self.ways[way])
        return rewrite(data, f"{home}/{quote(path)}", settings, lambda paths: self.look_up(way, paths))[0]


class _Handler(BaseHTTPRequestHandler):
    server: Site

    def do_GET(self) -> None:
        path = unquote(urlsplit(self.path).path).lstrip("/")
        way, _, rest = path.partition("/")
        place, _, width = rest.partition("@")
        file = (self.server.root / place).resolve()
        if not file.is_relative_to(self.server.root) or not file.is_file():
            self.send_error(404)
            return
        if file.suffix in (".html", ".htm"):
            data, kind = self.server.page(int(way), place), "text/html"
        elif file.suffix.lower() in _ENDINGS and way != "0":
            wanted = int(width.partition("w")[0]) if width else None
            data, kind = lighter(file, wanted), "image/webp"
        else:
            data, kind = file.read_bytes(), _KINDS.get(file.suffix, "application/octet-stream")
        self.send_response(200)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, format: str, *args: Any) -> None:
        pass


_KINDS = {
    ".css": "text/css",
    ".js": "text/javascript",
    ".svg": "image/svg+xml",
    ".png": "image/png",
    ".jpg": "image/jpeg",
    ".gif": "image/gif",
}


@cache
def facts_of(file: Path, path: str) -> PageFile | None:
    """A picture of the documentation as a file of a library: with a copy, and sizes of a third and two
    thirds."""
    if file.suffix.lower() not in _ENDINGS or not file.is_file():
        return None
    try:
        with Image.open(file) as image:
            width, height = image.size
    except OSError:
        return None

    def form(name: str, wide: int) -> PageFile:
        copies = [PageCopy(path=f"{name}.webp", media_type="image/webp", bytes=1 + wide)]
        return PageFile(
            path=name,
            media_type="image/png",
            bytes=2 + 2 * wide,
            width=wide,
            height=max(1, round(height * wide / width)),
            copies=copies,
        )

    found = form(path, width)
    found.sizes = [form(f"{path}@{part}w", part) for part in {width // 3, 2 * width // 3} if part]
    return found


@cache
def lighter(file: Path, width: int | None) -> bytes:
    """What a server that chooses would send."""
    out = io.BytesIO()
    with Image.open(file) as image:
        whole = image.convert("RGBA")
        if width:
            whole = whole.resize((width, max(1, round(whole.height * width / whole.width))))
        whole.save(out, "WEBP", quality=60)
    return out.getvalue()


def boxes(page: Page, address: str) -> list[list[Any]]:
    page.goto(address, wait_until="load", timeout=60_000)
    page.evaluate(_ALL_LOADED)
    found: list[list[Any]] = page.evaluate(_BOXES)
    return found


def moved(before: list[list[Any]], after: list[list[Any]]) -> int:
    """Elements that lie or measure otherwise; all of them where the pages have other elements."""
    if [one[0] for one in before] != [one[0] for one in after]:
        return len(before)
    return sum(
        any(abs(a - b) >= 1 for a, b in zip(one[1:], other[1:], strict=True))
        for one, other in zip(before, after, strict=True)
    )


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    root = unpacked().resolve()
    with_pictures = [
        path.relative_to(root).as_posix()
        for path in sorted(root.rglob("*.html"))
        if path.is_file() and path.stat().st_size < 1_000_000 and b"<img" in path.read_bytes().lower()
    ]
    pages = with_pictures[:: max(1, len(with_pictures) // count)][:count]
    site = Site(root)
    threading.Thread(target=site.serve_forever, daemon=True).start()
    elements: Counter[str] = Counter()
    pages_moved: Counter[str] = Counter()
    worst: dict[str, str] = {}
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path="/usr/bin/chromium")
        for width in _WIDTHS:
            page = browser.new_context(viewport={"width": width, "height": 900}).new_page()
            for path in pages:
                before = boxes(page, f"{site.address}/0/{quote(path)}")
                for way, name in enumerate(_WAYS, 1):
                    number = moved(before, boxes(page, f"{site.address}/{way}/{quote(path)}"))
                    elements[name] += number
                    pages_moved[name] += number > 0
                    if number:
                        worst.setdefault(name, f"{path} at {width}")
        browser.close()
    site.shutdown()
    table = Table("rewriting", "boxes moved", "pages", "the first", title=f"{len(pages)} pages, twice")
    for name in _WAYS:
        table.add_row(name, f"{elements[name]:,}", f"{pages_moved[name]}", worst.get(name, ""))
    Console(width=130).print(table, "goal: 0 boxes as we do unless asked")

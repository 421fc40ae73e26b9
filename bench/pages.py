"""Pages: real software documentation rewritten, proven to be the same but for its pictures.

``script/bench pages``: 500 HTML files of Debian's -doc packages, downloaded and unpacked, never committed.
"""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from urllib.parse import quote
from xml.etree.ElementTree import Element

import tinyhtml5
from rich.console import Console
from rich.table import Table

from plumcrate.contract.delivery import Delivery, Markup, PageCopy, PageFile, Placeholder
from plumcrate.markup import rewrite
from plumcrate.markup.tokenizer import Tokenizer

_HOME = Path(os.environ.get("PLUMCRATE_CORPUS", ".state/corpus"))
_PACKAGES = (
    "python3-doc",
    "python3.11-doc",
    "postgresql-doc-15",
    "debian-reference-en",
    "gnuplot-doc",
    "inkscape-tutorials",
    "octave-doc",
    "python-matplotlib-doc",
    "gimp-help-en",
    "apache2-doc",
)
_FILES = 500
_HTML = "{http://www.w3.org/1999/xhtml}"
_SETTINGS = Delivery(address="https://doc.example/", markup=Markup(placeholder=Placeholder.PREVIEW))


def main() -> None:
    pages = _pages()
    pictures = sum(page.lower().count(b"<img") for _, page in pages)
    size = sum(len(page) for _, page in pages)
    began = time.perf_counter()
    rewritten = [rewrite(page, address, _SETTINGS, _look_up) for address, page in pages]
    seconds = time.perf_counter() - began
    began = time.perf_counter()
    for _, page in pages:
        _tokens(page)
    tokenizing = time.perf_counter() - began
    again = same = identical = 0
    for (address, page), (out, _) in zip(pages, rewritten, strict=True):
        again += rewrite(out, address, _SETTINGS, _look_up)[0] == out
        identical += _is_within(page, out)
        same += _tree(page) == _tree(out)
    seen = sum(tally.pictures for _, tally in rewritten)
    changed = sum(tally.changed for _, tally in rewritten)
    began = time.perf_counter()
    for _, page in pages[:50]:
        tinyhtml5.parse(page)
    parsing = sum(len(page) for _, page in pages[:50]) / (time.perf_counter() - began)
    table = Table(
        "what", "figure", "goal", title=f"{len(pages)} pages, {size / 1e6:.1f} MB, {pictures:,} <img>"
    )
    table.add_row("pictures of the library in them; given something", f"{seen:,}; {changed:,}", "")
    table.add_row("same tree but for its pictures", f"{same} of {len(pages)}", "all")
    table.add_row("a second pass changes nothing", f"{again} of {len(pages)}", "all")
    table.add_row("every byte of the page is there, in its order", f"{identical} of {len(pages)}", "all")
    table.add_row("rewriting", f"{size / seconds / 1e6:.1f} MB/s", "")
    table.add_row("the tokenizer alone", f"{size / tokenizing / 1e6:.1f} MB/s", "")
    table.add_row(
        "against a parser of the standard in Python", f"{size / seconds / parsing:.1f} times as fast", ""
    )
    Console(width=110).print(table)
    assert same == again == identical == len(pages)


def _pages() -> list[tuple[str, bytes]]:
    """Addresses and contents; pages with pictures first, so that there are many of them."""
    root = unpacked()
    found = sorted(path for path in root.rglob("*.html") if path.is_file() and not path.is_symlink())
    read = [(path, path.read_bytes()) for path in found if path.stat().st_size < 2_000_000]
    with_pictures = [pair for pair in read if b"<img" in pair[1].lower()]
    others = [pair for pair in read if b"<img" not in pair[1].lower()]
    wanted = with_pictures[:: max(1, len(with_pictures) // 400)][:400]
    wanted += others[:: max(1, len(others) // (_FILES - len(wanted)))][: _FILES - len(wanted)]
    return [
        (f"https://doc.example/{quote(path.relative_to(root).as_posix())}", data) for path, data in wanted
    ]


def unpacked() -> Path:
    """Where the documentation lies, downloaded when it is not there yet."""
    target = _HOME / "documentation"
    if not target.exists():
        _HOME.mkdir(parents=True, exist_ok=True)
        for package in _PACKAGES:
            done = subprocess.run(
                ["apt-get", "download", package], cwd=_HOME, check=False, capture_output=True
            )
            for file in _HOME.glob(f"{package}_*.deb") if done.returncode == 0 else ():
                subprocess.run(["dpkg-deb", "-x", file, target], check=True)
                file.unlink()
    return target


def _look_up(paths: Sequence[str]) -> Mapping[str, PageFile]:
    """Every picture is taken for one of the library, with copies and two sizes."""
    return {
        path: _file(path)
        for path in paths
        if path.rpartition(".")[2].lower() in ("png", "jpg", "gif", "jpeg")
    }


def _file(path: str) -> PageFile:
    def sized(name: str, width: int, size: int) -> PageFile:
        copies = [
            PageCopy(path=f"{name}.{kind}", media_type=f"image/{kind}", bytes=size // part)
            for kind, part in (("avif", 3), ("webp", 2))
        ]
        return PageFile(
            path=name, media_type="image/png", bytes=size, width=width, height=width // 2, copies=copies
        )

    found = sized(path, 1_200, 90_000)
    found.sizes = [sized(f"{path}-600w.png", 600, 30_000)]
    found.preview = "data:image/webp;base64,UklGRkYAAABXRUJQ"
    return found


def _tokens(page: bytes) -> int:
    tokenizer = Tokenizer()
    return sum(1 for _ in (*tokenizer.feed(page.decode("latin-1")), *tokenizer.close()))


def _is_within(page: bytes, out: bytes) -> bool:
    """Whether a page is what is left of another when pieces are taken out of it."""
    at = 0
    for start in range(0, len(page), 1):
        at = out.find(page[start : start + 1], at)
        if at < 0:
            return False
        at += 1
    return True


def _tree(page: bytes) -> list[object]:
    """A page's tree in its order, with no more of its pictures than where they are."""

    def below(element: Element) -> list[object]:
        name = element.tag.removeprefix(_HTML) if isinstance(element.tag, str) else "comment"
        inner: list[object] = []
        for child in element:
            inner += below(child)
        if name == "source":
            return [element.tail]
        if name == "picture":
            return [*inner, element.tail]
        kept = (
            {} if name == "img" else {key: value for key, value in element.attrib.items() if key != "style"}
        )
        return [name, sorted(map(str, kept.items())), element.text, *inner, element.tail]

    return [part for part in below(tinyhtml5.parse(page)) if part]

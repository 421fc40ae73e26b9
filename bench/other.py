"""Files that are no ordinary pictures: drawings (SVG) and documents (PDF). ``script/bench other [COUNT]``.

Baseline for drawings: the file as it is, and packed by ``gzip -9``. Each result is drawn by Chromium, which
is not what it was proven with, at three sizes on light and dark, beside its original. Baseline for documents:
what packing their streams anew with zlib gives. Scans are wallpapers, six to a document, at 200 pixels to the
inch.
"""

from __future__ import annotations

import base64
import gzip
import io
import sys
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

import numpy as np
import pikepdf
from fpdf import FPDF
from numpy.typing import NDArray
from PIL import Image
from playwright.sync_api import Page, sync_playwright
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Chosen, ImagingError, Level, Recipe, treat
from plumcrate.imaging.identification import identify
from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.scoring import Judge

from .corpus import as_uploaded, documents, held_out, photo, vector_drawings

_SEED = 26
_SIDES, _GROUNDS = (64, 288, 800), ("#fff", "#111")


@dataclass
class Sums:
    """Of all files of a level; ``before`` and ``packed`` of those that were treated."""

    files: int = 0
    before: int = 0
    after: int = 0
    packed: int = 0
    packed_after: int = 0
    seconds: float = 0.0
    shots: int = 0
    differing: int = 0
    worst: float = 100.0
    left: Counter[str] = field(default_factory=Counter)

    def take(self, data: bytes, level: Level) -> bytes | None:
        """What a file becomes; None where it is left alone."""
        began = time.process_time()
        try:
            main = treat(data, Recipe(level)).main
        except ImagingError as error:
            self.left[str(error)[:90]] += 1
            return None
        finally:
            self.seconds += time.process_time() - began
        made = main.data if isinstance(main, Chosen) else data
        self.files += made != data
        self.before += len(data)
        self.after += len(made)
        return made


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 300
    files = [path.read_bytes() for path in vector_drawings(count, _SEED)]
    table = Table("level", "lighter", "bytes", "packed", "goal", "ms each", "shots", "differ", "worst score")
    console = Console(width=130)
    with _browser() as page:
        for level in (Level.EXACT, Level.EVERYDAY):
            sums = _measured(files, level, page)
            table.add_row(
                str(level),
                f"{sums.files} of {count}",
                f"{sums.after / sums.before - 1:+.1%}",
                f"{sums.packed_after / sums.packed - 1:+.1%}",
                "-25 %, 0 differ at exact",
                f"{1000 * sums.seconds / count:.0f}",
                f"{sums.shots:,}",
                str(sums.differing),
                f"{sums.worst:.1f}",
            )
            for reason, times in sums.left.most_common():
                console.print(f"  {level}: {times} × {reason}")
    console.print(table)
    console.print(_of_documents(max(1, count // 3)))


def _of_documents(count: int) -> Table:
    table = Table("documents", "level", "lighter", "bytes", "zlib alone", "goal", "s each", "left alone")
    kinds = {
        "Debian's": [path.read_bytes() for path in documents(count, _SEED)],
        "scans": list(_scans(4)),
    }
    for kind, files in kinds.items():
        for level, goal in ((Level.EXACT, "-8 %"), (Level.EVERYDAY, "-35 % (scans)")):
            sums = Sums()
            for data in files:
                if sums.take(data, level) is None:
                    continue
                sums.packed_after += min(len(data), len(_packed_plainly(data)))
            table.add_row(
                kind,
                str(level),
                f"{sums.files} of {len(files)}",
                f"{sums.after / sums.before - 1:+.1%}",
                f"{sums.packed_after / sums.before - 1:+.1%}",
                goal,
                f"{sums.seconds / len(files):.1f}",
                ", ".join(f"{times} × {reason}" for reason, times in sums.left.items()),
            )
    return table


def _packed_plainly(data: bytes) -> bytes:
    out = io.BytesIO()
    with pikepdf.open(io.BytesIO(data)) as pdf:
        pdf.save(out, recompress_flate=True, object_stream_mode=pikepdf.ObjectStreamMode.generate)
    return out.getvalue()


def _scans(count: int) -> Iterator[bytes]:
    pictures = held_out()
    for number in range(count):
        document = FPDF()
        for path in pictures[number * 6 : number * 6 + 6]:
            document.add_page()
            image = photo(path, 1600)
            document.image(io.BytesIO(as_uploaded(image)), x=5, y=5, w=200)
        yield bytes(document.output())


def _measured(files: list[bytes], level: Level, page: Page) -> Sums:
    sums = Sums()
    for data in files:
        made = sums.take(data, level)
        if made is None:
            continue
        sums.packed += len(gzip.compress(data, 9))
        sums.packed_after += len(gzip.compress(made, 9))
        for side in _SIDES:
            for ground in _GROUNDS:
                _compare(sums, *(_shot(page, one, side, ground) for one in (data, made)))
    return sums


def _compare(sums: Sums, before: NDArray[np.uint8], after: NDArray[np.uint8]) -> None:
    sums.shots += 1
    if not np.array_equal(before, after):
        sums.differing += 1
        sums.worst = min(sums.worst, Judge(Pixels(before)).score(Pixels(after)))


def _shot(page: Page, data: bytes, side: int, ground: str) -> NDArray[np.uint8]:
    width, height = identify(data).shown_size
    longer = "width" if width >= height else "height"
    source = base64.b64encode(data).decode()
    page.set_content(
        f"<body style='margin:0;background:{ground}'>"
        f"<img style='{longer}:{side}px' src='data:image/svg+xml;base64,{source}'>"
    )
    page.evaluate("document.images[0].decode().catch(() => 0)")
    shot = page.screenshot(clip={"x": 0, "y": 0, "width": side, "height": side})
    return np.asarray(Image.open(io.BytesIO(shot)).convert("RGB"))


@contextmanager
def _browser() -> Iterator[Page]:
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
        yield browser.new_page(viewport={"width": _SIDES[-1], "height": _SIDES[-1]})
        browser.close()

"""Drawn pictures: charts, logos, interface shots, gradients and shadows keep flat colours and smooth ground.

A treatment's palettes and codecs against a plain palette of 256 colours from Pillow, the baseline: how far
the worst flat colour moves (CIEDE2000), and how far smooth ground jumps.
"""

from __future__ import annotations

import io
import time
from concurrent.futures import ProcessPoolExecutor
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.demo.painter.diagrams import every_diagram
from plumcrate.imaging import Level, Recipe, treat
from plumcrate.imaging.scoring.flatness import FlatGround, Flatness

_WIDTH = 480
#: Goals: a palette moves no flat colour by more, in CIEDE2000.
_MOST_MOVED = 1.0
_Row = tuple[str, int, Flatness, float | None]


def main() -> None:
    drawn = every_diagram(_WIDTH)
    with ProcessPoolExecutor(2) as pool:
        plain = list(pool.map(_plain, drawn.values()))
        rows: list[tuple[str, str, list[_Row]]] = [("plain palette", "png", plain)]
        for level in (Level.GALLERY, Level.EVERYDAY, Level.LEAN):
            began = time.monotonic()
            treated = [row for some in pool.map(partial(_treated, level), drawn.values()) for row in some]
            print(f"{level}: {time.monotonic() - began:.0f} s")
            for kind in ("png", "webp", "avif"):
                rows.append((str(level), kind, [row for row in treated if row[0] == kind]))
    table = Table(
        "level",
        "format",
        "of them",
        "bytes",
        f"moved (PNG: at most {_MOST_MOVED})",
        "strayed",
        "jump",
        "worst place",
        title=f"{len(drawn)} drawn pictures, {_WIDTH} pixels wide",
    )
    for name, kind, found in rows:
        worst = [place for *_, place in found if place is not None]
        table.add_row(
            name,
            kind,
            str(len(found)),
            f"{sum(row[1] for row in found):,}",
            f"{max((row[2].moved for row in found), default=0):.2f}",
            f"{max((row[2].strayed for row in found), default=0):.0%}",
            f"{max((row[2].jump for row in found), default=0):.2f}",
            f"{min(worst):.1f}" if worst else "",
        )
    Console(width=130).print(table)


def _over_grey(image: Image.Image) -> NDArray[np.uint8]:
    """What is seen of a picture on a light ground."""
    rgba = image.convert("RGBA")
    ground = Image.new("RGBA", rgba.size, (232, 232, 232, 255))
    return np.asarray(Image.alpha_composite(ground, rgba).convert("RGB"))


def _judged(image: Image.Image, data: bytes) -> Flatness:
    with Image.open(io.BytesIO(data)) as result:
        return FlatGround(_over_grey(image)).judge(_over_grey(result))


def _plain(image: Image.Image) -> _Row:
    out = io.BytesIO()
    image.convert("RGBA").quantize(256, Image.Quantize.FASTOCTREE).save(out, "PNG", optimize=True)
    return "png", out.tell(), _judged(image, out.getvalue()), None


def _treated(level: Level, image: Image.Image) -> list[_Row]:
    out = io.BytesIO()
    image.save(out, "PNG")
    chosen = treat(out.getvalue(), Recipe(level)).chosen
    return [
        (one.format, one.size, _judged(image, one.data), one.worst_place.score if one.worst_place else None)
        for one in chosen
    ]


if __name__ == "__main__":
    main()

"""The full treatment of a photograph against plain scripts that write the same three files once.

A plain script is Pillow at fixed qualities (progressive, optimized JPEG; WebP; AVIF at speed 6), one thread,
nothing measured. One has usual qualities: its processor time is the measure. The other has the lowest
qualities at which the worst of all photographs still scores what the worst treated one does: its bytes are.
"""

from __future__ import annotations

import io
import time
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import NamedTuple

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Chosen, Effort, Level, Recipe, treat
from plumcrate.imaging.scoring.ssimulacra2 import Reference

from .corpus import as_uploaded, held_out, photo, tuned

_SIDE = 1600
_OPTIONS: dict[str, dict[str, object]] = {
    "JPEG": {"progressive": True, "optimize": True},
    "WEBP": {},
    "AVIF": {"speed": 6, "max_threads": 1},
}
_QUALITIES = {"JPEG": range(80, 100), "WEBP": range(80, 101), "AVIF": range(60, 100, 2)}
_WORST = 79.5
_USUAL = {"JPEG": 80, "WEBP": 80, "AVIF": 60}
_GOALS = {Effort.QUICK: 1.1, Effort.NORMAL: 1.4}


class Row(NamedTuple):
    """One way to treat all photographs. ``sizes``: bytes of JPEG, WebP and AVIF; ``lightest``: of the
    lightest of the three of each; ``seconds``: of processor."""

    name: str
    effort: Effort | None
    sizes: tuple[int, ...]
    lightest: int
    scores: list[float]
    seconds: float


def main() -> None:
    table = Table(
        "what",
        "JPEG",
        "WebP",
        "AVIF",
        "lightest of each",
        "mean score",
        "worst score",
        "CPU",
        "of the usual script",
        "goal",
        title=f"Photographs at {_SIDE} px, everyday",
    )
    rows = measured()
    for row in rows:
        goal = _GOALS.get(row.effort) if row.effort else None
        table.add_row(
            row.name,
            *(f"{size / 1e6:.2f} MB" for size in row.sizes),
            f"{row.lightest / 1e6:.2f} MB",
            f"{np.mean(row.scores):.1f}",
            f"{min(row.scores):.1f}",
            f"{row.seconds:.0f} s",
            f"{row.seconds / rows[0].seconds:.2f}",
            f"{goal}" if goal else "",
        )
    Console(width=150).print(table)


def measured() -> list[Row]:
    """The plain scripts, the usual one first, and each effort, over the same photographs."""
    paths = [*tuned(), *held_out()][::2]
    rows = []
    with ProcessPoolExecutor(2) as pool:
        promising = {kind: _lowest(kind, paths, pool) for kind in _OPTIONS}
        for effort, plain in (
            (None, _USUAL),
            (None, promising),
            (Effort.QUICK, {}),
            (Effort.NORMAL, {}),
            (Effort.THOROUGH, {}),
        ):
            found = list(pool.map(_measured, [(path, effort, plain) for path in paths]))
            rows.append(
                Row(
                    f"treated, {effort}" if effort else f"plain script, {plain}",
                    effort,
                    tuple(int(size) for size in np.array([one[0] for one in found]).sum(axis=0)),
                    sum(min(one[0]) for one in found),
                    [score for one in found for score in one[1]],
                    sum(one[2] for one in found),
                )
            )
    return rows


def _lowest(kind: str, paths: list[Path], pool: ProcessPoolExecutor) -> int:
    """The lowest quality at which every photograph keeps the promise, by bisection."""
    qualities = list(_QUALITIES[kind])
    low, high = 0, len(qualities) - 1
    while low < high:
        middle = (low + high) // 2
        if min(pool.map(partial(_score, kind, qualities[middle]), paths)) >= _WORST:
            high = middle
        else:
            low = middle + 1
    return qualities[low]


def _score(kind: str, quality: int, path: Path) -> float:
    with Image.open(io.BytesIO(as_uploaded(photo(path, _SIDE)))) as image:
        data = _plain(image, kind, quality)
        return Reference(np.asarray(image)).score(np.asarray(Image.open(io.BytesIO(data)).convert("RGB")))


def _plain(image: Image.Image, kind: str, quality: int) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, quality=quality, **_OPTIONS[kind])
    return out.getvalue()


def _measured(job: tuple[Path, Effort | None, dict[str, int]]) -> tuple[list[int], list[float], float]:
    """Sizes of JPEG, WebP and AVIF (a copy that is not written counts as what is served), scores, CPU."""
    path, effort, plain = job
    source = as_uploaded(photo(path, _SIDE))
    began = time.process_time()
    if effort is None:
        with Image.open(io.BytesIO(source)) as image:
            image.load()
            files = [_plain(image, kind, quality) for kind, quality in plain.items()]
        seconds = time.process_time() - began
        reference = Reference(np.asarray(Image.open(io.BytesIO(source))))
        scores = [reference.score(np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))) for data in files]
        return [len(data) for data in files], scores, seconds
    treatment = treat(source, Recipe(Level.EVERYDAY, effort=effort))
    seconds = time.process_time() - began
    outputs = (treatment.main, *treatment.of("copy"))
    sizes = [output.size if isinstance(output, Chosen) else treatment.size_after for output in outputs]
    return (
        sizes,
        [output.score for output in outputs if isinstance(output, Chosen) and output.score is not None],
        seconds,
    )


if __name__ == "__main__":
    main()

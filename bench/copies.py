"""WebP and AVIF copies at an equal score against Pillow's defaults of the same codecs."""

from __future__ import annotations

import io
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Effort, codecs
from plumcrate.imaging.scoring.ssimulacra2 import Reference

from .corpus import held_out, photo, tuned

_TARGETS = (70.0, 80.0, 88.0)
_SIDE = 800
_QUALITIES = {"WEBP": (30, 45, 60, 72, 82, 90, 95, 98), "AVIF": (32, 44, 56, 68, 80, 90)}


def main() -> None:
    table = Table("codec", "target", "photographs", "size against Pillow's defaults", "CPU against them",
                  title=f"Copies at an equal score, photographs at {_SIDE} pixels")  # fmt: skip
    for kind in _QUALITIES:
        with ProcessPoolExecutor(2) as pool:
            found = list(pool.map(partial(_compared, kind), [*tuned(), *held_out()]))
        for number, target in enumerate(_TARGETS):
            ratios = [sizes[number] for sizes, _ in found if sizes[number] is not None]
            table.add_row(kind, f"{target:.0f}", str(len(ratios)),
                          f"{np.mean([r for r in ratios if r is not None]) - 1:+.1%}" if ratios else "",
                          f"{np.mean([cost for _, cost in found]):.2f}")  # fmt: skip
    Console(width=120).print(table)


def _compared(kind: str, path: Path) -> tuple[list[float | None], float]:
    image = photo(path, _SIDE)
    image.info.clear()
    reference = Reference(np.asarray(image))
    theirs, their_time = _curve(reference, lambda q: _plain(image, kind, q), _QUALITIES[kind])
    if kind == "WEBP":
        began = time.process_time()
        prepared = codecs.for_half_chroma(image)
        once = time.process_time() - began
        ours, our_time = _curve(
            reference, lambda q: codecs.encode_webp(prepared, q, {}, Effort.THOROUGH), _QUALITIES[kind]
        )
        our_time += once
    else:
        steps = [round(q * 63 / 100) for q in _QUALITIES[kind]]
        ours, our_time = _curve(reference, lambda s: codecs.encode_avif(image, s, 6, "4:4:4", {}), steps)
    sizes: list[float | None] = []
    for target in _TARGETS:
        reached = all(curve[0][0] <= target <= curve[-1][0] for curve in (ours, theirs))
        sizes.append(float(np.exp(_at(ours, target) - _at(theirs, target))) if reached else None)
    return sizes, our_time / their_time


def _curve(
    reference: Reference, encode: Callable[[int], bytes], qualities: Sequence[int]
) -> tuple[list[tuple[float, int]], float]:
    """Score and bytes at each quality, the lowest score first; and what encoding them took, in seconds."""
    points, spent = [], 0.0
    for quality in qualities:
        began = time.process_time()
        data = encode(quality)
        spent += time.process_time() - began
        points.append((reference.score(np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))), len(data)))
    return sorted(points), spent


def _plain(image: Image.Image, kind: str, quality: int) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, quality=quality, **({"max_threads": 1} if kind == "AVIF" else {}))
    return out.getvalue()


def _at(curve: list[tuple[float, int]], target: float) -> float:
    scores, sizes = zip(*curve, strict=True)
    return float(np.interp(target, scores, np.log(sizes)))


if __name__ == "__main__":
    main()

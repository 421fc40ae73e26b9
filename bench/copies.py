"""WebP and AVIF copies at an equal score: against Pillow's defaults, and AVIF against plain tuning.

Plain tuning is the same library at speed 6 in full chroma, with tiles, tuned for the score and sharp.
"""

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

from plumcrate.imaging import Effort, Level, Recipe, avif, codecs, webp
from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.recipe import Limits
from plumcrate.imaging.scoring.ssimulacra2 import Reference
from plumcrate.imaging.treatment.case import Case
from plumcrate.imaging.treatment.modern import half_chroma_will_do

from .corpus import as_uploaded, held_out, photo, tuned

_SIDE = 800
_LEVELS = {70.0: Level.LEAN, 80.0: Level.EVERYDAY, 90.0: Level.GALLERY}
_WEBP_STEPS = (78, 88, 95, 101, 107, 112, 116, 119, 122, 124, 126)
_QUALITIES = {"WEBP": (30, 45, 60, 72, 82, 90, 95, 98, 100), "AVIF": (32, 44, 56, 68, 80, 90, 96)}
_PLAIN_TUNING = {"tune": "ssimulacra2", "sharpness": "3"}
#: What is wanted, in percent, by encoder, effort and target.
_GOALS = {
    ("WebP", Effort.NORMAL): {70.0: -4.0, 80.0: -4.0, 90.0: -4.0},
    ("WebP", Effort.THOROUGH): {70.0: -6.5, 80.0: -6.5, 90.0: -6.5},
    ("AVIF, to plain tuning", Effort.NORMAL): {70.0: -3.0, 80.0: -3.0, 90.0: -3.0},
}

Sizes = dict[float, float]


def main() -> None:
    table = Table(
        "codec",
        "effort",
        "target",
        "photographs",
        "size against the baseline",
        "goal",
        "CPU against it",
        title=f"Copies at an equal score, photographs at {_SIDE} px",
    )
    for what, efforts, measured in (
        ("WebP", (Effort.QUICK, Effort.NORMAL, Effort.THOROUGH), _webp),
        ("AVIF, to Pillow's defaults", (Effort.NORMAL,), partial(_avif, {})),
        ("AVIF, to plain tuning", (Effort.QUICK, Effort.NORMAL), partial(_avif, {"tuned": True})),
    ):
        for effort in efforts:
            with ProcessPoolExecutor(2) as pool:
                found = list(pool.map(partial(measured, effort), [*tuned(), *held_out()]))
            for target in _LEVELS:
                ratios = [ratios[target] for ratios, _ in found if target in ratios]
                goal = _GOALS.get((what, effort), {}).get(target)
                table.add_row(
                    what,
                    effort,
                    f"{target:.0f}",
                    str(len(ratios)),
                    f"{np.mean(ratios) - 1:+.1%}",
                    f"{goal:+.1f}%" if goal else "",
                    f"{sum(c[0] for _, c in found) / sum(c[1] for _, c in found):.2f}",
                )
    Console(width=130).print(table)


def _webp(effort: Effort, path: Path) -> tuple[Sizes, tuple[float, float]]:
    image = photo(path, _SIDE)
    image.info.clear()
    reference = Reference(np.asarray(image))
    theirs, their_time = _curve(reference, lambda q: _plain(image, "WEBP", q), _QUALITIES["WEBP"])
    began = time.process_time()
    planes = webp.planes(np.asarray(image))
    once = time.process_time() - began
    ours, our_time = _curve(reference, lambda s: codecs.encode_webp(planes, s, {}, effort), _WEBP_STEPS)
    each = our_time / len(_WEBP_STEPS) + once, their_time / len(_QUALITIES["WEBP"])
    return _ratios(dict.fromkeys(_LEVELS, ours), theirs), each


def _avif(options: dict[str, bool], effort: Effort, path: Path) -> tuple[Sizes, tuple[float, float]]:
    """With the chroma that a treatment takes at each level."""
    image = photo(path, _SIDE)
    image.info.clear()
    reference = Reference(np.asarray(image))
    if options.get("tuned"):
        plain = partial(plain_tuning, image)
    else:
        plain = partial(_plain, image, "AVIF")
    theirs, their_time = _curve(reference, plain, _QUALITIES["AVIF"])
    steps = [round(quality * 63 / 100) for quality in _QUALITIES["AVIF"]]
    curves: dict[str, list[tuple[float, int]]] = {}
    ours, spent = {}, 0.0
    for target, level in _LEVELS.items():
        case = Case(as_uploaded(image), Recipe(level), Limits())
        sampling = "4:2:0" if half_chroma_will_do(case) else "4:4:4"
        prepared = avif.prepared(Pixels(np.asarray(image)), sampling)
        if sampling not in curves:
            encode = partial(_ours, prepared, effort, sampling, case.content)
            curves[sampling], seconds = _curve(reference, encode, steps)
            spent += seconds
        ours[target] = curves[sampling]
    return _ratios(ours, theirs), (spent / len(curves), their_time)


def _ours(image: Image.Image, effort: Effort, sampling: str, content: avif.Content, step: int) -> bytes:
    return avif.encode(image, step, {}, effort, sampling, content)


def _ratios(ours: dict[float, list[tuple[float, int]]], theirs: list[tuple[float, int]]) -> Sizes:
    return {
        target: float(np.exp(_at(curve, target) - _at(theirs, target)))
        for target, curve in ours.items()
        if all(one[0][0] <= target <= one[-1][0] for one in (curve, theirs))
    }


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


def plain_tuning(image: Image.Image, quality: int) -> bytes:
    out = io.BytesIO()
    options = {"speed": 6, "subsampling": "4:4:4", "max_threads": 1, "advanced": _PLAIN_TUNING}
    image.save(out, "AVIF", quality=quality, **options)
    return out.getvalue()


def _plain(image: Image.Image, kind: str, quality: int) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, quality=quality, **({"max_threads": 1} if kind == "AVIF" else {}))
    return out.getvalue()


def _at(curve: list[tuple[float, int]], target: float) -> float:
    scores, sizes = zip(*curve, strict=True)
    return float(np.interp(target, scores, np.log(sizes)))


if __name__ == "__main__":
    main()

"""Our JPEG on real photographs: exact recompression, and lossy against Pillow at an equal score.

Baselines: exact, the file as Pillow writes it (sequential, default tables); lossy, Pillow's
progressive, optimized 4:2:0, whose rate at our score is read off its own curve. The guard is the
mean colour difference of patches at that same rate, lower is better. Seams are steps of colour between
calm blocks at an equal score, the median of photographs that have calm places.
"""

from __future__ import annotations

import io
import math
import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import codecs
from plumcrate.imaging.aim import Attempt, Landing, aim
from plumcrate.imaging.jpeg import LossyEncoder, recompress
from plumcrate.imaging.scoring.colour import F32, colour_shift, patches
from plumcrate.imaging.scoring.flatness import FlatGround
from plumcrate.imaging.scoring.gradient import luma_gradient
from plumcrate.imaging.scoring.ssimulacra2 import U8, Reference
from plumcrate.imaging.treatment.jpeg import STRAINING

from .corpus import held_out, photo, tuned

_TARGETS = (60.0, 70.0, 80.0, 90.0)
_QUALITIES = range(14, 99, 4)
_GOAL, _SEAM_GOAL = -0.28, 0.6


def main() -> None:
    console = Console(width=130)
    console.print(_exact([*tuned(), *held_out()]))
    for title, paths in (("fitted on", tuned()), ("held out", held_out())):
        console.print(_lossy(f"Lossy, photographs {title}", paths))


def _exact(paths: list[Path]) -> Table:
    table = Table(
        "input",
        "files",
        "before",
        "after",
        "saved",
        "larger",
        "other pixels",
        "MP per CPU-second",
        title="Exact: same coefficients, all metadata kept",
    )
    sets: dict[str, list[bytes]] = {"as shipped": [path.read_bytes() for path in paths]}
    for side in (800, 1600):
        for quality in (75, 85, 92):
            sets[f"sequential, {side} px, quality {quality}"] = [
                saved(photo(path, side), quality=quality) for path in paths
            ]
    for name, files in sets.items():
        before = after = larger = other = 0
        megapixels = seconds = 0.0
        for data in files:
            began = time.process_time()
            smaller = recompress(data)
            seconds += time.process_time() - began
            before, after = before + len(data), after + len(smaller)
            larger += len(smaller) > len(data)
            first, second = (np.asarray(Image.open(io.BytesIO(one))) for one in (data, smaller))
            other += not np.array_equal(first, second)
            megapixels += first.shape[0] * first.shape[1] / 1e6
        table.add_row(
            name,
            str(len(files)),
            f"{before / 1e6:.2f} MB",
            f"{after / 1e6:.2f} MB",
            f"{1 - after / before:.1%}",
            str(larger),
            str(other),
            f"{megapixels / seconds:.1f}",
        )
    return table


def saved(image: Image.Image, **options: object) -> bytes:
    out = io.BytesIO()
    image.info.clear()
    image.save(out, "JPEG", **options)
    return out.getvalue()


def decoded(data: bytes) -> U8:
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))


@dataclass
class _Found:
    """One photograph at one target: ratios to Pillow, encodes, and the time of one encode."""

    target: float
    size: float
    colour: float
    seam: float
    encodes: int
    seconds: float
    megapixels: float


def _lossy(title: str, paths: list[Path]) -> Table:
    columns = ("pixels", "target", "photographs", "reached", "size against Pillow", "worst")
    more = (
        "goal",
        "colour difference against Pillow",
        "seams against Pillow",
        "goal",
        "encodes",
        "MP per CPU-second",
    )
    table = Table(*columns, *more, title=title)
    for side in (800, 1600):
        with ProcessPoolExecutor(2) as pool:
            every = [one for found in pool.map(_measured, [(path, side) for path in paths]) for one in found]
        for target in _TARGETS:
            found = [one for one in every if one.target == target]
            if found:
                ratios = np.array([one.size for one in found])
                table.add_row(
                    str(side),
                    f"{target:.0f}",
                    str(len(paths)),
                    str(len(found)),
                    f"{ratios.mean() - 1:+.1%}",
                    f"{ratios.max() - 1:+.1%}",
                    "",
                    f"{np.mean([one.colour for one in found]) - 1:+.1%}",
                    f"{np.nanmedian([one.seam for one in found]):.2f}",
                    f"{_SEAM_GOAL}",
                    f"{np.mean([one.encodes for one in found]):.2f}",
                    f"{sum(one.megapixels for one in found) / sum(one.seconds for one in found):.1f}",
                )
        mean = np.mean([one.size for one in every]) - 1
        table.add_row(str(side), "all", "", str(len(every)), f"{mean:+.1%}", "", f"{_GOAL:+.0%}")
    return table


def _measured(job: tuple[Path, int]) -> list[_Found]:
    path, side = job
    image = photo(path, side)
    image.info.clear()
    rgb = np.asarray(image)
    reference, colours, ground = Reference(rgb), patches(rgb), FlatGround(rgb)
    curve = sorted(_pillow(image, quality, reference, colours, ground) for quality in _QUALITIES)
    scores, sizes, shifts, seams = (np.array(column) for column in zip(*curve, strict=True))
    out = []
    for target in _TARGETS:
        landed = _landed(rgb, reference, target)
        if landed is None or landed[1].best is None or landed[1].best.judgement.score > scores[-1]:
            continue
        encoder, landing = landed
        assert landing.best is not None
        began = time.process_time()
        data = encoder.encode(landing.best.quality, searched=True)
        seconds = time.process_time() - began
        theirs = np.exp(np.interp(landing.best.judgement.score, scores, np.log(sizes)))
        shift = np.interp(np.log(len(data)), np.log(sizes), shifts)
        shown = decoded(data)
        ours = colour_shift(colours, patches(shown)).mean
        their_seam = float(np.interp(landing.best.judgement.score, scores, seams))
        seam = ground.judge(shown).seam / their_seam if their_seam else math.nan
        out.append(
            _Found(
                target, len(data) / theirs, ours / shift, seam, len(landing.attempts), seconds, rgb.size / 3e6
            )
        )
    return out


def landed(encoder: LossyEncoder, reference: Reference, target: float) -> Landing:
    """Where an encoder that has learnt from a first encode comes down."""

    def attempted(step: int) -> Attempt:
        data = encoder.encode(step, searched=False)
        return Attempt.judged(step, data, reference.judge(decoded(data)))

    first = attempted(codecs.JPEG.first_guess(target))
    encoder.refine(luma_gradient(reference, decoded(first.data)))
    return aim(attempted, target, codecs.JPEG)


def _landed(rgb: U8, reference: Reference, target: float) -> tuple[LossyEncoder, Landing] | None:
    """Half chroma, and full where half strains or fails, as a treatment does; the smaller of both."""
    found = []
    for subsampled in (True, False):
        encoder = LossyEncoder(rgb, grey=False, subsampled=subsampled)
        landing = landed(encoder, reference, target)
        if landing.best is not None:
            found.append((encoder, landing))
            if landing.best.quality <= STRAINING:
                break
    if not found:
        return None
    return min(found, key=lambda one: len(one[0].encode(one[1].best.quality, searched=True)))  # type: ignore[union-attr]


def _pillow(
    image: Image.Image, quality: int, reference: Reference, colours: F32, ground: FlatGround
) -> tuple[float, int, float, float]:
    """Score, bytes, colour difference and seams of Pillow's file."""
    data = saved(image, quality=quality, progressive=True, optimize=True, subsampling="4:2:0")
    shown = decoded(data)
    shift = colour_shift(colours, patches(shown)).mean
    return reference.score(shown), len(data), shift, ground.judge(shown).seam


if __name__ == "__main__":
    main()

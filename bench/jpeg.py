"""Our JPEG on real photographs: exact recompression, and lossy against Pillow at an equal score.

Baselines: exact, the file as Pillow writes it (sequential, default tables); lossy, Pillow's
progressive, optimized 4:2:0, whose rate at our score is read off its own curve. The guard is the
mean colour difference (CIE 1976, in L*a*b*) at that same rate, lower is better.
"""

from __future__ import annotations

import io
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageCms
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import codecs
from plumcrate.imaging.aim import aim
from plumcrate.imaging.jpeg import LossyEncoder, recompress
from plumcrate.imaging.scoring.ssimulacra2 import Reference

from .corpus import held_out, photo, tuned

_TARGETS = (60.0, 70.0, 80.0, 90.0)
_QUALITIES = range(14, 99, 4)
_LAB = ImageCms.buildTransform(ImageCms.createProfile("sRGB"), ImageCms.createProfile("LAB"), "RGB", "LAB")


def main() -> None:
    console = Console()
    console.print(_exact([*tuned(), *held_out()]))
    for title, paths in (("fitted on", tuned()), ("held out", held_out())):
        console.print(_lossy(f"Lossy, photographs {title}", paths))


def _exact(paths: list[Path]) -> Table:
    table = Table("input", "files", "before", "after", "saved", "larger", "other pixels", "MP per CPU-second",
                  title="Exact: same coefficients, all metadata kept")  # fmt: skip
    sets: dict[str, list[bytes]] = {"as shipped": [path.read_bytes() for path in paths]}
    for side in (800, 1600):
        for quality in (75, 85, 92):
            sets[f"sequential, {side} px, quality {quality}"] = [
                _saved(photo(path, side), quality=quality) for path in paths
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


def _saved(image: Image.Image, **options: object) -> bytes:
    out = io.BytesIO()
    image.info.clear()
    image.save(out, "JPEG", **options)
    return out.getvalue()


@dataclass
class _Point:
    score: float
    size: int
    colour: float


def _lossy(title: str, paths: list[Path]) -> Table:
    columns = ("pixels", "target", "photographs", "reached", "size against Pillow", "worst")
    more = ("colour difference against Pillow", "encodes", "MP per CPU-second")
    table = Table(*columns, *more, title=title)
    for side in (800, 1600):
        results: dict[float, list[tuple[float, float, int]]] = {target: [] for target in _TARGETS}
        seconds = megapixels = 0.0
        for path in paths:
            image = photo(path, side)
            image.info.clear()
            rgb = np.asarray(image)
            reference, lab = Reference(rgb), _to_lab(image)
            curve = sorted(
                (_pillow(image, quality, reference, lab) for quality in _QUALITIES), key=lambda p: p.score
            )
            encoder = LossyEncoder(rgb, grey=False, subsampled=True)
            for target in _TARGETS:
                landing = aim(
                    lambda step, e=encoder: e.encode(step, searched=False),  # type: ignore[misc]
                    lambda data, r=reference: r.score(np.asarray(Image.open(io.BytesIO(data)))),  # type: ignore[misc]
                    target, codecs.JPEG,
                )  # fmt: skip
                if landing.best is None or landing.best.score > curve[-1].score:
                    continue
                began = time.process_time()
                data = encoder.encode(landing.best.quality, searched=True)
                seconds += time.process_time() - began
                megapixels += rgb.shape[0] * rgb.shape[1] / 1e6
                scores = [point.score for point in curve]
                size = np.exp(np.interp(landing.best.score, scores, np.log([point.size for point in curve])))
                colour = np.interp(
                    np.log(len(data)), np.log([p.size for p in curve]), [p.colour for p in curve]
                )
                ours = _difference(lab, _to_lab(Image.open(io.BytesIO(data))))
                results[target].append((len(data) / size, ours / colour, len(landing.attempts)))
        for target, found in results.items():
            if found:
                ratios, colours, encodes = (np.array(column) for column in zip(*found, strict=True))
                table.add_row(
                    str(side), f"{target:.0f}", str(len(paths)), str(len(found)), f"{ratios.mean() - 1:+.1%}",
                    f"{ratios.max() - 1:+.1%}", f"{colours.mean() - 1:+.1%}", f"{encodes.mean():.2f}",
                    f"{megapixels / seconds:.1f}",
                )  # fmt: skip
        every = [ratio for found in results.values() for ratio, _, _ in found]
        table.add_row(str(side), "all", "", str(len(every)), f"{np.mean(every) - 1:+.1%}", "", "", "", "")
    return table


def _pillow(image: Image.Image, quality: int, reference: Reference, lab: NDArray[np.float32]) -> _Point:
    data = _saved(image, quality=quality, progressive=True, optimize=True, subsampling="4:2:0")
    decoded = Image.open(io.BytesIO(data)).convert("RGB")
    return _Point(reference.score(np.asarray(decoded)), len(data), _difference(lab, _to_lab(decoded)))


def _to_lab(image: Image.Image) -> NDArray[np.float32]:
    converted = ImageCms.applyTransform(image.convert("RGB"), _LAB)
    assert converted is not None
    lab = np.asarray(converted).astype(np.float32)
    lab[..., 0] *= 100 / 255
    lab[..., 1:] = (lab[..., 1:] + 128) % 256 - 128
    return lab


def _difference(first: NDArray[np.float32], second: NDArray[np.float32]) -> float:
    return float(np.sqrt(((first - second) ** 2).sum(axis=2)).mean())


if __name__ == "__main__":
    main()

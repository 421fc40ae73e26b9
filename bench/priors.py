"""Fits what quality a picture will need from its statistics: ``python -m bench priors``.

Photographs: whole at four sizes, and crops of each, so that skies and foliage count by themselves. The table
shows how far off a model is on each photograph when it was fitted on all others; what is written is fitted on
all.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import avif, codecs, webp
from plumcrate.imaging.aim import line
from plumcrate.imaging.jpeg import LossyEncoder
from plumcrate.imaging.priors import Features
from plumcrate.imaging.recipe import Effort, Level, Limits, Recipe
from plumcrate.imaging.treatment.case import Case

from .corpus import as_uploaded, held_out, photo, tuned

_LEVELS = {60.0: Level.LEAN, 70.0: Level.LEAN, 80.0: Level.EVERYDAY, 90.0: Level.GALLERY}
_SIDES = (1600, 1000, 700, 480)
_AVIF_BELOW = 2e6  # pixels; AVIF is slow
_STEPS = {
    "jpeg": range(46, 119, 8),
    "webp": (70, 80, 88, 95, 101, 107, 112, 116, 119, 122, 124, 126),
    "avif 4:2:0": range(16, 62, 8),
    "avif 4:4:4": range(16, 62, 8),
}
_RIDGE = 2.0
#: Steps on either side of a place over which the slope is taken; none is taken to be flatter than that.
_AROUND, _FLATTEST = 3.0, 0.008
_HOME = Path(__file__).parents[1] / "src/plumcrate/imaging/priors.json"


@dataclass
class Sample:
    """One view of a photograph: its features; by encoder and target the place and the slope there."""

    photograph: str
    features: Features
    found: dict[str, dict[float, tuple[float, float]]]


def main() -> None:
    jobs = [(path, side, crop) for path in (*tuned(), *held_out()) for side, crop in _views()]
    with ProcessPoolExecutor(2) as pool:
        samples = list(pool.map(_sample, jobs))
    models: dict[str, dict[str, list[float]]] = {}
    table = Table(
        "model",
        "target",
        "samples",
        "spread",
        "off, left out",
        "slope",
        "off, left out",
        title="Prior quality, in the knob's steps, and slope: root mean square",
    )
    for encoder in _STEPS:
        for after in (False, True) if encoder != "jpeg" else (False,):
            for target in _LEVELS:
                names, inputs, outputs = _rows(samples, encoder, target, after)
                name = f"{encoder} after jpeg" if after else encoder
                off = []
                for column, what in enumerate((name, f"{name}, slope")):
                    fitted = outputs[:, column]
                    weights = _ridge(inputs, fitted)
                    models.setdefault(what, {})[f"{target:.0f}"] = [float(f"{w:.5g}") for w in weights]
                    off.append(_left_out(names, inputs, fitted))
                table.add_row(
                    name,
                    f"{target:.0f}",
                    str(len(outputs)),
                    f"{outputs[:, 0].std():.1f}",
                    f"{off[0]:.2f}",
                    f"{np.exp(outputs[:, 1].mean()):.3f}",
                    f"{off[1]:.0%}",
                )
    _HOME.write_text(json.dumps(models, indent=1) + "\n", encoding="utf-8")
    Console().print(table)


def _left_out(names: NDArray[np.str_], inputs: NDArray[np.float64], outputs: NDArray[np.float64]) -> float:
    """How far off a model is on photographs that it has not seen."""
    off = [
        outputs[names == one] - inputs[names == one] @ _ridge(inputs[names != one], outputs[names != one])
        for one in np.unique(names)
    ]
    return float(np.sqrt((np.concatenate(off) ** 2).mean()))


def _views() -> list[tuple[int, tuple[float, float] | None]]:
    crops = [(x, y) for y in (0.0, 0.5) for x in (0.1, 0.6)]
    return [(side, None) for side in _SIDES] + [(2400, crop) for crop in crops]


def _sample(job: tuple[Path, int, tuple[float, float] | None]) -> Sample:
    path, side, crop = job
    image = photo(path, side)
    if crop:
        left, top = round(crop[0] * image.width), round(crop[1] * image.height)
        image = image.crop((left, top, left + image.width // 3, top + image.height // 2))
    source = as_uploaded(image)
    case = Case(source, Recipe(), Limits())
    rgb, shown = case.pixels.rgb, case.upright_pixels
    lossy = LossyEncoder.of_jpeg(source, case.coefficients, rgb, grey=False, subsampled=True)
    planes = webp.planes(rgb)
    soft, full = avif.prepared(shown, "4:2:0"), avif.prepared(shown, "4:4:4")

    def refined(step: int) -> bytes:
        lossy.forget()
        lossy.refine(case.judge.luma_gradient(case.decoded(lossy.encode(step, searched=False))))
        return lossy.encode(step, searched=False)

    encoders: dict[str, Callable[[int], bytes]] = {
        "jpeg": refined,
        "webp": lambda step: codecs.encode_webp(planes, step, {}, Effort.NORMAL),
        "avif 4:2:0": lambda step: avif.encode(soft, step, {}, Effort.NORMAL, "4:2:0", case.content),
        "avif 4:4:4": lambda step: avif.encode(full, step, {}, Effort.NORMAL, "4:4:4", case.content),
    }
    found: dict[str, dict[float, tuple[float, float]]] = {}
    for name, encode in encoders.items():
        if name.startswith("avif") and rgb.size > 3 * _AVIF_BELOW:
            continue
        curve = []
        for step in _STEPS[name]:
            data = encode(step)
            judgement = case.judge.judge(case.decoded(data))
            curve.append((judgement.score, judgement.worst, step))
        scores, worst, places = (np.array(column, float) for column in zip(*curve, strict=True))
        found[name] = {}
        for target, level in _LEVELS.items():
            aimed = np.maximum.accumulate(np.minimum(scores, worst + Recipe(level).leeway))
            if aimed[0] <= target <= aimed[-1]:
                place = float(np.interp(target, aimed, places))
                beside = np.interp((place - _AROUND, place + _AROUND), places, aimed)
                rise = float(line(beside[1]) - line(beside[0])) / (2 * _AROUND)
                found[name][target] = place, max(rise, _FLATTEST)
    return Sample(path.parts[-4], case.features, found)


def _rows(
    samples: list[Sample], encoder: str, target: float, after: bool
) -> tuple[NDArray[np.str_], NDArray[np.float64], NDArray[np.float64]]:
    names, inputs, outputs = [], [], []
    for sample in samples:
        if target in sample.found.get(encoder, {}) and (not after or target in sample.found["jpeg"]):
            known = [sample.found["jpeg"][target][0]] if after else []
            names.append(sample.photograph)
            inputs.append(np.concatenate([sample.features, known]))
            place, slope = sample.found[encoder][target]
            outputs.append((place, np.log(slope)))
    return np.array(names), np.array(inputs), np.array(outputs)


def _ridge(inputs: NDArray[np.float64], outputs: NDArray[np.float64]) -> NDArray[np.float64]:
    """Ridge regression on standardized inputs, given back for the raw ones; the first input is 1."""
    mean, spread = inputs.mean(axis=0), inputs.std(axis=0) + 1e-9
    mean[0], spread[0] = 0.0, 1.0
    scaled = (inputs - mean) / spread
    penalty = _RIDGE * np.diag([0.0] + [1.0] * (inputs.shape[1] - 1))
    weights = np.linalg.solve(scaled.T @ scaled + penalty, scaled.T @ outputs) / spread
    weights[0] -= (weights * mean).sum()
    return np.asarray(weights)


if __name__ == "__main__":
    main()

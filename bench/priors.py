"""Fits what quality a picture will need from its statistics: ``python -m bench priors``.

Photographs: whole at four sizes, and crops of each, so that skies and foliage count by themselves.
Fitted on one half of the corpus; the table shows how far off it is on the other half.
"""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import codecs
from plumcrate.imaging.jpeg import LossyEncoder
from plumcrate.imaging.priors import features
from plumcrate.imaging.recipe import Effort
from plumcrate.imaging.scoring.ssimulacra2 import Reference

from .corpus import as_uploaded, held_out, photo, tuned

_TARGETS = (60.0, 70.0, 80.0, 90.0)
_SIDES = (1600, 1200, 800, 480)
_AVIF_BELOW = 1.2e6  # pixels; AVIF is slow
_STEPS = {
    "jpeg": range(44, 119, 6),
    "webp": (25, 40, 55, 66, 74, 80, 85, 89, 92, 95, 97, 99),
    "avif": range(15, 61, 5),
}
_RIDGE = 2.0
_HOME = Path(__file__).parents[1] / "src/plumcrate/imaging/priors.json"

Sample = tuple[str, NDArray[np.float64], dict[str, dict[float, float]]]


def main() -> None:
    with ProcessPoolExecutor(2) as pool:
        fitted = list(pool.map(_sample, [(p, s, c) for p in tuned() for s, c in _views()]))
        tested = list(pool.map(_sample, [(p, s, c) for p in held_out() for s, c in _views()]))
    models: dict[str, dict[str, list[float]]] = {}
    table = Table("encoder", "target", "samples", "spread", "off, fitted on", "off, held out",
                  title="Prior quality, on the knob's axis: root mean square")  # fmt: skip
    for encoder in _STEPS:
        for after in (False, True) if encoder != "jpeg" else (False,):
            name = f"{encoder} after jpeg" if after else encoder
            for target in _TARGETS:
                known = _rows(fitted, encoder, target, after)
                weights = _ridge(*known)
                models.setdefault(name, {})[f"{target:.0f}"] = [float(f"{w:.5g}") for w in weights]
                other = _rows(tested, encoder, target, after)
                off = [np.sqrt(((y - x @ weights) ** 2).mean()) for x, y in (known, other)]
                table.add_row(name, f"{target:.0f}", f"{len(known[1])} + {len(other[1])}",
                              f"{other[1].std():.1f}", f"{off[0]:.2f}", f"{off[1]:.2f}")  # fmt: skip
    _HOME.write_text(json.dumps(models, indent=1) + "\n", encoding="utf-8")
    Console().print(table)


def _views() -> list[tuple[int, tuple[float, float] | None]]:
    crops = [(x, y) for y in (0.0, 0.5) for x in (0.0, 0.33, 0.67)]
    return [(side, None) for side in _SIDES] + [(2400, crop) for crop in crops]


def _sample(job: tuple[Path, int, tuple[float, float] | None]) -> Sample:
    path, side, crop = job
    image = photo(path, side)
    if crop:
        left, top = round(crop[0] * image.width), round(crop[1] * image.height)
        image = image.crop((left, top, left + image.width // 3, top + image.height // 2))
    source = as_uploaded(image)
    image = Image.open(io.BytesIO(source)).convert("RGB")
    rgb = np.asarray(image)
    reference = Reference(rgb)
    lossy = LossyEncoder.of_jpeg(source, rgb, grey=False, subsampled=True)
    soft = codecs.for_half_chroma(image)
    encoders: dict[str, Callable[[int], bytes]] = {
        "jpeg": lambda q: lossy.encode(q, searched=False),
        "webp": lambda q: codecs.encode_webp(soft, q, {}, Effort.NORMAL),
        "avif": lambda q: codecs.encode_avif(image, q, 8, "4:4:4", {}),
    }
    found: dict[str, dict[float, float]] = {}
    for name, encode in encoders.items():
        if name == "avif" and rgb.size > 3 * _AVIF_BELOW:
            continue
        axis = {"jpeg": codecs.JPEG, "webp": codecs.WEBP, "avif": codecs.AVIF}[name].axis
        curve = [(reference.score(_decoded(encode(q))), axis(q)) for q in _STEPS[name]]
        scores = np.maximum.accumulate([score for score, _ in curve])
        reached = [target for target in _TARGETS if scores[0] <= target <= scores[-1]]
        found[name] = {t: float(np.interp(t, scores, [q for _, q in curve])) for t in reached}
    return path.parts[-4], features(rgb), found


def _decoded(data: bytes) -> NDArray[np.uint8]:
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))


def _rows(
    samples: list[Sample], encoder: str, target: float, after: bool
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    inputs, outputs = [], []
    for _, picture, found in samples:
        if target in found.get(encoder, {}) and (not after or target in found["jpeg"]):
            inputs.append(np.append(picture, found["jpeg"][target]) if after else picture)
            outputs.append(found[encoder][target])
    return np.array(inputs), np.array(outputs)


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

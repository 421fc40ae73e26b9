"""The perceptual hash of one picture."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..identification import identify
from ..preview import small
from ..recipe import Limits
from .perceptual import FEATURE, MOST_FEATURES, THUMBNAIL, PerceptualHash
from .scale_space import Extrema, Octave, extrema, octaves

Reals = NDArray[np.floating[Any]]

#: The picture that features are looked for in: pixels on its longer side.
_SIDE = 320
#: Of a grid over the picture, so many cells a side, and so many times each cell's share of features.
_CELLS, _SHARE = 3, 2.0
#: Cells of a description a side, directions in each, samples a side of a cell.
_PARTS, _DIRECTIONS, _SAMPLES = 4, 8, 4
#: A cell is so many times as wide as the feature's scale (Lowe 2004, section 6.1).
_CELL = 3.0
#: What a description's value is at most, of a length of 1; more is light, not shape.
_CLIPPED = 0.2
#: A picture whose values spread less than this (of a range of 1) is not stretched further.
_LEAST_SPREAD = 0.02
#: Transparent places are seen on this grey.
_BEHIND = (128, 128, 128)


def perceptual_hash(data: bytes, limits: Limits) -> PerceptualHash:
    """The hash of a file. Raises the errors of :mod:`plumcrate.imaging.errors`."""
    facts = identify(data)
    image = small(data, _SIDE, limits)
    turned = (image.width < image.height) != (facts.width < facts.height)
    width, height = (facts.height, facts.width) if turned else (facts.width, facts.height)
    if not (width and height):  # a document, or a drawing of no size of its own
        width, height = image.size
    if image.mode == "RGBA":
        ground = Image.new("RGBA", image.size, (*_BEHIND, 255))
        image = Image.alpha_composite(ground, image)
    grey = image.convert("L")
    thumbnail = np.asarray(grey.resize((THUMBNAIL, THUMBNAIL), Image.Resampling.BOX))
    scale = _SIDE / max(grey.size)
    working = max(1, round(grey.width * scale)), max(1, round(grey.height * scale))
    plane = np.asarray(grey.resize(working, Image.Resampling.LANCZOS), np.float32) / 255
    return PerceptualHash(width, height, features_of(plane), thumbnail)


def features_of(plane: Reals) -> NDArray[np.void]:
    """The features of a grey picture of the range 0 to 1; none where it is too small or shows nothing."""
    height, width = plane.shape
    plane = (plane - plane.mean()) / np.float32(max(float(plane.std()), _LEAST_SPREAD))
    found = [(octave, extrema(octave)) for octave in octaves(plane)]
    if not any(len(places.x) for _, places in found):
        return np.zeros(0, FEATURE)
    # What is seen at a large scale is found again after more scaling and cropping.
    strengths = np.concatenate([one.strength * np.sqrt(one.sigma * octave.step) for octave, one in found])
    across = np.concatenate([one.x * octave.step / width for octave, one in found])
    down = np.concatenate([one.y * octave.step / height for octave, one in found])
    chosen = _chosen(across, down, strengths)
    features = np.zeros(len(strengths), FEATURE)
    features["x"], features["y"] = _counted(across * 65535, 65535), _counted(down * 65535, 65535)
    start = 0
    for octave, places in found:
        end = start + len(places.x)
        wanted = np.sort(chosen[(chosen >= start) & (chosen < end)])
        if len(wanted):
            here = places.only(wanted - start)
            directions, features["bits"][wanted] = _described(octave, here)
            features["direction"][wanted] = np.rint(directions / (2 * np.pi) * 256).astype(np.int64) % 256
            scale = here.sigma * octave.step / max(width, height)
            features["scale"][wanted] = _counted(16 * np.log2(scale * 1024), 255)
        start = end
    return features[chosen]


def _chosen(across: Reals, down: Reals, strengths: Reals) -> NDArray[np.intp]:
    """The strongest places, strongest first, but from no part of the picture far more than its share."""
    order = np.argsort(-strengths, kind="stable")
    columns = np.minimum(across[order] * _CELLS, _CELLS - 1).astype(np.int64)
    rows = np.minimum(down[order] * _CELLS, _CELLS - 1).astype(np.int64)
    share = int(np.ceil(MOST_FEATURES / _CELLS**2 * _SHARE))
    place = np.empty(len(order), np.int64)
    for cell in range(_CELLS**2):
        here = np.nonzero(rows * _CELLS + columns == cell)[0]
        place[here] = np.arange(len(here))
    return order[place < share][:MOST_FEATURES]


def _described(octave: Octave, found: Extrema) -> tuple[Reals, NDArray[np.uint64]]:
    """The direction of each place, in radians, and its bits."""
    directions = np.zeros(len(found.x), np.float32)
    bits = np.zeros(len(found.x), np.uint64)
    for plane in np.unique(found.plane):
        here = np.nonzero(found.plane == plane)[0]
        down, across = np.gradient(octave.blurred[plane])
        x, y, sigma = found.x[here], found.y[here], found.sigma[here]
        directions[here] = _directions(across, down, x, y, sigma)
        bits[here] = _bits(_descriptions(across, down, x, y, sigma, directions[here]))
    return directions, bits


_RING = 9


def _directions(across: Reals, down: Reals, x: Reals, y: Reals, sigma: Reals) -> Reals:
    """Where most of what is around a place leads to (Lowe 2004, section 5)."""
    at = np.linspace(-1, 1, _RING, dtype=np.float32) * 4.5
    dx, dy = (grid.ravel() for grid in np.meshgrid(at, at))
    weights = np.exp(-(dx**2 + dy**2) / (2 * 2.25**2))
    gx, gy = _sampled(across, down, x[:, None] + dx * sigma[:, None], y[:, None] + dy * sigma[:, None])
    strength = np.hypot(gx, gy) * weights
    place = np.arctan2(gy, gx) / (2 * np.pi) * 36 % 36
    histogram = _histogram(place, strength, 36)
    for _ in range(3):
        histogram = (np.roll(histogram, 1, 1) + histogram + np.roll(histogram, -1, 1)) / 3
    best = histogram.argmax(1)
    rows = np.arange(len(best))
    before, here, after = (histogram[rows, (best + shift) % 36] for shift in (-1, 0, 1))
    bend = before + after - 2 * here
    over = np.where(bend == 0, 0, (before - after) / (2 * np.where(bend == 0, 1, bend)))
    found: Reals = ((best + np.clip(over, -0.5, 0.5)) / 36 * 2 * np.pi).astype(np.float32)
    return found


def _grid() -> tuple[Reals, Reals, Reals]:
    """Samples of a description in cells from its middle, and how much each counts in each cell."""
    count = _PARTS * _SAMPLES + 2 * (_SAMPLES // 2)
    line = ((np.arange(count) + 0.5) / _SAMPLES - count / _SAMPLES / 2).astype(np.float32)
    dx, dy = (grid.ravel() for grid in np.meshgrid(line, line))
    middles = np.arange(_PARTS) - (_PARTS - 1) / 2
    along_x = np.clip(1 - np.abs(dx[:, None] - middles), 0, None)
    along_y = np.clip(1 - np.abs(dy[:, None] - middles), 0, None)
    weights = (along_y[:, :, None] * along_x[:, None, :]).reshape(len(dx), -1)
    falloff = np.exp(-(dx**2 + dy**2) / (2 * (_PARTS / 2) ** 2))
    return dx, dy, (weights * falloff[:, None]).astype(np.float32)


_DX, _DY, _WEIGHTS = _grid()


def _descriptions(across: Reals, down: Reals, x: Reals, y: Reals, sigma: Reals, directions: Reals) -> Reals:
    """For each place ``_PARTS``² x ``_DIRECTIONS`` values of length 1 (Lowe 2004, section 6)."""
    cos, sin = np.cos(directions)[:, None], np.sin(directions)[:, None]
    cell = _CELL * sigma[:, None]
    gx, gy = _sampled(
        across, down, x[:, None] + (cos * _DX - sin * _DY) * cell, y[:, None] + (sin * _DX + cos * _DY) * cell
    )
    strength = np.hypot(gx, gy)
    place = (np.arctan2(gy, gx) - directions[:, None]) / (2 * np.pi) * _DIRECTIONS % _DIRECTIONS
    low = np.floor(place).astype(np.int64)
    high_part = place - low
    split = np.zeros((*place.shape, _DIRECTIONS), np.float32)
    rows, columns = np.indices(place.shape)
    split[rows, columns, low % _DIRECTIONS] += strength * (1 - high_part)
    split[rows, columns, (low + 1) % _DIRECTIONS] += strength * high_part
    values = np.einsum("nsd,sc->ncd", split, _WEIGHTS).reshape(len(x), -1)
    values /= np.linalg.norm(values, axis=1, keepdims=True) + 1e-9
    values = np.minimum(values, _CLIPPED)
    found: Reals = np.sqrt(values / (values.sum(1, keepdims=True) + 1e-9)).astype(np.float32)
    return found


def _projection() -> Reals:
    """64 directions in the descriptions' space, orthogonal and none along their mean: rows of a Hadamard
    matrix with its columns mixed by a fixed sequence."""
    matrix = np.ones((1, 1), np.float32)
    while len(matrix) < _PARTS * _PARTS * _DIRECTIONS:
        matrix = np.block([[matrix, matrix], [matrix, -matrix]])
    state, order = 0x9E3779B9, []
    for _ in range(len(matrix)):
        state = (state * 1664525 + 1013904223) & 0xFFFFFFFF
        order.append(state)
    mixed = matrix[:, np.argsort(order)]
    return mixed[1::2][:64]


_PROJECTION = _projection()


def _bits(descriptions: Reals) -> NDArray[np.uint64]:
    over = (descriptions - descriptions.mean(1, keepdims=True)) @ _PROJECTION.T > 0
    return np.packbits(over, axis=1, bitorder="little").view("<u8").ravel()


def _sampled(across: Reals, down: Reals, x: Reals, y: Reals) -> tuple[Reals, Reals]:
    """Both gradients between pixels, bilinear; none beyond the edges."""
    height, width = across.shape
    inside = (x >= 0) & (x <= width - 1) & (y >= 0) & (y <= height - 1)
    x, y = np.clip(x, 0, width - 1.001), np.clip(y, 0, height - 1.001)
    column, row = x.astype(np.int64), y.astype(np.int64)
    right, below = x - column, y - row
    weights = (
        ((1 - right) * (1 - below), 0, 0),
        (right * (1 - below), 0, 1),
        ((1 - right) * below, 1, 0),
        (right * below, 1, 1),
    )
    gx = sum(weight * across[row + dy, column + dx] for weight, dy, dx in weights)
    gy = sum(weight * down[row + dy, column + dx] for weight, dy, dx in weights)
    return np.where(inside, gx, 0), np.where(inside, gy, 0)


def _histogram(place: Reals, strength: Reals, bins: int) -> Reals:
    """For each row, how much strength lies in each of the bins."""
    low = np.floor(place).astype(np.int64)
    part = place - low
    rows = np.arange(len(place))[:, None] * bins
    found = np.zeros(len(place) * bins)
    found += np.bincount((rows + low % bins).ravel(), (strength * (1 - part)).ravel(), len(found))
    found += np.bincount((rows + (low + 1) % bins).ravel(), (strength * part).ravel(), len(found))
    return found.reshape(-1, bins).astype(np.float32)


def _counted(values: Reals, most: int) -> NDArray[np.int64]:
    return np.clip(np.rint(values), 0, most).astype(np.int64)

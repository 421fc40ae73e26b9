"""Painting over a patch: with a colour, with another place, or with what continues its surroundings.

Surroundings that are even are continued by the smoothest surface that meets them at the edge (Laplace's
equation, by multigrid) with their own grain. Others are put together from pieces of themselves
(:mod:`.pieces`).
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..pixels import Pixels
from ..shapes import Cover
from .pieces import grown, pieced

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]
Bools = NDArray[np.bool_]

#: How far around the patch its surroundings are looked at, in its own sizes.
_AROUND = 1.5
#: Surroundings are even when they are so near to a plane, in sample values on the mean, and nearly all so
#: near to their neighbours.
_EVEN, _GRAIN = 7.0, 9.0


def cover(pixels: Pixels, stroke: Cover) -> Pixels:
    """The picture with a stroke painted over; alpha stays."""
    width, height = pixels.size
    if not stroke.points:
        return pixels
    radius = max(1.0, stroke.radius * max(width, height))
    xs = [x * width for x, _ in stroke.points]
    ys = [y * height for _, y in stroke.points]
    left, top = max(0, math.floor(min(xs) - radius)), max(0, math.floor(min(ys) - radius))
    right, bottom = min(width, math.ceil(max(xs) + radius) + 1), min(height, math.ceil(max(ys) + radius) + 1)
    if left >= right or top >= bottom:
        return pixels
    if stroke.way == "surroundings":
        reach = math.ceil(max(right - left, bottom - top) * _AROUND) + 8
        left, top = max(0, left - reach), max(0, top - reach)
        right, bottom = min(width, right + reach), min(height, bottom + reach)
    points = np.array([(x - left, y - top) for x, y in zip(xs, ys, strict=True)], np.float32)
    strength = _brush(right - left, bottom - top, points, radius, stroke.soft)
    ground = pixels.rgb[top:bottom, left:right]
    if stroke.way == "colour":
        over = np.broadcast_to(np.array(stroke.colour, np.float32), ground.shape)
    elif stroke.way == "clone":
        over = _elsewhere(pixels.rgb, stroke, (left, top, right, bottom)).astype(np.float32)
    else:
        hole = strength > 0
        if hole.all():
            return pixels  # nothing is left to continue
        over = _continued(ground.astype(np.float32), hole)
    mixed = ground + (over - ground.astype(np.float32)) * strength[..., None]
    rgb = pixels.rgb.copy()
    rgb[top:bottom, left:right] = np.clip(np.rint(mixed), 0, 255).astype(np.uint8)
    return Pixels(rgb, pixels.alpha)


@njit(cache=True, nogil=True, error_model="numpy")
def _brush(width: int, height: int, points: F32, radius: float, soft: float) -> F32:
    """How much of each sample is painted over, 0 to 1: whole inside, fading at the rim."""
    out = np.zeros((height, width), np.float32)
    inner = radius * (1 - soft)
    for y in range(height):
        for x in range(width):
            least = np.float32(1e9)
            for k in range(points.shape[0]):
                ax, ay = points[max(k - 1, 0), 0], points[max(k - 1, 0), 1]
                bx, by = points[k, 0], points[k, 1]
                px, py = x + np.float32(0.5) - ax, y + np.float32(0.5) - ay
                dx, dy = bx - ax, by - ay
                length = dx * dx + dy * dy
                t = np.float32(0)
                if length > 0:
                    t = min(max((px * dx + py * dy) / length, np.float32(0)), np.float32(1))
                qx, qy = px - t * dx, py - t * dy
                least = min(least, qx * qx + qy * qy)
            away = math.sqrt(least)
            if away <= inner:
                out[y, x] = 1
            elif away < radius:
                out[y, x] = (radius - away) / (radius - inner)
    return out


def _elsewhere(rgb: U8, stroke: Cover, box: tuple[int, int, int, int]) -> U8:
    """What lies ``offset`` away from a box; what would be beyond an edge is the edge."""
    height, width = rgb.shape[:2]
    left, top, right, bottom = box
    across, down = round(stroke.offset[0] * width), round(stroke.offset[1] * height)
    columns = np.clip(np.arange(left, right) + across, 0, width - 1)
    rows = np.clip(np.arange(top, bottom) + down, 0, height - 1)
    found: U8 = rgb[rows[:, None], columns[None, :]]
    return found


def _continued(ground: F32, hole: Bools) -> F32:
    """Ground (height, width, 3) whose hole was filled with what continues the rest."""
    ring = grown(hole, max(3, round(0.1 * math.sqrt(hole.sum())))) & ~hole
    noise = ground - _without_grain(ground)
    grain = float(np.quantile(np.abs(noise[ring]), 0.98))
    if float(np.abs(_residue(ground, ring)).mean()) <= _EVEN and grain <= _GRAIN:
        return _with_grain(membrane(ground, hole), noise, hole, ring)
    return pieced(ground, hole, membrane(ground, hole))


def _residue(ground: F32, ring: Bools) -> F32:
    """What is left of the ring's luma when a plane is taken away."""
    rows, columns = np.nonzero(ring)
    luma = ground[rows, columns] @ np.array([0.299, 0.587, 0.114], np.float32)
    plane = np.stack([rows, columns, np.ones_like(rows)], axis=1).astype(np.float64)
    fit = np.linalg.lstsq(plane, luma.astype(np.float64), rcond=None)[0]
    return (luma - plane @ fit).astype(np.float32)


@njit(cache=True, nogil=True, error_model="numpy")
def _relaxed(values: F32, hole: Bools, rounds: int) -> None:
    """Successive over-relaxation of Laplace's equation inside the hole; edges of the picture are mirrors."""
    height, width, channels = values.shape
    pace = np.float32(1.8)
    for _ in range(rounds):
        for y in range(height):
            for x in range(width):
                if not hole[y, x]:
                    continue
                up, down = max(y - 1, 0), min(y + 1, height - 1)
                left, right = max(x - 1, 0), min(x + 1, width - 1)
                for c in range(channels):
                    mean = (
                        values[up, x, c] + values[down, x, c] + values[y, left, c] + values[y, right, c]
                    ) / 4
                    values[y, x, c] += pace * (mean - values[y, x, c])


def membrane(values: F32, hole: Bools) -> F32:
    """The smoothest surface that meets the rest at the hole's edge: coarse first, then finer."""
    height, width = hole.shape
    if min(height, width) > 16 and hole.any():
        tall, wide = height // 2 * 2, width // 2 * 2
        whole = ~hole[:tall, :wide]
        weight = whole.reshape(tall // 2, 2, wide // 2, 2).sum(axis=(1, 3)).astype(np.float32)
        total = (
            (values[:tall, :wide] * whole[..., None]).reshape(tall // 2, 2, wide // 2, 2, -1).sum(axis=(1, 3))
        )
        coarse = membrane((total / np.maximum(weight, 1)[..., None]).astype(np.float32), weight == 0)
        guess = np.repeat(np.repeat(coarse, 2, axis=0), 2, axis=1)
        guess = np.pad(guess, [(0, height - tall), (0, width - wide), (0, 0)], mode="edge")
    else:
        mean = values[~hole].mean(axis=0) if (~hole).any() else np.zeros(values.shape[2], np.float32)
        guess = np.broadcast_to(mean, values.shape)
    out = np.ascontiguousarray(np.where(hole[..., None], guess, values).astype(np.float32))
    _relaxed(out, hole, 40)
    return out


def _with_grain(smooth: F32, noise: F32, hole: Bools, ring: Bools) -> F32:
    """The grain of the surroundings, taken from them sample by sample, on a smooth surface."""
    rows, columns = np.nonzero(ring)
    picks = np.random.default_rng(len(rows)).integers(0, len(rows), int(hole.sum()))
    out = smooth.copy()
    out[hole] += noise[rows[picks], columns[picks]]
    return out


def _without_grain(ground: F32) -> F32:
    """The mean of five by five samples."""
    padded = np.pad(ground, [(2, 2), (2, 2), (0, 0)], mode="edge")
    height, width = ground.shape[:2]
    mean = np.zeros_like(ground)
    for y in range(5):
        for x in range(5):
            mean += padded[y : y + height, x : x + width]
    return mean / np.float32(25)

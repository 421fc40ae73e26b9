"""Painting over a patch: with a colour, with another place, or with what continues its surroundings.

Surroundings that are even are continued by the smoothest surface that meets them at the edge (Laplace's
equation, by multigrid) with their own grain. Textured ones are put together from pieces of themselves, the
most certain edges first (A. Criminisi, P. Perez, K. Toyama, "Region filling and object removal by
exemplar-based image inpainting", IEEE Trans. Image Processing 13, 2004), at a size at which that is
quick; the pieces are then taken at the picture's own size, and what they differ by at the edge is spread over
the patch (P. Perez, M. Gangnet, A. Blake, "Poisson image editing", SIGGRAPH 2003).
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..pixels import Pixels
from ..shapes import Cover

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]
I32 = NDArray[np.int32]
Bools = NDArray[np.bool_]

#: The longer side at which pieces are looked for; how far around the patch they are, in its own sizes.
_SEARCHED, _AROUND = 220, 1.5
#: Half the side of a piece.
_PIECE = 4
#: Surroundings whose samples are so near to a plane through them are even.
_EVEN = 7.0


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
    ring = _grown(hole, max(3, round(0.1 * math.sqrt(hole.sum())))) & ~hole
    rest = _residue(ground, ring)
    if float(np.abs(rest).mean()) <= _EVEN:
        return _with_grain(_membrane(ground, hole), ground, hole, ring)
    return _pieced(ground, hole)


def _residue(ground: F32, ring: Bools) -> F32:
    """What is left of the ring's luma when a plane is taken away."""
    rows, columns = np.nonzero(ring)
    luma = ground[rows, columns] @ np.array([0.299, 0.587, 0.114], np.float32)
    plane = np.stack([rows, columns, np.ones_like(rows)], axis=1).astype(np.float64)
    fit = np.linalg.lstsq(plane, luma.astype(np.float64), rcond=None)[0]
    return (luma - plane @ fit).astype(np.float32)


def _grown(mask: Bools, by: int) -> Bools:
    """A mask grown by so many samples each way."""
    out = mask
    for axis in (0, 1):
        sums = np.cumsum(
            np.pad(out.astype(np.int32), [(by + 1, by) if a == axis else (0, 0) for a in (0, 1)]), axis
        )
        length = mask.shape[axis]
        out = np.take(sums, np.arange(2 * by + 1, 2 * by + 1 + length), axis) > np.take(
            sums, np.arange(length), axis
        )
    return out


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


def _membrane(values: F32, hole: Bools) -> F32:
    """The smoothest surface that meets the rest at the hole's edge: coarse first, then finer."""
    height, width = hole.shape
    if min(height, width) > 16 and hole.any():
        tall, wide = height // 2 * 2, width // 2 * 2
        whole = ~hole[:tall, :wide]
        weight = whole.reshape(tall // 2, 2, wide // 2, 2).sum(axis=(1, 3)).astype(np.float32)
        total = (
            (values[:tall, :wide] * whole[..., None]).reshape(tall // 2, 2, wide // 2, 2, -1).sum(axis=(1, 3))
        )
        coarse = _membrane((total / np.maximum(weight, 1)[..., None]).astype(np.float32), weight == 0)
        guess = np.repeat(np.repeat(coarse, 2, axis=0), 2, axis=1)
        guess = np.pad(guess, [(0, height - tall), (0, width - wide), (0, 0)], mode="edge")
    else:
        mean = values[~hole].mean(axis=0) if (~hole).any() else np.zeros(values.shape[2], np.float32)
        guess = np.broadcast_to(mean, values.shape)
    out = np.ascontiguousarray(np.where(hole[..., None], guess, values).astype(np.float32))
    _relaxed(out, hole, 40)
    return out


def _with_grain(smooth: F32, ground: F32, hole: Bools, ring: Bools) -> F32:
    """The grain of the surroundings, taken from them sample by sample, on a smooth surface."""
    noise = ground - _membrane_of_ring(ground)
    rows, columns = np.nonzero(ring)
    picks = np.random.default_rng(len(rows)).integers(0, len(rows), int(hole.sum()))
    out = smooth.copy()
    out[hole] += noise[rows[picks], columns[picks]]
    return out


def _membrane_of_ring(ground: F32) -> F32:
    """Ground without its grain: the mean of five by five samples."""
    padded = np.pad(ground, [(2, 2), (2, 2), (0, 0)], mode="edge")
    height, width = ground.shape[:2]
    mean = np.zeros_like(ground)
    for y in range(5):
        for x in range(5):
            mean += padded[y : y + height, x : x + width]
    return mean / np.float32(25)


# -- pieces of the surroundings -------------------------------------------------------------------


def _pieced(ground: F32, hole: Bools) -> F32:
    factor = max(1, math.ceil(max(hole.shape) / _SEARCHED))
    small, small_hole = _reduced(ground, hole, factor)
    if small_hole.all() or not _sources(small_hole).any():
        return _membrane(ground, hole)
    offsets = _offsets(small, small_hole, _sources(small_hole))
    rows, columns = np.nonzero(hole)
    coarse_rows = np.minimum(rows // factor, small_hole.shape[0] - 1)
    coarse_columns = np.minimum(columns // factor, small_hole.shape[1] - 1)
    moved = offsets[coarse_rows, coarse_columns] * factor
    from_rows = np.clip(rows + moved[:, 0], 0, hole.shape[0] - 1)
    from_columns = np.clip(columns + moved[:, 1], 0, hole.shape[1] - 1)
    out = ground.copy()
    out[rows, columns] = ground[from_rows, from_columns]
    return _met_at_the_edge(out, ground, hole, rows, columns, moved)


def _reduced(ground: F32, hole: Bools, factor: int) -> tuple[F32, Bools]:
    """Both by whole factors; a sample with any part of the hole belongs to it."""
    if factor == 1:
        return ground, hole
    tall, wide = ground.shape[0] // factor * factor, ground.shape[1] // factor * factor
    shape = (tall // factor, factor, wide // factor, factor)
    small = ground[:tall, :wide].reshape(*shape, 3).mean(axis=(1, 3)).astype(np.float32)
    return small, np.asarray(hole[:tall, :wide].reshape(shape).any(axis=(1, 3)))


def _sources(hole: Bools) -> Bools:
    """Middles of pieces that lie inside the picture and touch no hole."""
    out = ~_grown(hole, _PIECE)
    out[:_PIECE] = out[-_PIECE:] = False
    out[:, :_PIECE] = out[:, -_PIECE:] = False
    return out


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _offsets(values: F32, hole: Bools, sources: Bools) -> I32:
    """For each sample of the hole how far away its piece was taken from, (height, width, 2), rows first."""
    height, width = hole.shape
    filled, todo = values.copy(), hole.copy()
    sure = np.where(hole, np.float32(0), np.float32(1))
    out = np.zeros((height, width, 2), np.int32)
    while True:
        best, by, bx = np.float32(-1), -1, -1
        for y in range(height):
            for x in range(width):
                if not todo[y, x] or not _at_edge(todo, y, x):
                    continue
                first = _priority(filled, todo, sure, y, x)
                if first > best:
                    best, by, bx = first, y, x
        if by < 0:
            return out
        sy, sx = _most_alike(filled, todo, sources, by, bx)
        belief = _belief(sure, by, bx)
        for dy in range(-_PIECE, _PIECE + 1):
            for dx in range(-_PIECE, _PIECE + 1):
                y, x = by + dy, bx + dx
                if 0 <= y < height and 0 <= x < width and todo[y, x]:
                    filled[y, x] = filled[sy + dy, sx + dx]
                    out[y, x, 0] = sy + dy + out[sy + dy, sx + dx, 0] - y
                    out[y, x, 1] = sx + dx + out[sy + dy, sx + dx, 1] - x
                    todo[y, x] = False
                    sure[y, x] = belief


@njit(cache=True, nogil=True, error_model="numpy")
def _at_edge(todo: Bools, y: int, x: int) -> bool:
    return (
        (y > 0 and not todo[y - 1, x])
        or (x > 0 and not todo[y, x - 1])
        or (y + 1 < todo.shape[0] and not todo[y + 1, x])
        or (x + 1 < todo.shape[1] and not todo[y, x + 1])
    )


@njit(cache=True, nogil=True, error_model="numpy")
def _belief(sure: F32, y: int, x: int) -> np.float32:
    total, count = np.float32(0), np.float32(0)
    for j in range(max(y - _PIECE, 0), min(y + _PIECE + 1, sure.shape[0])):
        for i in range(max(x - _PIECE, 0), min(x + _PIECE + 1, sure.shape[1])):
            total += sure[j, i]
            count += np.float32(1)
    return total / count


@njit(cache=True, nogil=True, error_model="numpy")
def _priority(filled: F32, todo: Bools, sure: F32, y: int, x: int) -> np.float32:
    """How sure its surroundings are, times how strong an edge runs into the hole there."""
    height, width = todo.shape
    strongest = np.float32(0)
    for j in range(max(y - 2, 1), min(y + 3, height - 1)):
        for i in range(max(x - 2, 1), min(x + 3, width - 1)):
            if todo[j, i] or todo[j - 1, i] or todo[j + 1, i] or todo[j, i - 1] or todo[j, i + 1]:
                continue
            across = abs(filled[j, i + 1, 1] - filled[j, i - 1, 1])
            down = abs(filled[j + 1, i, 1] - filled[j - 1, i, 1])
            strongest = max(strongest, across + down)
    return _belief(sure, y, x) * (strongest + np.float32(4))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _most_alike(filled: F32, todo: Bools, sources: Bools, y: int, x: int) -> tuple[int, int]:
    """The middle of the piece that is most like what is known around a sample; near ones are preferred."""
    height, width = todo.shape
    best, by, bx = np.float32(1e30), -1, -1
    for sy in range(_PIECE, height - _PIECE):
        for sx in range(_PIECE, width - _PIECE):
            if not sources[sy, sx]:
                continue
            away = np.float32((sy - y) * (sy - y) + (sx - x) * (sx - x))
            total = away * np.float32(0.02)
            for dy in range(-_PIECE, _PIECE + 1):
                j = y + dy
                if j < 0 or j >= height:
                    continue
                for dx in range(-_PIECE, _PIECE + 1):
                    i = x + dx
                    if i < 0 or i >= width or todo[j, i]:
                        continue
                    for c in range(3):
                        off = filled[j, i, c] - filled[sy + dy, sx + dx, c]
                        total += off * off
                if total >= best:
                    break
            if total < best:
                best, by, bx = total, sy, sx
    return by, bx


def _met_at_the_edge(
    out: F32, ground: F32, hole: Bools, rows: NDArray[np.intp], columns: NDArray[np.intp], moved: I32
) -> F32:
    """What pieces differ by where they meet the picture is spread smoothly over the hole."""
    height, width = hole.shape
    miss = np.zeros_like(ground)
    edge = np.zeros_like(hole)
    for down, across in ((-1, 0), (1, 0), (0, -1), (0, 1)):
        y, x = np.clip(rows + down, 0, height - 1), np.clip(columns + across, 0, width - 1)
        outside = ~hole[y, x]
        y, x, shift = y[outside], x[outside], moved[outside]
        there = ground[np.clip(y + shift[:, 0], 0, height - 1), np.clip(x + shift[:, 1], 0, width - 1)]
        miss[y, x], edge[y, x] = ground[y, x] - there, True
    inside = hole | ~edge
    # Where pieces meet the picture is all that is known; the rest follows from it, and only the hole is used.
    spread = _membrane(np.where(edge[..., None], miss, 0).astype(np.float32), inside)
    out[hole] += spread[hole]
    return out

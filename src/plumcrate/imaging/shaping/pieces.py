"""A hole filled with pieces of its surroundings, so that every piece of the filling is like one of them.

Coarse first: for each piece that touches the hole the most alike one outside is found by chance and by
what its neighbours found (C. Barnes et al., "PatchMatch", SIGGRAPH 2009); then each sample becomes the
mean of what the pieces over it say, and so on (Y. Wexler, E. Shechtman, M. Irani, "Space-time completion of
video", IEEE Trans. PAMI 29, 2007). Chance is the same each time.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

F32 = NDArray[np.float32]
I32 = NDArray[np.int32]
Bools = NDArray[np.bool_]

#: The longer side at which pieces are looked for, and the least side of the coarsest step.
_SEARCHED, _COARSEST = 240, 28
#: Half the side of a piece.
_HALF = 3
#: Rounds of looking and voting at each step, the coarsest first.
_ROUNDS = (12, 8, 6, 4, 3)


def pieced(ground: F32, hole: Bools, guess: F32) -> F32:
    """``ground`` (height, width, 3) with its hole filled; ``guess`` is a filling to begin with."""
    factor = max(1, math.ceil(max(hole.shape) / _SEARCHED))
    steps = [_reduced(ground, hole, guess, factor)]
    while min(steps[-1][1].shape) >= 2 * _COARSEST and _sources(_reduced(*steps[-1], 2)[1]).any():
        steps.append(_reduced(*steps[-1], 2))
    if not _sources(steps[0][1]).any():
        return guess
    offsets: I32 | None = None
    for turn, (values, missing, filled) in enumerate(reversed(steps)):
        work = np.ascontiguousarray(np.where(missing[..., None], filled, values))
        sources = _sources(missing)
        if offsets is not None:
            offsets = _finer(offsets, missing.shape)
        offsets = _begin(missing, sources, offsets)
        sure = _sureness(missing)
        for round_ in range(_ROUNDS[min(turn, len(_ROUNDS) - 1)]):
            if round_ or turn:
                _vote(work, missing, offsets, sure)
            _look(work, missing, sources, offsets, round_)
    assert offsets is not None
    return _taken(ground, hole, offsets, factor)


def _reduced(values: F32, hole: Bools, guess: F32, factor: int) -> tuple[F32, Bools, F32]:
    """All by whole factors; a sample with any part of the hole belongs to it."""
    if factor == 1:
        return values, hole, guess
    tall, wide = hole.shape[0] // factor * factor, hole.shape[1] // factor * factor
    shape = (tall // factor, factor, wide // factor, factor)

    def mean(plane: F32) -> F32:
        means: F32 = plane[:tall, :wide].reshape(*shape, 3).mean(axis=(1, 3)).astype(np.float32)
        return means

    return mean(values), np.asarray(hole[:tall, :wide].reshape(shape).any(axis=(1, 3))), mean(guess)


def _sources(hole: Bools) -> Bools:
    """Middles of pieces that lie inside the picture and touch no hole."""
    out = ~grown(hole, _HALF)
    out[:_HALF] = out[-_HALF:] = False
    out[:, :_HALF] = out[:, -_HALF:] = False
    return out


def grown(mask: Bools, by: int) -> Bools:
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


def _finer(offsets: I32, shape: tuple[int, ...]) -> I32:
    """Offsets for twice the size."""
    doubled = np.repeat(np.repeat(offsets, 2, axis=0), 2, axis=1) * 2
    pad = [(0, max(0, shape[0] - doubled.shape[0])), (0, max(0, shape[1] - doubled.shape[1])), (0, 0)]
    return np.ascontiguousarray(np.pad(doubled, pad, mode="edge")[: shape[0], : shape[1]])


def _begin(hole: Bools, sources: Bools, former: I32 | None) -> I32:
    """An offset to a source for each sample; those of the coarser step where they still lead to one."""
    rows, columns = np.nonzero(sources)
    chance = np.random.default_rng(hole.size)
    picks = chance.integers(0, len(rows), hole.shape)
    y, x = np.indices(hole.shape)
    out = np.stack([rows[picks] - y, columns[picks] - x], axis=-1).astype(np.int32)
    if former is not None:
        to_rows, to_columns = y + former[..., 0], x + former[..., 1]
        inside = (to_rows >= 0) & (to_rows < hole.shape[0]) & (to_columns >= 0) & (to_columns < hole.shape[1])
        there = np.zeros_like(inside)
        there[inside] = sources[to_rows[inside], to_columns[inside]]
        out[there] = former[there]
    return out


def _sureness(hole: Bools) -> F32:
    """1 outside the hole, less the deeper inside."""
    out = np.ones(hole.shape, np.float32)
    inside, weight = hole.copy(), np.float32(1)
    while inside.any():
        weight *= np.float32(0.75)
        out[inside] = weight
        inside = ~grown(~inside, 1)
    return out


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy")
def _unlike(work: F32, y: int, x: int, sy: int, sx: int, most: np.float32) -> np.float32:
    """How far the piece around a sample is from one around a source; stops beyond ``most``."""
    height, width = work.shape[0], work.shape[1]
    total, count = np.float32(0), 0
    for dy in range(-_HALF, _HALF + 1):
        j = y + dy
        if j < 0 or j >= height:
            continue
        for dx in range(-_HALF, _HALF + 1):
            i = x + dx
            if i < 0 or i >= width:
                continue
            for c in range(3):
                off = work[j, i, c] - work[sy + dy, sx + dx, c]
                total += off * off
            count += 1
        if total > most * np.float32(49):
            break
    return total / np.float32(max(count, 1))


@njit(cache=True, nogil=True, error_model="numpy")
def _concerned(hole: Bools, y: int, x: int) -> bool:
    """Whether the piece around a sample touches the hole."""
    for j in range(max(y - _HALF, 0), min(y + _HALF + 1, hole.shape[0])):
        for i in range(max(x - _HALF, 0), min(x + _HALF + 1, hole.shape[1])):
            if hole[j, i]:
                return True
    return False


@njit(cache=True, nogil=True, error_model="numpy")
def _look(work: F32, hole: Bools, sources: Bools, offsets: I32, seed: int) -> None:
    """Two sweeps of looking for more alike pieces: at what neighbours found, and around that by chance."""
    height, width = hole.shape
    state = np.uint32(2463534242 + 7919 * seed)
    for sweep in range(2):
        step = 1 if sweep == 0 else -1
        for row in range(height):
            y = row if step == 1 else height - 1 - row
            for column in range(width):
                x = column if step == 1 else width - 1 - column
                if not _concerned(hole, y, x):
                    continue
                oy, ox = offsets[y, x, 0], offsets[y, x, 1]
                best = _unlike(work, y, x, y + oy, x + ox, np.float32(1e9))
                for way in range(2):
                    py, px = (y - step, x) if way == 0 else (y, x - step)
                    if py < 0 or px < 0 or py >= height or px >= width:
                        continue
                    sy, sx = y + offsets[py, px, 0], x + offsets[py, px, 1]
                    if sy < 0 or sx < 0 or sy >= height or sx >= width or not sources[sy, sx]:
                        continue
                    off = _unlike(work, y, x, sy, sx, best)
                    if off < best:
                        best, oy, ox = off, sy - y, sx - x
                reach = max(height, width)
                while reach >= 1:
                    state ^= state << np.uint32(13)
                    state ^= state >> np.uint32(17)
                    state ^= state << np.uint32(5)
                    sy = y + oy + np.int64(state % np.uint32(2 * reach + 1)) - reach
                    state ^= state << np.uint32(13)
                    state ^= state >> np.uint32(17)
                    state ^= state << np.uint32(5)
                    sx = x + ox + np.int64(state % np.uint32(2 * reach + 1)) - reach
                    reach //= 2
                    if sy < 0 or sx < 0 or sy >= height or sx >= width or not sources[sy, sx]:
                        continue
                    off = _unlike(work, y, x, sy, sx, best)
                    if off < best:
                        best, oy, ox = off, sy - y, sx - x
                offsets[y, x, 0], offsets[y, x, 1] = oy, ox


@njit(cache=True, nogil=True, error_model="numpy")
def _vote(work: F32, hole: Bools, offsets: I32, sure: F32) -> None:
    """Each sample of the hole becomes the mean of what the pieces over it say, the surest and most alike
    first."""
    height, width = hole.shape
    before = work.copy()
    for y in range(height):
        for x in range(width):
            if not hole[y, x]:
                continue
            r = g = b = all_ = np.float32(0)
            for dy in range(-_HALF, _HALF + 1):
                for dx in range(-_HALF, _HALF + 1):
                    j, i = y + dy, x + dx
                    if j < 0 or i < 0 or j >= height or i >= width:
                        continue
                    sy, sx = y + offsets[j, i, 0], x + offsets[j, i, 1]
                    if sy < 0 or sx < 0 or sy >= height or sx >= width or hole[sy, sx]:
                        continue
                    off = _unlike(before, j, i, j + offsets[j, i, 0], i + offsets[j, i, 1], np.float32(1e9))
                    weight = sure[j, i] * np.exp(-off / np.float32(400)) + np.float32(1e-6)
                    r += weight * before[sy, sx, 0]
                    g += weight * before[sy, sx, 1]
                    b += weight * before[sy, sx, 2]
                    all_ += weight
            if all_ > 0:
                work[y, x, 0], work[y, x, 1], work[y, x, 2] = r / all_, g / all_, b / all_


def _taken(ground: F32, hole: Bools, offsets: I32, factor: int) -> F32:
    """The pieces at the picture's own size: each sample from what the four nearest middles found."""
    rows, columns = np.nonzero(hole)
    y = (rows + 0.5) / factor - 0.5
    x = (columns + 0.5) / factor - 0.5
    top, left = np.floor(y).astype(int), np.floor(x).astype(int)
    out = np.zeros((len(rows), 3), np.float32)
    total = np.zeros(len(rows), np.float32)
    for dy in (0, 1):
        for dx in (0, 1):
            part = (1 - np.abs(y - top - dy)) * (1 - np.abs(x - left - dx))
            j = np.clip(top + dy, 0, offsets.shape[0] - 1)
            i = np.clip(left + dx, 0, offsets.shape[1] - 1)
            from_rows = np.clip(rows + offsets[j, i, 0] * factor, 0, hole.shape[0] - 1)
            from_columns = np.clip(columns + offsets[j, i, 1] * factor, 0, hole.shape[1] - 1)
            weight = np.where(hole[from_rows, from_columns], 1e-4, part + 1e-3).astype(np.float32)
            out += weight[:, None] * ground[from_rows, from_columns]
            total += weight
    filled = ground.copy()
    filled[rows, columns] = out / total[:, None]
    return filled

"""Rate-distortion quantization: for each block the levels that cost least, bits and error together.

For a block the cost is the squared error in quantization steps plus lambda times the bits of its
run and size symbols (T.81 F.1.2.2), minimized by dynamic programming over the coefficients that do
not round to zero: each may keep its rounded level, go one lower, or vanish. Bits come from the
statistics of the picture itself, taken after a rounding that is near the outcome.
After K. Ramchandran, M. Vetterli, "Rate-distortion optimal fast thresholding with complete JPEG/MPEG
decoder compatibility", IEEE Trans. Image Processing 3 (5), 1994.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .arrays import I16, U16
from .transform import F32

#: The part of a step from which on a coefficient counts for the statistics: about where it is worth its bits.
_COUNTS_FROM = np.float32(0.7)


@njit(cache=True, nogil=True, error_model="numpy")
def _round(values: F32, inverse: F32, out: I16) -> None:
    """Coefficients in quantization steps, rounded up from :data:`_COUNTS_FROM` on."""
    up = np.float32(1) - _COUNTS_FROM
    for index in range(values.shape[0]):
        for k in range(64):
            scaled = values[index, k] * inverse[k]
            out[index, k] = np.int16(scaled + up if scaled >= 0 else scaled - up)


@njit(inline="always")
def _size_of(level: int) -> int:
    size = 0
    while level:
        size += 1
        level >>= 1
    return size


@njit(cache=True, nogil=True)
def _count(levels: I16, counts: NDArray[np.int64]) -> None:
    """How often each run and size symbol occurs in the AC coefficients."""
    for index in range(levels.shape[0]):
        zeros = 0
        for k in range(1, 64):
            level = abs(np.int64(levels[index, k]))
            if level == 0:
                zeros += 1
                continue
            while zeros > 15:
                counts[0xF0] += 1
                zeros -= 16
            counts[zeros << 4 | _size_of(level)] += 1
            zeros = 0
        if zeros:
            counts[0] += 1


def _bits(counts: NDArray[np.int64]) -> F32:
    """The ideal bits of each symbol, its extra bits included; unseen symbols are dear, not forbidden."""
    smoothed = counts + 0.3
    bits = np.log2(smoothed.sum()) - np.log2(smoothed)
    return (np.minimum(bits, 16.0) + (np.arange(256) & 15)).astype(np.float32)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _choose(values: F32, inverse: F32, bits: F32, weights: F32, out: I16) -> None:
    """The levels of every block that cost least; ``weights``: each block's lambda, squared steps a bit."""
    place = np.empty(64, np.int32)  # zigzag position of each candidate
    top = np.empty(64, np.int32)  # its rounded level
    exact = np.empty(64, np.float32)  # its magnitude in steps
    before = np.empty(65, np.float32)  # error of zeroing all candidates before it
    cost = np.empty((65, 2), np.float32)  # least cost of ending on candidate i - 1 with its level or one less
    came = np.empty((65, 2), np.int32)
    for index in range(values.shape[0]):
        weight = weights[index]
        count = 0
        before[0] = 0
        for k in range(1, 64):
            scaled = abs(values[index, k] * inverse[k])
            out[index, k] = 0
            level = np.int32(scaled + np.float32(0.5))
            if level > 0:
                place[count] = k
                top[count] = level
                exact[count] = scaled
                before[count + 1] = before[count] + scaled * scaled
                count += 1
        if count == 0:
            continue
        best_end = before[count] + weight * bits[0]
        best_at = -1
        best_kind = 0
        for i in range(count):
            for kind in range(2):
                level = top[i] - kind
                if level == 0:
                    cost[i + 1, kind] = np.float32(1e30)
                    continue
                size = _size_of(level)
                off = exact[i] - np.float32(level)
                own = off * off
                # From the block's beginning.
                zeros = place[i] - 1
                rate = bits[(zeros & 15) << 4 | size] + np.float32(zeros >> 4) * bits[0xF0]
                least = before[i] + weight * rate
                origin = -1
                for j in range(i - 1, -1, -1):
                    gap = before[i] - before[j + 1]
                    if gap > least:
                        break  # zeroing so many costs more by itself
                    zeros = place[i] - place[j] - 1
                    rate = bits[(zeros & 15) << 4 | size] + np.float32(zeros >> 4) * bits[0xF0]
                    step = gap + weight * rate
                    for other in range(2):
                        total = cost[j + 1, other] + step
                        if total < least:
                            least = total
                            origin = j * 2 + other
                cost[i + 1, kind] = least + own
                came[i + 1, kind] = origin
                end = least + own + before[count] - before[i + 1]
                if place[i] < 63:
                    end += weight * bits[0]
                if end < best_end:
                    best_end = end
                    best_at = i
                    best_kind = kind
        at = best_at
        kind = best_kind
        while at >= 0:
            level = top[at] - kind
            k = place[at]
            out[index, k] = np.int16(level) if values[index, k] > 0 else np.int16(-level)
            origin = came[at + 1, kind]
            if origin < 0:
                break
            at = origin >> 1
            kind = origin & 1


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _choose_means(values: F32, inverse: F32, bits: F32, weights: F32, out: I16) -> None:
    """DC levels, which are coded as differences from block to block: of the two nearest of each block those
    that cost least over all blocks in their order (the Viterbi algorithm)."""
    count = values.shape[0]
    came = np.empty((count, 2), np.int8)
    low = np.empty(count, np.int32)
    before_low = np.float32(0)
    before_high = np.float32(1e30)  # what comes before the first is 0, and nothing else
    last = np.int32(0)
    for index in range(count):
        scaled = values[index, 0] * inverse[0]
        low[index] = np.int32(np.floor(scaled))
        costs_low = costs_high = np.float32(0)
        for high in range(2):
            level = low[index] + high
            off = scaled - np.float32(level)
            from_low = before_low + weights[index] * bits[_size_of(abs(level - last))]
            from_high = before_high + weights[index] * bits[_size_of(abs(level - last - 1))]
            came[index, high] = from_high < from_low
            costs = min(from_low, from_high) + off * off
            if high:
                costs_high = costs
            else:
                costs_low = costs
        least = min(costs_low, costs_high)
        before_low = costs_low - least
        before_high = costs_high - least
        last = low[index]
    high = np.int8(before_high < before_low)
    for index in range(count - 1, -1, -1):
        out[index, 0] = np.int16(low[index] + high)
        high = came[index, high]


def _bits_of_means(levels: I16) -> F32:
    """The ideal bits of each size of a DC difference, its extra bits included."""
    apart = np.abs(np.diff(levels[:, 0].astype(np.int32), prepend=0))
    counts = np.bincount(np.frexp(apart.astype(np.float32))[1], minlength=18) + 0.3
    return np.asarray(np.log2(counts.sum()) - np.log2(counts) + np.arange(counts.size), np.float32)


def quantize(values: F32, table: U16, weights: F32) -> I16:
    """The levels of one component's blocks, (blocks, 64) in zigzag.

    ``values`` are unquantized coefficients, ``table`` their steps, ``weights`` each block's lambda.
    """
    levels = np.empty(values.shape, np.int16)
    inverse = (1.0 / table).astype(np.float32)
    _round(values, inverse, levels)
    counts = np.zeros(256, np.int64)
    _count(levels, counts)
    _choose(values, inverse, _bits(counts), weights, levels)
    _choose_means(values, inverse, _bits_of_means(levels), weights, levels)
    return levels

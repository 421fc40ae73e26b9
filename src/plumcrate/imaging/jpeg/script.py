"""The cheapest scan script of a picture's coefficients: T.81 G.1.1, spectral selection and successive
approximation, found by cost.

AC scans hold one component each (T.81 B.2.3), so each component's best script is found by itself, by dynamic
programming: the spectrum is cut at a few places, each band between two cuts holds back so many low bits, and
its cost is that of its first scan and of its refinements. Costs come from histograms of symbols, taken for
all bands at once, over some thousand blocks from many places of the picture.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .arrays import I16, I32, I64, U8
from .huffman import optimal_lengths

F64: TypeAlias = NDArray[np.float64]

#: Where bands may begin; the last is one beyond the spectrum.
_EDGES = np.array([1, 2, 3, 6, 10, 21, 64], np.int64)
#: Low bits that a band may hold back, at most.
_DEPTH = 3
#: Blocks whose symbols are counted, at most, in so many separate stretches.
_BLOCKS, _STRETCHES = 3072, 24
#: What a scan costs beside its codes and its tables' symbols, in bytes: its header, and a table's.
_SCAN_BYTES, _TABLE_BYTES = 10, 21


@dataclass(frozen=True, slots=True)
class Scan:
    """One scan of a script, by the components' places in the frame."""

    components: tuple[int, ...]
    start: int
    end: int
    high: int
    low: int


@dataclass(frozen=True, slots=True)
class Sparse:
    """The nonzero AC coefficients of a component, block after block, so that scans cost only these.

    ``starts`` says where each block's begin in ``places`` (zigzag) and ``values``; at its end stands their
    count.
    """

    starts: I32
    places: U8
    values: I16


def sampled(order: I32) -> tuple[I32, float]:
    """Some of a component's blocks, from many places, and how many blocks stand for each."""
    if order.size <= 1.5 * _BLOCKS:
        return order, 1.0
    length = _BLOCKS // _STRETCHES
    begins = np.linspace(0, order.size - length, _STRETCHES).astype(np.int64)
    chosen = order[(begins[:, None] + np.arange(length)).reshape(-1)]
    return np.ascontiguousarray(chosen), order.size / chosen.size


@njit(inline="always")
def _size(value: int) -> int:
    size = 0
    while value:
        size += 1
        value >>= 1
    return size


@njit(cache=True, nogil=True)
def _count(
    starts: I32,
    places: U8,
    values: I16,
    low: int,
    refines: bool,
    edges: I64,
    symbols: I64,
    ends: I64,
    extra: I64,
) -> None:
    """Counts the symbols of every band's scan at once, G.1.2.2 and G.1.2.3.

    For a band from edge ``i`` up to edge ``j + 1``: ``symbols[i, p]`` (256) of the coefficients between the
    edges p and p + 1, which are the same for every j, and their ``extra[i, p]`` bits; ``ends[i, j]`` (16) of
    the runs of ended bands.
    """
    parts = edges.size - 1
    last_new = np.empty(parts, np.int64)
    passed = np.zeros(parts, np.int64)  # corrected coefficients since a start's last symbol
    runs = np.zeros((parts, parts), np.int64)
    for block in range(starts.size - 1):
        last_new[:] = -1
        passed[:] = 0
        before = np.int64(0)
        part = 0
        for at in range(starts[block], starts[block + 1]):
            k = np.int64(places[at])
            level = abs(np.int64(values[at])) >> low
            if level == 0:
                continue
            while k >= edges[part + 1]:
                part += 1
            if refines and level > 1:
                for i in range(part + 1):
                    passed[i] += 1
                    extra[i, part] += 1
                continue
            size = _size(level)
            for i in range(part + 1):
                zeros = k - max(before, edges[i] - 1) - 1 - passed[i]
                symbols[i, part, 0xF0] += zeros >> 4
                symbols[i, part, (zeros & 15) << 4 | size] += 1
                extra[i, part] += size
                passed[i] = 0
            before = k
            last_new[part] = k
        for i in range(parts):
            last = np.int64(-1)
            for j in range(i, parts):
                if last_new[j] >= 0:
                    last = last_new[j]
                if last >= 0 and runs[i, j] > 0:
                    ends[i, j, _size(np.int64(runs[i, j])) - 1] += 1
                    runs[i, j] = 0
                if last != edges[j + 1] - 1:
                    runs[i, j] += 1
                    if runs[i, j] == 0x7FFF:
                        ends[i, j, 14] += 1
                        runs[i, j] = 0
    for i in range(parts):
        for j in range(i, parts):
            if runs[i, j] > 0:
                ends[i, j, _size(np.int64(runs[i, j])) - 1] += 1


@njit(cache=True, nogil=True)
def _bits(symbols: I64, ends: I64, extra: I64, scale: float, out: F64) -> None:
    """What each band's scan costs with its own optimal table, in bits; ``out`` is (parts, parts)."""
    parts = out.shape[0]
    lengths = np.empty(256, np.int32)
    for i in range(parts):
        histogram = np.zeros(256, np.int64)
        more = 0.0
        for j in range(i, parts):
            histogram += symbols[i, j]
            more += extra[i, j]
            whole = histogram.copy()
            bits = more
            for size in range(15):
                whole[size << 4] += ends[i, j, size]
                bits += ends[i, j, size] * size
            optimal_lengths(whole, lengths)
            used = 0
            for symbol in range(256):
                bits += whole[symbol] * lengths[symbol]
                used += whole[symbol] > 0
            out[i, j] = bits * scale + 8.0 * (_SCAN_BYTES + _TABLE_BYTES + used)


def _costs(sparse: Sparse, scale: float, low: int, *, refines: bool) -> F64:
    parts = _EDGES.size - 1
    symbols, ends = np.zeros((parts, parts, 256), np.int64), np.zeros((parts, parts, 16), np.int64)
    extra, out = np.zeros((parts, parts), np.int64), np.zeros((parts, parts))
    _count(sparse.starts, sparse.places, sparse.values, low, refines, _EDGES, symbols, ends, extra)
    _bits(symbols, ends, extra, scale, out)
    return out


def best_bands(component: int, sparse: Sparse, scale: float) -> list[Scan]:
    """The AC scans of a component that cost least, the first scans of all bands before their refinements.

    ``sparse`` holds the blocks that are counted; ``scale``: how many blocks stand for each.
    """
    cheapest = _costs(sparse, scale, 0, refines=False)
    lows, refining = np.zeros(cheapest.shape, np.int64), np.zeros(cheapest.shape)
    for low in range(1, _DEPTH + 1):
        refining += _costs(sparse, scale, low - 1, refines=True)
        costs = refining + _costs(sparse, scale, low, refines=False)
        cheaper = costs < cheapest
        if not cheaper.any():
            break  # holding back still more does not pay either
        lows[cheaper], cheapest[cheaper] = low, costs[cheaper]
    parts = _EDGES.size - 1
    least, came = np.zeros(parts + 1), np.zeros(parts + 1, np.int64)
    for end in range(1, parts + 1):
        totals = least[:end] + cheapest[:end, end - 1]
        came[end] = totals.argmin()
        least[end] = totals[came[end]]
    bands: list[Scan] = []
    end = parts
    while end:
        begin = int(came[end])
        low = int(lows[begin, end - 1])
        bands.append(Scan((component,), int(_EDGES[begin]), int(_EDGES[end]) - 1, 0, low))
        end = begin
    first = bands[::-1]
    depth = max(band.low for band in first)
    return first + [
        Scan((component,), band.start, band.end, low + 1, low)
        for low in range(depth - 1, -1, -1)
        for band in first
        if band.low > low
    ]

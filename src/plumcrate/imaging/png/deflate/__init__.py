"""DEFLATE for the last percent: every match considered, the cheapest path taken, and again.

RFC 1951 leaves the choice of matches to the compressor. All useful matches of a chunk are found once;
then dynamic programming takes the path of fewest bits under the costs that the last path's own
statistics imply, again and again, in blocks that are split where statistics change. (Optimal parsing:
J. A. Storer and T. G. Szymanski, "Data compression via textual substitution", J. ACM 29 (4), 1982.) A block's
price is what it takes to the bit, its header with it; counts that are nearly even are told as even where that
is cheaper.
"""

from __future__ import annotations

import zlib
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from .blocks import ORDER, block_cost, write_block
from .matches import cheapest, find
from .symbols import (
    F32,
    FAR_BASE,
    FAR_EXTRA,
    I32,
    LENGTH_BASE,
    LENGTH_EXTRA,
    LENGTH_SYMBOL,
    LONGEST,
    U8,
    WINDOW,
    histogram,
)

__all__ = ["compress"]

#: Bytes parsed at once; matches reach back over chunks.
_CHUNK = 1 << 20
_DEPTH = 600  # how far down a tree is looked


def _costs(near: NDArray[np.float64], far: NDArray[np.float64]) -> tuple[F32, F32, F32]:
    """Bits of each literal, match length and distance symbol under such counts."""
    near_bits = np.minimum(np.log2(near.sum()) - np.log2(np.maximum(near, 0.25)), 15.0)
    far_bits = np.minimum(np.log2(far.sum() + 1) - np.log2(np.maximum(far, 0.25)), 15.0)
    by_length = np.zeros(LONGEST + 1, np.float32)
    by_length[3:] = near_bits[257:][LENGTH_SYMBOL[3:]] + LENGTH_EXTRA[LENGTH_SYMBOL[3:]]
    return near_bits[:256].astype(np.float32), by_length, (far_bits + FAR_EXTRA).astype(np.float32)


class _Chunk:
    """One chunk of the data with its matches, and the best path found."""

    def __init__(self, data: U8, start: int, end: int, tables: tuple[I32, I32, I32]) -> None:
        self.data, self.start, self.end = data, start, end
        self.first = np.zeros(end - start + 1, np.int32)
        room = (end - start) * 4 + 1024
        while True:
            self.lengths, self.distances = np.empty(room, np.uint16), np.empty(room, np.uint16)
            # A second try must not find its own first try in the tables.
            fresh = [table.copy() for table in tables]
            count = find(data, start, end, *fresh, _DEPTH, self.first, self.lengths, self.distances)
            if count >= 0:
                break
            room *= 2
        for table, filled in zip(tables, fresh, strict=True):
            table[:] = filled
        size = end - start
        self._cost = np.empty(size + 1, np.float32)
        self._taken, self._far = np.zeros(size + 1, np.uint16), np.zeros(size + 1, np.uint16)
        self._symbols = np.empty(size + 1, np.int32)

    def path(self, start: int, end: int, costs: tuple[F32, F32, F32]) -> I32:
        count = cheapest(
            self.data,
            start,
            end,
            self.start,
            self.first,
            self.lengths,
            self.distances,
            *costs,
            self._cost,
            self._taken,
            self._far,
            self._symbols,
        )
        return self._symbols[:count].copy()

    def blocks(self, passes: int) -> list[I32]:
        """The symbols of each block."""
        flat = np.ones(286), np.ones(30)
        symbols = self.path(self.start, self.end, _costs(*flat))
        for _ in range(2):
            symbols = self.path(self.start, self.end, _costs(*_statistics(symbols)))
        best = [self._best(*block, passes) for block in self._split(symbols)]
        # What was found by blocks is cut anew: the first cuts were made for a path that knew of none.
        again = [self._best(*block, passes) for block in self._split(np.concatenate(best))] if best else []
        return min(best, again, key=lambda blocks: sum(map(_block_bits, blocks)))

    def _best(self, start: int, end: int, part: I32, passes: int) -> I32:
        """The cheapest symbols found for a block; a small one is looked at more often."""
        best, least = part, _block_bits(part)
        counts = _statistics(part)
        chance, calm, shaken = np.random.default_rng(0), 0, False
        for turn in range(passes if part.size > _SMALL else 4 * passes):
            tried = self.path(start, end, _costs(*counts))
            bits = _block_bits(tried)
            calm += 1
            if bits < least:
                best, least, calm, shaken = tried, bits, 0, False
            fresh = _statistics(tried)
            # After a few turns the old counts keep some say, which gets it off a see-saw; where nothing gets
            # better any more, what is known to be best is shaken, once.
            share = 1.0 if turn < 3 else 0.6
            counts = tuple(share * a + (1 - share) * b for a, b in zip(fresh, counts, strict=True))
            if calm > 3:
                if shaken:
                    break
                counts = tuple(one * chance.lognormal(0, _SHAKE, one.size) for one in _statistics(best))
                calm, shaken = 0, True
        return best

    def _split(self, symbols: I32) -> list[tuple[int, int, I32]]:
        """Blocks as byte ranges with their symbols."""
        cuts = [0, *sorted(_cuts(symbols, 0, symbols.size)), symbols.size]
        sizes = np.where(symbols < 65536, 1, symbols >> 16)
        places = self.start + np.concatenate([[0], np.cumsum(sizes)])
        return [(int(places[a]), int(places[b]), symbols[a:b]) for a, b in pairwise(cuts) if b > a]


def _statistics(symbols: I32) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    near, far = np.zeros(286, np.int32), np.zeros(30, np.int32)
    histogram(symbols, 0, symbols.size, LENGTH_SYMBOL, near, far)
    return near.astype(np.float64), far.astype(np.float64)


def _block_bits(symbols: I32, start: int = 0, end: int | None = None) -> int:
    last = symbols.size if end is None else end
    return block_cost(symbols, start, last, LENGTH_SYMBOL, LENGTH_EXTRA, FAR_EXTRA, ORDER)


#: Symbols of a block that is small, and how hard counts are shaken that lead nowhere.
_SMALL, _SHAKE = 20_000, 0.3
#: Symbols of a block, at least, and places that are tried at once when one is split.
_LEAST_BLOCK, _TRIES = 100, 9


def _cuts(symbols: I32, start: int, end: int) -> list[int]:
    """Where to split, by trying places evenly spread and narrowing in on the best, both sides again."""
    if end - start < 2 * _LEAST_BLOCK:
        return []
    low, high = start + _LEAST_BLOCK, end - _LEAST_BLOCK
    whole = _block_bits(symbols, start, end)
    best, least = -1, whole
    while high - low > _LEAST_BLOCK // 4:
        places = np.unique(np.linspace(low, high, _TRIES).astype(int))
        bits = [_block_bits(symbols, start, int(p)) + _block_bits(symbols, int(p), end) for p in places]
        at = int(np.argmin(bits))
        if bits[at] < least:
            best, least = int(places[at]), bits[at]
        span = (high - low) // (_TRIES - 1)
        low, high = max(low, int(places[at]) - span), min(high, int(places[at]) + span)
        if span < 16:
            break
    if best < 0 or least >= whole:
        return []
    return [*_cuts(symbols, start, best), best, *_cuts(symbols, best, end)]


def compress(data: bytes, passes: int) -> bytes:
    """``data`` as a zlib stream (RFC 1950); more passes find slightly smaller ones, at most about 15."""
    values = np.frombuffer(data, np.uint8)
    tables = (
        np.full(1 << 15, -1, np.int32),
        np.full(1 << 16, -1, np.int32),
        np.full(2 * WINDOW, -1, np.int32),
    )
    out = np.zeros(values.size + values.size // 8 + 1024, np.uint8)
    at = 0
    for start in range(0, max(1, values.size), _CHUNK):
        end = min(start + _CHUNK, values.size)
        blocks = _Chunk(values, start, end, tables).blocks(passes) or [np.empty(0, np.int32)]
        for number, block in enumerate(blocks):
            last = end == values.size and number == len(blocks) - 1
            at = write_block(
                block,
                0,
                block.size,
                last,
                LENGTH_SYMBOL,
                LENGTH_EXTRA,
                LENGTH_BASE,
                FAR_EXTRA,
                FAR_BASE,
                ORDER,
                out,
                at,
            )
    return b"\x78\xda" + out[: (at + 7) // 8].tobytes() + zlib.adler32(data).to_bytes(4, "big")

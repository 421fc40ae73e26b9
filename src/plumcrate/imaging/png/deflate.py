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
from numba import njit
from numpy.typing import NDArray

U8 = NDArray[np.uint8]
I32 = NDArray[np.int32]
F32 = NDArray[np.float32]

_WINDOW = 32768
_LONGEST = 258
#: Bytes parsed at once; matches reach back over chunks.
_CHUNK = 1 << 20
_DEPTH = 600  # how far down a tree is looked
_END = 256


def _length_tables() -> tuple[I32, I32, I32, I32, I32]:
    """Symbol, extra bits and base of each length and distance symbol. RFC 1951, 3.2.5."""
    symbol_of = np.zeros(_LONGEST + 1, np.int32)
    extra, base = np.zeros(29, np.int32), np.zeros(29, np.int32)
    length = 3
    for symbol in range(28):
        extra[symbol] = max(0, symbol // 4 - 1)
        base[symbol] = length
        for _ in range(1 << extra[symbol]):
            if length <= _LONGEST:
                symbol_of[length] = symbol
            length += 1
    base[28], symbol_of[_LONGEST] = _LONGEST, 28
    far_extra, far_base = np.zeros(30, np.int32), np.zeros(30, np.int32)
    distance = 1
    for symbol in range(30):
        far_extra[symbol] = max(0, symbol // 2 - 1)
        far_base[symbol] = distance
        distance += 1 << far_extra[symbol]
    return symbol_of, extra, base, far_extra, far_base


_LENGTH_SYMBOL, _LENGTH_EXTRA, _LENGTH_BASE, _FAR_EXTRA, _FAR_BASE = _length_tables()


@njit(inline="always")
def _far_symbol(distance: int) -> int:
    """The symbol of a distance of 1 to 32,768."""
    if distance <= 2:
        return distance - 1
    value = distance - 1
    bits = 0
    while value >> (bits + 1):
        bits += 1
    return 2 * bits + ((value >> (bits - 1)) & 1)


@njit(cache=True, nogil=True)
def _find(
    data: U8, start: int, end: int, recent: I32, roots: I32, trees: I32, depth: int,
    first: I32, lengths: NDArray[np.uint16], distances: NDArray[np.uint16],
) -> int:  # fmt: skip
    """All matches worth having from ``start`` to ``end``: ever longer ones at ever larger distances.

    Earlier positions are kept in binary trees, one for each hash of four bytes, sorted by what follows
    and newest at the root; inserting a position meets its longest matches on the way. ``recent`` has
    the last position of each hash of three. The matches of position p are
    ``lengths[first[p - start]:first[p - start + 1]]``. Returns their number, or -1 when the arrays are
    too short.
    """
    count = 0
    size = data.size
    mask = _WINDOW - 1
    for at in range(start, end):
        first[at - start] = count
        if at + 4 > size:
            continue
        if count + 260 > lengths.size:
            return -1
        three = np.uint32(data[at]) << 16 | np.uint32(data[at + 1]) << 8 | np.uint32(data[at + 2])
        four = three << 8 | np.uint32(data[at + 3])
        near = np.int64((three * np.uint32(2654435761)) & np.uint32(0xFFFFFFFF)) >> 17
        key = np.int64((four * np.uint32(2654435761)) & np.uint32(0xFFFFFFFF)) >> 16
        most = min(_LONGEST, end - at)
        longest = 2
        candidate = recent[near]
        recent[near] = at
        if (
            candidate >= 0
            and at - candidate <= _WINDOW
            and most >= 3
            and data[candidate] == data[at]
            and data[candidate + 1] == data[at + 1]
            and data[candidate + 2] == data[at + 2]
        ):
            lengths[count] = 3
            distances[count] = at - candidate - 1
            count += 1
            longest = 3
        limit = min(_LONGEST, size - at)
        node = roots[key]
        roots[key] = at
        to_lower = (at & mask) * 2
        to_higher = to_lower + 1
        shared_lower = 0
        shared_higher = 0
        left = depth
        while True:
            if node < 0 or at - node >= _WINDOW or left == 0:
                trees[to_lower] = -1
                trees[to_higher] = -1
                break
            left -= 1
            length = min(shared_lower, shared_higher)
            while length < limit and data[node + length] == data[at + length]:
                length += 1
            if length > longest and most > longest:
                longest = min(length, most)
                lengths[count] = longest
                distances[count] = at - node - 1
                count += 1
            own = (node & mask) * 2
            if length == limit:
                trees[to_lower] = trees[own]
                trees[to_higher] = trees[own + 1]
                break
            if data[node + length] < data[at + length]:
                trees[to_lower] = node
                to_lower = own + 1
                shared_lower = length
                node = trees[to_lower]
            else:
                trees[to_higher] = node
                to_higher = own
                shared_higher = length
                node = trees[to_higher]
    first[end - start] = count
    return count


@njit(cache=True, nogil=True)
def _cheapest(
    data: U8, start: int, end: int, origin: int, first: I32, lengths: NDArray[np.uint16],
    distances: NDArray[np.uint16], literal: F32, by_length: F32, by_far: F32,
    cost: F32, taken: NDArray[np.uint16], far: NDArray[np.uint16], symbols: I32,
) -> int:  # fmt: skip
    """The cheapest path over data[start:end]; ``symbols`` gets length << 16 | distance - 1, or a literal.

    ``origin`` is where ``first`` begins. Returns how many symbols.
    """
    size = end - start
    cost[0] = 0
    for i in range(1, size + 1):
        cost[i] = np.float32(1e30)
    for i in range(size):
        base = cost[i]
        own = base + literal[data[start + i]]
        if own < cost[i + 1]:
            cost[i + 1] = own
            taken[i + 1] = 1
        shortest = 3
        for m in range(first[start + i - origin], first[start + i - origin + 1]):
            length = min(np.int64(lengths[m]), size - i)
            with_far = base + by_far[_far_symbol(np.int64(distances[m]) + 1)]
            for n in range(shortest, length + 1):
                total = with_far + by_length[n]
                if total < cost[i + n]:
                    cost[i + n] = total
                    taken[i + n] = n
                    far[i + n] = distances[m]
            shortest = length + 1
    count = 0
    at = size
    while at > 0:
        step = np.int64(taken[at])
        if step == 1:
            symbols[count] = data[start + at - 1]
        else:
            symbols[count] = step << 16 | np.int64(far[at])
        count += 1
        at -= step
    for i in range(count // 2):
        symbols[i], symbols[count - 1 - i] = symbols[count - 1 - i], symbols[i]
    return count


@njit(cache=True, nogil=True)
def _histogram(symbols: I32, start: int, end: int, length_symbol: I32, near: I32, far: I32) -> None:
    near[:] = 0
    far[:] = 0
    near[_END] = 1
    for i in range(start, end):
        symbol = symbols[i]
        if symbol < 65536:
            near[symbol] += 1
        else:
            near[257 + length_symbol[symbol >> 16]] += 1
            far[_far_symbol((symbol & 0xFFFF) + 1)] += 1


@njit(cache=True, nogil=True)
def _code_lengths(counts: I32, most: int, out: I32) -> None:
    """Huffman code lengths of at most ``most`` bits; counts are flattened until they fit."""
    used = 0
    for s in range(counts.size):
        out[s] = 0
        if counts[s]:
            used += 1
    if used < 2:
        for s in range(counts.size):
            if counts[s]:
                out[s] = 1
        return
    weights = counts.astype(np.int64)
    nodes = np.empty(2 * used, np.int64)
    parent = np.empty(2 * used, np.int64)
    while True:
        leaves = np.empty(used, np.int64)
        n = 0
        for s in range(counts.size):
            if counts[s]:
                leaves[n] = weights[s] * 512 + s
                n += 1
        leaves = np.sort(leaves)
        for i in range(used):
            nodes[i] = leaves[i] >> 9
        leaf = 0
        inner = used
        made = used
        while made < 2 * used - 1:
            total = np.int64(0)
            for _ in range(2):
                if leaf < used and (inner >= made or nodes[leaf] <= nodes[inner]):
                    pick = leaf
                    leaf += 1
                else:
                    pick = inner
                    inner += 1
                total += nodes[pick]
                parent[pick] = made
            nodes[made] = total
            made += 1
        depth = np.zeros(2 * used, np.int64)
        deepest = 0
        for i in range(2 * used - 3, -1, -1):
            depth[i] = depth[parent[i]] + 1
            if i < used:
                out[leaves[i] & 511] = depth[i]
                deepest = max(deepest, depth[i])
        if deepest <= most:
            return
        for s in range(counts.size):
            if counts[s]:
                weights[s] = (weights[s] >> 1) + 1


@njit(cache=True, nogil=True)
def _put(out: U8, at: int, value: int, bits: int) -> int:
    """Appends bits, lowest first; ``at`` counts bits, and what lies beyond it is 0."""
    place = at
    while bits > 0:
        shift = place & 7
        room = 8 - shift
        take = min(room, bits)
        out[place >> 3] |= np.uint8((value & ((1 << take) - 1)) << shift)
        value >>= take
        bits -= take
        place += take
    return place


@njit(cache=True, nogil=True)
def _codes(lengths: I32) -> I32:
    """Canonical codes, bits reversed for lowest-first writing. RFC 1951, 3.2.2."""
    counts = np.zeros(17, np.int32)
    for s in range(lengths.size):
        counts[lengths[s]] += 1
    counts[0] = 0
    code = 0
    following = np.zeros(17, np.int32)
    for bits in range(1, 16):
        code = (code + counts[bits - 1]) << 1
        following[bits] = code
    out = np.zeros(lengths.size, np.int32)
    for s in range(lengths.size):
        bits = lengths[s]
        value = following[bits]
        following[bits] += 1
        turned = 0
        for _ in range(bits):
            turned = turned << 1 | (value & 1)
            value >>= 1
        out[s] = turned
    return out


#: By what parts of their mean counts may differ that are told as even; the first is none.
_TOLERANCES = np.array([0.0, 0.1, 0.25, 0.5])
_ORDER = np.array([16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15], np.int32)


@njit(cache=True, nogil=True)
def _described(near: I32, far: I32, tokens: I32) -> tuple[int, int, int]:
    """The code lengths run-length coded (RFC 1951, 3.2.7): number of tokens, of both codes' lengths.

    A token is symbol | repeat bits << 8.
    """
    nears = 286
    while nears > 257 and near[nears - 1] == 0:
        nears -= 1
    fars = 30
    while fars > 1 and far[fars - 1] == 0:
        fars -= 1
    total = nears + fars
    count = 0
    i = 0
    while i < total:
        length = near[i] if i < nears else far[i - nears]
        run = 1
        while i + run < total:
            other = near[i + run] if i + run < nears else far[i + run - nears]
            if other != length:
                break
            run += 1
        i += run
        if length == 0:
            while run >= 11:
                part = min(run, 138)
                tokens[count] = 18 | (part - 11) << 8
                count += 1
                run -= part
            if run >= 3:
                tokens[count] = 17 | (run - 3) << 8
                count += 1
                run = 0
        else:
            tokens[count] = length
            count += 1
            run -= 1
            while run >= 3:
                part = min(run, 6)
                if run - part in (1, 2) and run > 6:
                    part = run - 3
                    part = min(part, 6)
                tokens[count] = 16 | (part - 3) << 8
                count += 1
                run -= part
        for _ in range(run):
            tokens[count] = length
            count += 1
    return count, nears, fars


@njit(cache=True, nogil=True)
def _evened(counts: I32, tolerance: float, out: I32) -> None:
    """Counts with stretches that are nearly even made even: their codes get one length, which is told in
    fewer bits. Symbols that do not occur stay so."""
    size = counts.size
    begin = 0
    while begin < size:
        total = np.int64(counts[begin])
        end = begin + 1
        while end < size and (counts[end] == 0) == (counts[begin] == 0):
            mean = total / (end - begin)
            if abs(counts[end] - mean) > tolerance * mean + 1:
                break
            total += counts[end]
            end += 1
        even = np.int32(round(total / (end - begin)))
        for s in range(begin, end):
            out[s] = max(even, 1) if counts[s] and end - begin >= 4 else counts[s]
        begin = end


@njit(cache=True, nogil=True)
def _header(near: I32, far: I32, tokens: I32, meta: I32, order: I32) -> tuple[int, int, int, int, int]:
    """How code lengths are told: bits, tokens, lengths of both codes, lengths of the tokens' own code, which
    goes into ``meta``."""
    count, nears, fars = _described(near, far, tokens)
    counts = np.zeros(19, np.int32)
    for i in range(count):
        counts[tokens[i] & 255] += 1
    _code_lengths(counts, 7, meta)
    metas = 19
    while metas > 4 and meta[order[metas - 1]] == 0:
        metas -= 1
    bits = 14 + 3 * metas
    for i in range(count):
        symbol = tokens[i] & 255
        bits += meta[symbol] + (2 if symbol == 16 else 3 if symbol == 17 else 7 if symbol == 18 else 0)
    return bits, count, nears, fars, metas


@njit(cache=True, nogil=True)
def _priced(near_counts: I32, far_counts: I32, order: I32, near: I32, far: I32) -> int:
    """The code lengths that make a block cheapest, and its bits with its header, but for extra bits."""
    tokens = np.zeros(320, np.int32)
    meta = np.zeros(19, np.int32)
    near_tried = np.zeros(286, np.int32)
    far_tried = np.zeros(30, np.int32)
    smooth_near = near_counts.copy()
    smooth_far = far_counts.copy()
    least = np.int64(1) << 60
    tolerances = _TOLERANCES.size
    for turn in range(tolerances * tolerances):
        if turn:
            _evened(near_counts, _TOLERANCES[turn // tolerances], smooth_near)
            _evened(far_counts, _TOLERANCES[turn % tolerances], smooth_far)
        _code_lengths(smooth_near, 15, near_tried)
        _code_lengths(smooth_far, 15, far_tried)
        if far_tried.max() == 0:
            far_tried[0] = 1  # decoders want one distance code
        bits = np.int64(_header(near_tried, far_tried, tokens, meta, order)[0])
        for s in range(286):
            bits += near_tried[s] * near_counts[s]
        for s in range(30):
            bits += far_tried[s] * far_counts[s]
        if bits < least:
            least = bits
            near[:] = near_tried
            far[:] = far_tried
    return int(least)


@njit(cache=True, nogil=True)
def _block_cost(
    symbols: I32, start: int, end: int, length_symbol: I32, extra: I32, far_extra: I32, order: I32
) -> int:
    """How many bits symbols[start:end] take as a block with codes of its own."""
    near_counts = np.zeros(286, np.int32)
    far_counts = np.zeros(30, np.int32)
    _histogram(symbols, start, end, length_symbol, near_counts, far_counts)
    near = np.zeros(286, np.int32)
    far = np.zeros(30, np.int32)
    bits = 3 + _priced(near_counts, far_counts, order, near, far)
    for s in range(29):
        bits += near_counts[257 + s] * extra[s]
    for s in range(30):
        bits += far_counts[s] * far_extra[s]
    return bits


@njit(cache=True, nogil=True)
def _write_block(
    symbols: I32, start: int, end: int, last: bool, length_symbol: I32, length_extra: I32,
    length_base: I32, far_extra: I32, far_base: I32, order: I32, out: U8, at: int,
) -> int:  # fmt: skip
    """One block with codes of its own, or the fixed ones when those are cheaper."""
    near_counts = np.zeros(286, np.int32)
    far_counts = np.zeros(30, np.int32)
    _histogram(symbols, start, end, length_symbol, near_counts, far_counts)
    near = np.zeros(286, np.int32)
    far = np.zeros(30, np.int32)
    own = _priced(near_counts, far_counts, order, near, far)
    tokens = np.zeros(320, np.int32)
    meta = np.zeros(19, np.int32)
    _, count, nears, fars, metas = _header(near, far, tokens, meta, order)
    fixed = 0
    for s in range(286):
        fixed += (8 if s < 144 or s > 279 else 9 if s < 256 else 7) * near_counts[s]
    for s in range(30):
        fixed += 5 * far_counts[s]
    at = _put(out, at, int(last), 1)
    if fixed < own:
        at = _put(out, at, 1, 2)
        near = np.empty(288, np.int32)
        for s in range(288):
            near[s] = 8 if s < 144 or s > 279 else 9 if s < 256 else 7
        far = np.full(30, 5, np.int32)
    else:
        at = _put(out, at, 2, 2)
        at = _put(out, at, nears - 257, 5)
        at = _put(out, at, fars - 1, 5)
        at = _put(out, at, metas - 4, 4)
        for i in range(metas):
            at = _put(out, at, meta[order[i]], 3)
        meta_codes = _codes(meta)
        for i in range(count):
            symbol = tokens[i] & 255
            at = _put(out, at, meta_codes[symbol], meta[symbol])
            if symbol >= 16:
                at = _put(out, at, tokens[i] >> 8, 2 if symbol == 16 else 3 if symbol == 17 else 7)
    near_codes = _codes(near)
    far_codes = _codes(far)
    for i in range(start, end):
        symbol = symbols[i]
        if symbol < 65536:
            at = _put(out, at, near_codes[symbol], near[symbol])
            continue
        length = symbol >> 16
        ls = length_symbol[length]
        at = _put(out, at, near_codes[257 + ls], near[257 + ls])
        at = _put(out, at, length - length_base[ls], length_extra[ls])
        distance = (symbol & 0xFFFF) + 1
        fs = _far_symbol(distance)
        at = _put(out, at, far_codes[fs], far[fs])
        at = _put(out, at, distance - far_base[fs], far_extra[fs])
    return _put(out, at, near_codes[_END], near[_END])


def _costs(near: NDArray[np.float64], far: NDArray[np.float64]) -> tuple[F32, F32, F32]:
    """Bits of each literal, match length and distance symbol under such counts."""
    near_bits = np.minimum(np.log2(near.sum()) - np.log2(np.maximum(near, 0.25)), 15.0)
    far_bits = np.minimum(np.log2(far.sum() + 1) - np.log2(np.maximum(far, 0.25)), 15.0)
    by_length = np.zeros(_LONGEST + 1, np.float32)
    by_length[3:] = near_bits[257:][_LENGTH_SYMBOL[3:]] + _LENGTH_EXTRA[_LENGTH_SYMBOL[3:]]
    return near_bits[:256].astype(np.float32), by_length, (far_bits + _FAR_EXTRA).astype(np.float32)


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
            count = _find(data, start, end, *fresh, _DEPTH, self.first, self.lengths, self.distances)
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
        count = _cheapest(
            self.data, start, end, self.start, self.first, self.lengths, self.distances, *costs,
            self._cost, self._taken, self._far, self._symbols,
        )  # fmt: skip
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
        chance, calm = np.random.default_rng(0), 0
        for turn in range(passes if part.size > _SMALL else 4 * passes):
            tried = self.path(start, end, _costs(*counts))
            bits = _block_bits(tried)
            calm += 1
            if bits < least:
                best, least, calm = tried, bits, 0
            fresh = _statistics(tried)
            # After a few turns the old counts keep some say, which gets it off a see-saw; where nothing gets
            # better any more, what is known to be best is shaken.
            share = 1.0 if turn < 3 else 0.6
            counts = tuple(share * a + (1 - share) * b for a, b in zip(fresh, counts, strict=True))
            if calm > 3:
                counts = tuple(one * chance.lognormal(0, _SHAKE, one.size) for one in _statistics(best))
                calm = 0
        return best

    def _split(self, symbols: I32) -> list[tuple[int, int, I32]]:
        """Blocks as byte ranges with their symbols."""
        cuts = [0, *sorted(_cuts(symbols, 0, symbols.size)), symbols.size]
        sizes = np.where(symbols < 65536, 1, symbols >> 16)
        places = self.start + np.concatenate([[0], np.cumsum(sizes)])
        return [(int(places[a]), int(places[b]), symbols[a:b]) for a, b in pairwise(cuts) if b > a]


def _statistics(symbols: I32) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    near, far = np.zeros(286, np.int32), np.zeros(30, np.int32)
    _histogram(symbols, 0, symbols.size, _LENGTH_SYMBOL, near, far)
    return near.astype(np.float64), far.astype(np.float64)


def _block_bits(symbols: I32, start: int = 0, end: int | None = None) -> int:
    last = symbols.size if end is None else end
    return _block_cost(symbols, start, last, _LENGTH_SYMBOL, _LENGTH_EXTRA, _FAR_EXTRA, _ORDER)


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
        np.full(2 * _WINDOW, -1, np.int32),
    )
    out = np.zeros(values.size + values.size // 8 + 1024, np.uint8)
    at = 0
    for start in range(0, max(1, values.size), _CHUNK):
        end = min(start + _CHUNK, values.size)
        blocks = _Chunk(values, start, end, tables).blocks(passes) or [np.empty(0, np.int32)]
        for number, block in enumerate(blocks):
            last = end == values.size and number == len(blocks) - 1
            at = _write_block(
                block, 0, block.size, last, _LENGTH_SYMBOL, _LENGTH_EXTRA, _LENGTH_BASE, _FAR_EXTRA,
                _FAR_BASE, _ORDER, out, at,
            )  # fmt: skip
    return b"\x78\xda" + out[: (at + 7) // 8].tobytes() + zlib.adler32(data).to_bytes(4, "big")

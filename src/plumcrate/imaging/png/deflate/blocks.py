"""A block of symbols in codes of its own: its price to the bit, and the bits themselves. RFC 1951, 3.2."""

from __future__ import annotations

import numpy as np
from numba import njit

from .symbols import END, I32, U8, far_symbol, histogram


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
ORDER = np.array([16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15], np.int32)


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
def block_cost(
    symbols: I32, start: int, end: int, length_symbol: I32, extra: I32, far_extra: I32, order: I32
) -> int:
    """How many bits symbols[start:end] take as a block with codes of its own."""
    near_counts = np.zeros(286, np.int32)
    far_counts = np.zeros(30, np.int32)
    histogram(symbols, start, end, length_symbol, near_counts, far_counts)
    near = np.zeros(286, np.int32)
    far = np.zeros(30, np.int32)
    bits = 3 + _priced(near_counts, far_counts, order, near, far)
    for s in range(29):
        bits += near_counts[257 + s] * extra[s]
    for s in range(30):
        bits += far_counts[s] * far_extra[s]
    return bits


@njit(cache=True, nogil=True)
def write_block(
    symbols: I32,
    start: int,
    end: int,
    last: bool,
    length_symbol: I32,
    length_extra: I32,
    length_base: I32,
    far_extra: I32,
    far_base: I32,
    order: I32,
    out: U8,
    at: int,
) -> int:
    """One block with codes of its own, or the fixed ones when those are cheaper."""
    near_counts = np.zeros(286, np.int32)
    far_counts = np.zeros(30, np.int32)
    histogram(symbols, start, end, length_symbol, near_counts, far_counts)
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
        fs = far_symbol(distance)
        at = _put(out, at, far_codes[fs], far[fs])
        at = _put(out, at, distance - far_base[fs], far_extra[fs])
    return _put(out, at, near_codes[END], near[END])

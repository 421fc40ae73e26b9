"""All matches of a stretch of data, and the cheapest path through them."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .symbols import F32, I32, LONGEST, U8, WINDOW, far_symbol


@njit(cache=True, nogil=True)
def find(
    data: U8,
    start: int,
    end: int,
    recent: I32,
    roots: I32,
    trees: I32,
    depth: int,
    first: I32,
    lengths: NDArray[np.uint16],
    distances: NDArray[np.uint16],
) -> int:
    """All matches worth having from ``start`` to ``end``: ever longer ones at ever larger distances.

    Earlier positions are kept in binary trees, one for each hash of four bytes, sorted by what follows
    and newest at the root; inserting a position meets its longest matches on the way. ``recent`` has
    the last position of each hash of three. The matches of position p are
    ``lengths[first[p - start]:first[p - start + 1]]``. Returns their number, or -1 when the arrays are
    too short.
    """
    count = 0
    size = data.size
    mask = WINDOW - 1
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
        most = min(LONGEST, end - at)
        longest = 2
        candidate = recent[near]
        recent[near] = at
        if (
            candidate >= 0
            and at - candidate <= WINDOW
            and most >= 3
            and data[candidate] == data[at]
            and data[candidate + 1] == data[at + 1]
            and data[candidate + 2] == data[at + 2]
        ):
            lengths[count] = 3
            distances[count] = at - candidate - 1
            count += 1
            longest = 3
        limit = min(LONGEST, size - at)
        node = roots[key]
        roots[key] = at
        to_lower = (at & mask) * 2
        to_higher = to_lower + 1
        shared_lower = 0
        shared_higher = 0
        left = depth
        while True:
            if node < 0 or at - node >= WINDOW or left == 0:
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
def cheapest(
    data: U8,
    start: int,
    end: int,
    origin: int,
    first: I32,
    lengths: NDArray[np.uint16],
    distances: NDArray[np.uint16],
    literal: F32,
    by_length: F32,
    by_far: F32,
    cost: F32,
    taken: NDArray[np.uint16],
    far: NDArray[np.uint16],
    symbols: I32,
) -> int:
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
            with_far = base + by_far[far_symbol(np.int64(distances[m]) + 1)]
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

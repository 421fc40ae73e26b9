"""The symbols of DEFLATE: literals, lengths and distances. RFC 1951, section 3.2.5."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

U8 = NDArray[np.uint8]
I32 = NDArray[np.int32]
F32 = NDArray[np.float32]

#: The furthest distance and the longest match; the symbol that ends a block.
WINDOW, LONGEST, END = 32768, 258, 256


def _length_tables() -> tuple[I32, I32, I32, I32, I32]:
    """Symbol, extra bits and base of each length and distance symbol. RFC 1951, 3.2.5."""
    symbol_of = np.zeros(LONGEST + 1, np.int32)
    extra, base = np.zeros(29, np.int32), np.zeros(29, np.int32)
    length = 3
    for symbol in range(28):
        extra[symbol] = max(0, symbol // 4 - 1)
        base[symbol] = length
        for _ in range(1 << extra[symbol]):
            if length <= LONGEST:
                symbol_of[length] = symbol
            length += 1
    base[28], symbol_of[LONGEST] = LONGEST, 28
    far_extra, far_base = np.zeros(30, np.int32), np.zeros(30, np.int32)
    distance = 1
    for symbol in range(30):
        far_extra[symbol] = max(0, symbol // 2 - 1)
        far_base[symbol] = distance
        distance += 1 << far_extra[symbol]
    return symbol_of, extra, base, far_extra, far_base


LENGTH_SYMBOL, LENGTH_EXTRA, LENGTH_BASE, FAR_EXTRA, FAR_BASE = _length_tables()


@njit(inline="always")
def far_symbol(distance: int) -> int:
    """The symbol of a distance of 1 to 32,768."""
    if distance <= 2:
        return distance - 1
    value = distance - 1
    bits = 0
    while value >> (bits + 1):
        bits += 1
    return 2 * bits + ((value >> (bits - 1)) & 1)


@njit(cache=True, nogil=True)
def histogram(symbols: I32, start: int, end: int, length_symbol: I32, near: I32, far: I32) -> None:
    near[:] = 0
    far[:] = 0
    near[END] = 1
    for i in range(start, end):
        symbol = symbols[i]
        if symbol < 65536:
            near[symbol] += 1
        else:
            near[257 + length_symbol[symbol >> 16]] += 1
            far[far_symbol((symbol & 0xFFFF) + 1)] += 1

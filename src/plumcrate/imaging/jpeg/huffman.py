"""Huffman tables: decoding look-ups, optimal code lengths (T.81 Annex K.2), codes (Annex C)."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .arrays import I32, I64
from .segments import HuffmanTable

LOOKUP_BITS = 10

#: A decoding table's layout: the look-up, then for each length 1 to 16 the largest code (left-aligned to
#: 16 bits, exclusive) and the offset from code to symbol index, then the symbols.
TABLE_SIZE = (1 << LOOKUP_BITS) + 17 + 17 + 256
LIMITS_AT = 1 << LOOKUP_BITS
OFFSETS_AT = LIMITS_AT + 17
SYMBOLS_AT = OFFSETS_AT + 17


def decoding_table(table: HuffmanTable | None) -> I32:
    """The look-up of a DHT table as one int32 array; entries are length << 8 | symbol, 0 for none."""
    out = np.zeros(TABLE_SIZE, np.int32)
    if table is None:
        return out
    code = index = 0
    for length in range(1, 17):
        count = int(table.counts[length - 1])
        out[OFFSETS_AT + length] = index - code
        for _ in range(count):
            symbol = int(table.symbols[index])
            if length <= LOOKUP_BITS:
                low = code << (LOOKUP_BITS - length)
                high = min((code + 1) << (LOOKUP_BITS - length), 1 << LOOKUP_BITS)
                out[low:high] = length << 8 | symbol
            code += 1
            index += 1
        out[LIMITS_AT + length] = min(code << (16 - length), 1 << 16) if count else 0
        code <<= 1
    out[SYMBOLS_AT : SYMBOLS_AT + index] = table.symbols
    return out


@njit(cache=True, nogil=True)
def optimal_lengths(histogram: I64, lengths: I32) -> None:
    """Code lengths, at most 16, for symbols by how often they occur: Figures K.1 to K.3.

    ``histogram`` has 256 counts; ``lengths`` receives 256 lengths, 0 for symbols that never occur.
    The all-ones code stays free, by way of a 257th symbol.
    """
    frequency = np.empty(257, np.int64)
    used = 0
    for symbol in range(256):
        if histogram[symbol] > 0:
            frequency[used] = histogram[symbol]
            used += 1
    frequency[used] = 1
    used += 1
    size = np.zeros(257, np.int32)
    other = np.full(257, -1, np.int32)
    while True:
        first = -1
        second = -1
        for i in range(used):
            if frequency[i] == 0:
                continue
            if first < 0 or frequency[i] <= frequency[first]:
                second = first
                first = i
            elif second < 0 or frequency[i] <= frequency[second]:
                second = i
        if second < 0:
            break
        frequency[first] += frequency[second]
        frequency[second] = 0
        size[first] += 1
        while other[first] >= 0:
            first = other[first]
            size[first] += 1
        other[first] = second
        size[second] += 1
        while other[second] >= 0:
            second = other[second]
            size[second] += 1
    bits = np.zeros(300, np.int64)
    for i in range(used):
        if size[i]:
            bits[size[i]] += 1
    for i in range(299, 16, -1):
        while bits[i] > 0:
            j = i - 2
            while bits[j] == 0:
                j -= 1
            bits[i] -= 2
            bits[i - 1] += 1
            bits[j + 1] += 2
            bits[j] -= 1
    longest = 16
    while longest > 0 and bits[longest] == 0:
        longest -= 1
    if longest > 0:
        bits[longest] -= 1  # the 257th symbol's
    # Shorter codes to symbols that occur more often.
    lengths[:] = 0
    order = np.argsort(-histogram, kind="mergesort")
    position = 0
    for length in range(1, 17):
        for _ in range(bits[length]):
            lengths[order[position]] = length
            position += 1


def table_from_lengths(lengths: I32) -> HuffmanTable:
    """The DHT form of a table: counts by length, symbols by length and value."""
    counts = np.bincount(lengths[lengths > 0], minlength=17)[1:17].astype(np.uint8)
    used = np.nonzero(lengths)[0]
    symbols = used[np.lexsort((used, lengths[used]))].astype(np.uint8)
    return HuffmanTable(counts, symbols)


def codes(table: HuffmanTable) -> NDArray[np.uint32]:
    """For each symbol ``length << 16 | code``, Annex C; 0 for symbols without a code."""
    out = np.zeros(256, np.uint32)
    code = index = 0
    for length in range(1, 17):
        for _ in range(int(table.counts[length - 1])):
            out[table.symbols[index]] = length << 16 | code
            code += 1
            index += 1
        code <<= 1
    return out

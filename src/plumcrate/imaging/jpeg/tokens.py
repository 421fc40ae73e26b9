"""From coefficients to symbols: the statistics and the bits of every kind of scan.

A token is a uint32: bits 0 to 7 the Huffman symbol, 8 to 12 the count of extra bits, bit 13 set when
there is no symbol, bits 16 to 31 the extra bits. A scan's cost follows from the histogram of its
symbols, without writing a bit. Sources: T.81 F.1.2 (sequential), G.1.2 (progressive).
"""

from __future__ import annotations

import numpy as np
from numba import njit

from .arrays import I16, I32, I64, U8, U32

#: Tokens that one block may need at most: every coefficient, its correction bits, and ends of bands.
PER_BLOCK = 70
_RAW = 1 << 13
_LONGEST_RUN = 0x7FFF


@njit(inline="always")
def _size(value: int) -> int:
    """The magnitude category of a value: F.1.2.1.1, Table F.1."""
    value = abs(value)
    size = 0
    while value:
        size += 1
        value >>= 1
    return size


@njit(inline="always")
def _extra(value: int, size: int) -> int:
    return value if value > 0 else value + (1 << size) - 1


@njit(cache=True, nogil=True)
def dc_first(coefficients: I16, order: I32, member: I32, low: int, tokens: U32, which: U8) -> int:
    """DC differences of an interleaved scan, G.1.2.1; ``which`` receives each token's component."""
    last = np.zeros(4, np.int64)
    per_mcu = member.size
    for position in range(order.size):
        component = member[position % per_mcu]
        value = np.int64(coefficients[order[position], 0]) >> low
        difference = value - last[component]
        last[component] = value
        size = _size(difference)
        tokens[position] = np.uint32(size | size << 8 | (_extra(difference, size) << 16 if size else 0))
        which[position] = component
    return order.size


@njit(inline="always")
def _end_of_bands(run: int, tokens: U32, count: int) -> int:
    """The token of a run of ended bands, G.1.2.2."""
    size = _size(run) - 1
    tokens[count] = np.uint32(size << 4 | size << 8 | (run - (1 << size)) << 16)
    return count + 1


@njit(cache=True, nogil=True)
def gather(coefficients: I16, order: I32, starts: I32, places: U8, values: I16) -> int:
    """The nonzero AC coefficients of a component, block after block, so that scans cost only these.

    ``starts`` receives where each block's begin, and their count at its end.
    """
    count = 0
    for position in range(order.size):
        starts[position] = count
        block = coefficients[order[position]]
        for k in range(1, 64):
            if block[k] != 0:
                places[count] = k
                values[count] = block[k]
                count += 1
    starts[order.size] = count
    return count


@njit(cache=True, nogil=True)
def ac_first(starts: I32, places: U8, values: I16, start: int, end: int, low: int, tokens: U32) -> int:
    """A first AC scan of one component, G.1.2.2; returns the count of tokens."""
    count = 0
    run = 0
    for block in range(starts.size - 1):
        before = start - 1
        for i in range(starts[block], starts[block + 1]):
            k = np.int64(places[i])
            if k < start:
                continue
            if k > end:
                break
            value = np.int64(values[i])
            value = value >> low if value > 0 else -((-value) >> low)
            if value == 0:
                continue
            if run > 0:
                count = _end_of_bands(run, tokens, count)
                run = 0
            zeros = k - before - 1
            before = k
            while zeros > 15:
                tokens[count] = np.uint32(0xF0)
                count += 1
                zeros -= 16
            size = _size(value)
            tokens[count] = np.uint32(zeros << 4 | size | size << 8 | _extra(value, size) << 16)
            count += 1
        if before < end:
            run += 1
            if run == _LONGEST_RUN:
                count = _end_of_bands(run, tokens, count)
                run = 0
    if run > 0:
        count = _end_of_bands(run, tokens, count)
    return count


@njit(inline="always")
def _raw_bits(bits: U8, amount: int, tokens: U32, count: int) -> int:
    """Correction bits as tokens without a symbol, sixteen at a time."""
    at = 0
    while at < amount:
        size = min(16, amount - at)
        word = 0
        for i in range(size):
            word = word << 1 | bits[at + i]
        tokens[count] = np.uint32(_RAW | size << 8) | np.uint32(word) << np.uint32(16)
        count += 1
        at += size
    return count


@njit(cache=True, nogil=True)
def ac_refine(starts: I32, places: U8, values: I16, start: int, end: int, low: int, tokens: U32) -> int:
    """A refining AC scan of one component, G.1.2.3; returns the count of tokens."""
    count = 0
    run = 0
    pending = np.zeros(1100, np.uint8)  # correction bits of the run of ended bands
    waiting = 0
    own = np.zeros(64, np.uint8)  # correction bits of this block since its last symbol
    for block in range(starts.size - 1):
        last_new = 0
        for i in range(starts[block + 1] - 1, starts[block] - 1, -1):
            if places[i] <= end and abs(np.int64(values[i])) >> low == 1:
                last_new = np.int64(places[i])
                break
        zeros = 0
        held = 0
        before = start - 1
        for i in range(starts[block], starts[block + 1]):
            k = np.int64(places[i])
            if k < start:
                continue
            if k > end:
                break
            zeros += k - before - 1
            before = k
            value = abs(np.int64(values[i])) >> low
            if value == 0:
                zeros += 1
                continue
            while zeros > 15 and k <= last_new:
                if run > 0:
                    count = _end_of_bands(run, tokens, count)
                    count = _raw_bits(pending, waiting, tokens, count)
                    run = 0
                    waiting = 0
                tokens[count] = np.uint32(0xF0)
                count = _raw_bits(own, held, tokens, count + 1)
                held = 0
                zeros -= 16
            if value > 1:
                own[held] = value & 1
                held += 1
                continue
            if run > 0:
                count = _end_of_bands(run, tokens, count)
                count = _raw_bits(pending, waiting, tokens, count)
                run = 0
                waiting = 0
            sign = 1 if values[i] > 0 else 0
            tokens[count] = np.uint32(zeros << 4 | 1 | 1 << 8 | sign << 16)
            count = _raw_bits(own, held, tokens, count + 1)
            held = 0
            zeros = 0
        if zeros + end - before > 0 or held > 0:
            run += 1
            for i in range(held):
                pending[waiting + i] = own[i]
            waiting += held
            if run == _LONGEST_RUN or waiting > 1000:
                count = _end_of_bands(run, tokens, count)
                count = _raw_bits(pending, waiting, tokens, count)
                run = 0
                waiting = 0
    if run > 0:
        count = _end_of_bands(run, tokens, count)
        count = _raw_bits(pending, waiting, tokens, count)
    return count


@njit(cache=True, nogil=True)
def sequential(coefficients: I16, order: I32, member: I32, tokens: U32, which: U8) -> int:
    """A whole sequential scan, F.1.2; ``which`` receives 2 x component, plus 1 for AC tokens."""
    last = np.zeros(4, np.int64)
    per_mcu = member.size
    count = 0
    for position in range(order.size):
        component = member[position % per_mcu]
        block = coefficients[order[position]]
        difference = np.int64(block[0]) - last[component]
        last[component] = np.int64(block[0])
        size = _size(difference)
        tokens[count] = np.uint32(size | size << 8 | (_extra(difference, size) << 16 if size else 0))
        which[count] = 2 * component
        count += 1
        zeros = 0
        for k in range(1, 64):
            value = np.int64(block[k])
            if value == 0:
                zeros += 1
                continue
            while zeros > 15:
                tokens[count] = np.uint32(0xF0)
                which[count] = 2 * component + 1
                count += 1
                zeros -= 16
            size = _size(value)
            tokens[count] = np.uint32(zeros << 4 | size | size << 8 | _extra(value, size) << 16)
            which[count] = 2 * component + 1
            count += 1
            zeros = 0
        if zeros > 0:
            tokens[count] = np.uint32(0)
            which[count] = 2 * component + 1
            count += 1
    return count


@njit(cache=True, nogil=True)
def histogram(tokens: U32, count: int, which: U8, wanted: int, out: I64) -> int:
    """Adds up symbols of the tokens whose ``which`` is wanted (all for -1); returns their extra bits."""
    extra = 0
    for i in range(count):
        if wanted >= 0 and which[i] != wanted:
            continue
        token = tokens[i]
        extra += np.int64(token >> np.uint32(8)) & 31
        if not token & np.uint32(_RAW):
            out[token & np.uint32(0xFF)] += 1
    return extra


@njit(cache=True, nogil=True)
def emit(tokens: U32, count: int, which: U8, codes: U32, out: U8) -> int:
    """Writes tokens as stuffed bytes, padded with ones; returns their count, -1 when ``out`` is too small.

    ``codes`` is (tables, 256), each ``length << 16 | code``; ``which`` names each token's table.
    """
    word = np.uint64(0)
    filled = 0
    length = 0
    for i in range(count):
        token = tokens[i]
        extra = np.int64(token >> np.uint32(8)) & 31
        if not token & np.uint32(_RAW):
            code = codes[which[i], token & np.uint32(0xFF)]
            size = np.int64(code >> np.uint32(16))
            word = word << np.uint64(size) | np.uint64(code & np.uint32(0xFFFF))
            filled += size
        word = word << np.uint64(extra) | np.uint64(token >> np.uint32(16))
        filled += extra
        if length + 16 > out.size:
            return -1
        while filled >= 8:
            filled -= 8
            value = np.uint8(word >> np.uint64(filled))
            out[length] = value
            length += 1
            if value == 0xFF:
                out[length] = 0
                length += 1
    if filled > 0:
        value = np.uint8((word << np.uint64(8 - filled)) | np.uint64((1 << (8 - filled)) - 1))
        out[length] = value
        length += 1
        if value == 0xFF:
            out[length] = 0
            length += 1
    return length

"""Variable-length-code LZW. GIF89a, appendix F."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

U8 = NDArray[np.uint8]


@njit(cache=True, nogil=True)
def _decode(data: U8, width: int, out: U8) -> int:
    """Decodes into ``out``; returns how many indexes, or -1 for a code that cannot be."""
    clear = 1 << width
    prefix = np.zeros(4096, np.int32)
    suffix = np.zeros(4096, np.uint8)
    length = np.zeros(4096, np.int32)
    for code in range(clear):
        suffix[code] = code
        length[code] = 1
    following = clear + 2
    bits = width + 1
    previous = -1
    buffer = np.uint64(0)
    held = 0
    at = 0
    count = 0
    while True:
        while held < bits:
            if at >= data.size:
                return count
            buffer |= np.uint64(data[at]) << np.uint64(held)
            held += 8
            at += 1
        code = np.int64(buffer & np.uint64((1 << bits) - 1))
        buffer >>= np.uint64(bits)
        held -= bits
        if code == clear:
            following = clear + 2
            bits = width + 1
            previous = -1
            continue
        if code == clear + 1:
            return count
        if previous < 0:
            if code >= clear:
                return -1
            if count < out.size:
                out[count] = code
            count += 1
            previous = code
            continue
        if code > following or (code == following and following >= 4096):
            return -1
        entry = previous if code == following else code
        size = length[entry]
        walk = entry
        for i in range(size - 1, -1, -1):
            if count + i < out.size:
                out[count + i] = suffix[walk]
            first = suffix[walk]
            walk = prefix[walk]
        count += size
        if code == following:
            if count < out.size:
                out[count] = first
            count += 1
        if following < 4096:
            prefix[following] = previous
            suffix[following] = first
            length[following] = length[previous] + 1
            following += 1
            if following == 1 << bits and bits < 12:
                bits += 1
        previous = code
        if count > out.size + 4096:
            return count


@njit(cache=True, nogil=True)
def _encode(indexes: U8, width: int, patience: int, out: U8) -> int:
    """Encodes; returns how many bytes.

    ``patience``: once the table is full it is thrown away when codes get shorter than before by this
    many per mille; 0 throws it away at once.
    """
    clear = 1 << width
    children = np.full((4096, 256), -1, np.int16)
    following = clear + 2
    bits = width + 1
    buffer = np.uint64(clear)
    held = bits
    at = 0
    best_rate = 0.0
    since = 0
    codes = 0
    current = np.int64(-1)
    for i in range(indexes.size + 1):
        ended = i == indexes.size
        value = np.int64(0) if ended else np.int64(indexes[i])
        if current < 0:
            if ended:
                break
            current = value
            continue
        if not ended and children[current, value] >= 0:
            current = np.int64(children[current, value])
            continue
        buffer |= np.uint64(current) << np.uint64(held)
        held += bits
        while held >= 8:
            out[at] = np.uint8(buffer & np.uint64(255))
            buffer >>= np.uint64(8)
            held -= 8
            at += 1
        if ended:
            # The decoder adds an entry with each code: the end code may already be a bit longer.
            if following < 4096:
                following += 1
                if following > 1 << bits and bits < 12:
                    bits += 1
            break
        if following < 4096:
            children[current, value] = following
            following += 1
            if following > 1 << bits and bits < 12:
                bits += 1
        else:
            codes += 1
            reset = patience == 0
            if codes == 256:
                rate = (i - since) / 256.0
                best_rate = max(best_rate, rate)
                reset = rate < best_rate * (1.0 - patience / 1000.0)
                codes = 0
                since = i
            if reset:
                buffer |= np.uint64(clear) << np.uint64(held)
                held += bits
                while held >= 8:
                    out[at] = np.uint8(buffer & np.uint64(255))
                    buffer >>= np.uint64(8)
                    held -= 8
                    at += 1
                children[:] = -1
                following = clear + 2
                bits = width + 1
                best_rate = 0.0
                codes = 0
                since = i
        current = value
    buffer |= np.uint64(clear + 1) << np.uint64(held)
    held += bits
    while held > 0:
        out[at] = np.uint8(buffer & np.uint64(255))
        buffer >>= np.uint64(8)
        held -= 8
        at += 1
    return at


#: Ways to treat a full table, the shortest result is taken.
_PATIENCES = (0, 100, 300, 1001)


def decode(data: bytes, width: int, size: int) -> U8 | None:
    """``size`` indexes of LZW data with minimum code size ``width`` (2 to 8); None when damaged."""
    out = np.zeros(size, np.uint8)
    if _decode(np.frombuffer(data, np.uint8), width, out) < size:
        return None
    return out


def encode(indexes: U8, width: int) -> bytes:
    """The shortest LZW data found for indexes below ``1 << width``."""
    flat = np.ascontiguousarray(indexes).reshape(-1)
    out = np.zeros(flat.size * 2 + 64, np.uint8)
    best = b""
    for patience in _PATIENCES:
        length = _encode(flat, width, patience, out)
        if not best or length < len(best):
            best = out[:length].tobytes()
        if flat.size < 3000:
            break  # such a table is never full
    return best

"""From a JPEG file to its coefficients: T.81 Annexes F (sequential) and G (progressive).

Coefficients are one int16 array (blocks, 64) in zigzag order, the components one after the other.
"""

from __future__ import annotations

from typing import TypeAlias

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .arrays import I16, I32, U8
from .huffman import LIMITS_AT, LOOKUP_BITS, OFFSETS_AT, SYMBOLS_AT, decoding_table
from .segments import (
    DHT,
    DNL,
    DQT,
    DRI,
    EOI,
    MOST_SCANS,
    SOF0,
    SOF1,
    SOF2,
    SOS,
    Frame,
    HuffmanTable,
    JpegError,
    Scan,
    other_frame,
    parse_frame,
    parse_huffman,
    parse_quantization,
    parse_scan,
    read_word,
    stands_alone,
)

_PADDING = 64
_OK, _BAD_CODE, _OUT_OF_DATA, _OVERFLOW = 0, 1, 2, 3
_FAULTS = {
    _BAD_CODE: "the JPEG's picture data is damaged",
    _OUT_OF_DATA: "the JPEG's picture data ends too early",
    _OVERFLOW: "the JPEG has a coefficient beyond 8-bit pictures",
}


def block_order(frame: Frame, components: list[int]) -> I32:
    """The blocks of a scan in the order in which they are coded, as rows of the coefficients. A.2."""
    if len(components) == 1:
        c = frame.components[components[0]]
        rows = np.arange(c.down, dtype=np.int32)[:, None] * c.stride
        return (c.first + rows + np.arange(c.across, dtype=np.int32)).reshape(-1)
    across, down = frame.mcu
    parts = []
    for index in components:
        c = frame.components[index]
        y = np.arange(down, dtype=np.int32)[:, None, None, None] * c.vertical
        x = np.arange(across, dtype=np.int32)[None, :, None, None] * c.horizontal
        v = np.arange(c.vertical, dtype=np.int32)[None, None, :, None]
        h = np.arange(c.horizontal, dtype=np.int32)[None, None, None, :]
        parts.append((c.first + (y + v) * c.stride + x + h).reshape(down, across, -1))
    return np.ascontiguousarray(np.concatenate(parts, axis=2).reshape(-1))


def blocks_of_mcu(frame: Frame, components: list[int]) -> I32:
    """For each block of an MCU, which of the scan's components it belongs to."""
    if len(components) == 1:
        return np.zeros(1, np.int32)
    sizes = [frame.components[index].horizontal * frame.components[index].vertical for index in components]
    return np.repeat(np.arange(len(components), dtype=np.int32), sizes)


@njit(cache=True, nogil=True)
def unstuff(data: U8, start: int, out: U8, restarts: I32) -> tuple[int, int, int]:
    """Copies a scan's data without its stuffed zeros and markers, B.1.1.5.

    Returns where the next marker stands, the bytes copied, and the restarts found, whose
    positions in ``out`` are put into ``restarts``.
    """
    at = start
    length = 0
    intervals = 0
    end = data.size
    while at < end:
        value = data[at]
        if value != 0xFF:
            out[length] = value
            length += 1
            at += 1
            continue
        if at + 1 >= end:
            return end, length, intervals
        following = data[at + 1]
        if following == 0:
            out[length] = 0xFF
            length += 1
            at += 2
        elif 0xD0 <= following <= 0xD7:
            if intervals < restarts.size:
                restarts[intervals] = length
                intervals += 1
            at += 2
        elif following == 0xFF:
            at += 1
        else:
            return at, length, intervals
    return end, length, intervals


@njit(inline="always")
def _peek(data: U8, bit: np.uint64) -> np.uint64:
    """The next 57 or more bits, at the top of the word."""
    at = bit >> np.uint64(3)
    word = (
        np.uint64(data[at]) << np.uint64(56)
        | np.uint64(data[at + np.uint64(1)]) << np.uint64(48)
        | np.uint64(data[at + np.uint64(2)]) << np.uint64(40)
        | np.uint64(data[at + np.uint64(3)]) << np.uint64(32)
        | np.uint64(data[at + np.uint64(4)]) << np.uint64(24)
        | np.uint64(data[at + np.uint64(5)]) << np.uint64(16)
        | np.uint64(data[at + np.uint64(6)]) << np.uint64(8)
        | np.uint64(data[at + np.uint64(7)])
    )
    return word << (bit & np.uint64(7))


@njit(inline="always")
def _symbol(table: I32, word: np.uint64) -> int:
    """``length << 8 | symbol`` of the code at the top of a word; 0 when there is none."""
    entry = table[word >> np.uint64(64 - LOOKUP_BITS)]
    if entry != 0:
        return entry
    top = np.int64(word >> np.uint64(48))
    for length in range(LOOKUP_BITS + 1, 17):
        if top < table[LIMITS_AT + length]:
            index = (top >> (16 - length)) + table[OFFSETS_AT + length]
            if index < 0 or index > 255:
                return 0
            return length << 8 | table[SYMBOLS_AT + index]
    return 0


@njit(inline="always")
def _extend(word: np.uint64, length: int, size: int) -> int:
    """The signed value of ``size`` bits after a code of ``length``: F.2.2.1."""
    bits = np.int64((word << np.uint64(length)) >> np.uint64(64 - size))
    if bits < (np.int64(1) << (size - 1)):
        bits -= (np.int64(1) << size) - 1
    return bits


@njit(cache=True, nogil=True)
def decode_scan(
    data: U8,
    length: int,
    restarts: I32,
    order: I32,
    member: I32,
    interval: int,
    dc: I32,
    ac: I32,
    start: int,
    end: int,
    high: int,
    low: int,
    progressive: bool,
    coefficients: I16,
) -> int:
    """Decodes one scan into the coefficients; returns 0 or the code of a fault.

    ``data`` is unstuffed and padded; ``order`` the blocks; ``member`` the component of each block
    of an MCU; ``interval`` the restart interval in MCUs, 0 for none; ``dc`` and ``ac`` one
    decoding table a component.
    """
    bit = np.uint64(0)
    limit = np.uint64(length * 8)
    per_mcu = member.size
    last = np.zeros(4, np.int64)
    run = 0
    restart = 0
    plus = np.int16(1 << low)
    minus = np.int16(-(1 << low))
    for position in range(order.size):
        if interval > 0 and position > 0 and position % (interval * per_mcu) == 0:
            last[:] = 0
            run = 0
            if restart < restarts.size:
                bit = np.uint64(restarts[restart]) << np.uint64(3)
                restart += 1
            else:
                return _OUT_OF_DATA
        if bit > limit:
            return _OUT_OF_DATA
        block = coefficients[order[position]]
        component = member[position % per_mcu]
        k = start
        if start == 0:
            if high == 0:
                word = _peek(data, bit)
                entry = _symbol(dc[component], word)
                if entry == 0:
                    return _BAD_CODE
                size = entry & 0xFF
                bits = entry >> 8
                if size > 0:
                    last[component] += _extend(word, bits, size)
                bit += np.uint64(bits + size)
                value = last[component] * (1 << low)
                if value > 32767 or value < -32768:
                    return _OVERFLOW
                block[0] = value
            else:
                if _peek(data, bit) >> np.uint64(63):
                    block[0] |= plus
                bit += np.uint64(1)
            k = 1
            if progressive:
                continue
        table = ac[component]
        if high == 0:
            if run > 0:
                run -= 1
                continue
            while k <= end:
                word = _peek(data, bit)
                entry = _symbol(table, word)
                if entry == 0:
                    return _BAD_CODE
                bits = entry >> 8
                zeros = (entry >> 4) & 15
                size = entry & 15
                if size == 0:
                    if zeros == 15:
                        bit += np.uint64(bits)
                        k += 16
                        continue
                    if not progressive and zeros > 0:
                        return _BAD_CODE
                    run = (1 << zeros) - 1
                    if zeros > 0:
                        run += np.int64((word << np.uint64(bits)) >> np.uint64(64 - zeros))
                    bit += np.uint64(bits + zeros)
                    break
                k += zeros
                if k > end:
                    return _BAD_CODE
                value = _extend(word, bits, size) * (1 << low)
                if value > 32767 or value < -32768:
                    return _OVERFLOW
                block[k] = value
                bit += np.uint64(bits + size)
                k += 1
            continue
        # Refinement of AC coefficients: G.1.2.3.
        if run == 0:
            while k <= end:
                word = _peek(data, bit)
                entry = _symbol(table, word)
                if entry == 0:
                    return _BAD_CODE
                bits = entry >> 8
                zeros = (entry >> 4) & 15
                size = entry & 15
                bit += np.uint64(bits)
                new = np.int16(0)
                if size == 0:
                    if zeros < 15:
                        run = 1 << zeros
                        if zeros > 0:
                            run += np.int64((word << np.uint64(bits)) >> np.uint64(64 - zeros))
                            bit += np.uint64(zeros)
                        break
                elif size == 1:
                    new = plus if _peek(data, bit) >> np.uint64(63) else minus
                    bit += np.uint64(1)
                else:
                    return _BAD_CODE
                while k <= end:
                    if block[k] != 0:
                        if _peek(data, bit) >> np.uint64(63) and not (abs(block[k]) & plus):
                            block[k] += plus if block[k] > 0 else minus
                        bit += np.uint64(1)
                    else:
                        if zeros == 0:
                            if new != 0:
                                block[k] = new
                            k += 1
                            break
                        zeros -= 1
                    k += 1
                if bit > limit:
                    return _OUT_OF_DATA
        if run > 0:
            while k <= end:
                if block[k] != 0:
                    if _peek(data, bit) >> np.uint64(63) and not (abs(block[k]) & plus):
                        block[k] += plus if block[k] > 0 else minus
                    bit += np.uint64(1)
                k += 1
            run -= 1
    if bit > limit:
        return _OUT_OF_DATA
    return _OK


#: A frame, its coefficients, and whatever stands after the file's end.
Decoded: TypeAlias = tuple[Frame, I16, bytes]


def decode(data: bytes) -> Decoded:
    """A file's frame, its coefficients, and whatever stands after its end.

    Tolerant where viewers are: stray bytes between segments, fill bytes, a missing end marker
    after complete data. Raises :class:`JpegError` for everything else, truncation included.
    """
    if data[:2] != b"\xff\xd8":
        raise JpegError("this is not a JPEG file")
    raw = np.frombuffer(data, np.uint8)
    quantization: dict[int, NDArray[np.uint16]] = {}
    dc: dict[int, HuffmanTable] = {}
    ac: dict[int, HuffmanTable] = {}
    metadata: list[bytes] = []
    frame: Frame | None = None
    coefficients = np.zeros((0, 64), np.int16)
    clean = np.zeros(0, np.uint8)
    restart, scans, at = 0, 0, 2
    seen: set[tuple[int, int]] = set()
    while True:
        marker, at = _next_marker(data, at, scans > 0)
        if marker == EOI:
            break
        if stands_alone(marker):
            continue
        length = read_word(data, at)
        body = data[at + 2 : at + length]
        if length < 2 or len(body) != length - 2:
            raise JpegError("the JPEG ends within a segment")
        at += length
        if marker == DQT:
            parse_quantization(body, quantization)
            if frame is not None and scans:
                raise JpegError("JPEG pictures that change their tables between scans are left alone")
        elif marker == DHT:
            parse_huffman(body, dc, ac)
        elif marker == DRI:
            restart = read_word(body, 0)
        elif marker in (SOF0, SOF1, SOF2):
            if frame is not None:
                raise JpegError("the JPEG has two frames")
            frame = parse_frame(marker, body)
            coefficients = np.zeros((frame.total_blocks, 64), np.int16)
            clean = np.zeros(len(data) + _PADDING, np.uint8)
        elif marker == SOS:
            if frame is None:
                raise JpegError("the JPEG has a scan before its frame")
            scans += 1
            if scans > MOST_SCANS:
                raise JpegError(f"the JPEG has more than {MOST_SCANS} scans")
            scan = parse_scan(body, frame, dc, ac, restart, at)
            at = _decode_one(raw, clean, frame, scan, coefficients)
            seen |= {(index, 0 if scan.spectral_start == 0 else 1) for index in scan.components}
        elif 0xE0 <= marker <= 0xEF or marker == 0xFE:
            metadata.append(bytes([0xFF, marker]) + data[at - length : at])
        elif marker == DNL or other_frame(marker):
            raise JpegError(
                "JPEG pictures of this kind (lossless, arithmetic or hierarchical) are left alone"
            )
    if frame is None or not scans:
        raise JpegError("the JPEG holds no picture")
    if any((index, 0) not in seen for index in range(len(frame.components))):
        raise JpegError("the JPEG lacks the data of a component")
    for component in frame.components:
        if component.table not in quantization:
            raise JpegError("the JPEG lacks a quantization table")
    frame.quantization, frame.metadata = quantization, metadata
    return frame, coefficients, data[at:]


def _next_marker(data: bytes, at: int, had_scan: bool) -> tuple[int, int]:
    """The next marker and where its segment begins; a missing end counts as one after a scan."""
    while True:
        at = data.find(b"\xff", at)
        if at < 0 or at + 1 >= len(data):
            if had_scan:
                return EOI, len(data)
            raise JpegError("the JPEG ends before its picture")
        marker = data[at + 1]
        if marker == 0xFF:
            at += 1
        elif marker == 0:
            at += 2
        else:
            return marker, at + 2


def _decode_one(raw: U8, clean: U8, frame: Frame, scan: Scan, coefficients: I16) -> int:
    order = block_order(frame, scan.components)
    member = blocks_of_mcu(frame, scan.components)
    mcus = order.size // member.size
    restarts = np.zeros(mcus // scan.restart_interval + 1 if scan.restart_interval else 0, np.int32)
    following, length, intervals = unstuff(raw, scan.data_at, clean, restarts)
    clean[length : length + _PADDING] = 0
    fault = decode_scan(
        clean,
        length,
        restarts[:intervals],
        order,
        member,
        scan.restart_interval,
        np.stack([decoding_table(table) for table in scan.dc_tables]),
        np.stack([decoding_table(table) for table in scan.ac_tables]),
        scan.spectral_start,
        scan.spectral_end,
        scan.high,
        scan.low,
        frame.progressive,
        coefficients,
    )
    if fault:
        raise JpegError(_FAULTS[fault])
    return int(following)

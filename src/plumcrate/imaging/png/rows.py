"""Rows of bytes: their five filters, interlacing, and samples of 1 to 16 bits. Sections 7 to 9."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .chunks import Header

U8 = NDArray[np.uint8]
U16 = NDArray[np.uint16]
Samples = U8 | U16

#: Adam7: first column, first row, and steps of each pass. Section 8.
_PASSES = (
    (0, 0, 8, 8),
    (4, 0, 8, 8),
    (0, 4, 4, 8),
    (2, 0, 4, 4),
    (0, 2, 2, 4),
    (1, 0, 2, 2),
    (0, 1, 1, 2),
)


@njit(inline="always")
def _paeth(left: int, above: int, corner: int) -> int:
    """Section 9.4."""
    to_left = abs(above - corner)
    to_above = abs(left - corner)
    to_corner = abs(left + above - 2 * corner)
    if to_left <= to_above and to_left <= to_corner:
        return left
    return above if to_above <= to_corner else corner


@njit(cache=True, nogil=True)
def _unfilter(raw: U8, rows: int, size: int, step: int, out: U8) -> int:
    """Undoes the filters of ``rows`` rows of ``size`` bytes; 0, or 1 for a filter that does not exist.

    Each channel goes along the row by itself, so that what was last made stays in a register.
    """
    nothing = np.zeros(size, np.uint8)
    for y in range(rows):
        kind = raw[y * (size + 1)]
        source = raw[y * (size + 1) + 1 : (y + 1) * (size + 1)]
        row = out[y]
        above = out[y - 1] if y > 0 else nothing
        if kind == 0:
            row[:] = source
        elif kind == 1:
            for channel in range(min(step, size)):
                left = np.int32(0)
                for x in range(channel, size, step):
                    left = (left + np.int32(source[x])) & 255
                    row[x] = np.uint8(left)
        elif kind == 2:
            for x in range(size):
                row[x] = source[x] + above[x]
        elif kind == 3:
            for channel in range(min(step, size)):
                left = np.int32(0)
                for x in range(channel, size, step):
                    left = (np.int32(source[x]) + ((left + np.int32(above[x])) >> 1)) & 255
                    row[x] = np.uint8(left)
        elif kind == 4:
            for channel in range(min(step, size)):
                left = np.int32(0)
                corner = np.int32(0)
                for x in range(channel, size, step):
                    over = np.int32(above[x])
                    left = (np.int32(source[x]) + _paeth(left, over, corner)) & 255
                    row[x] = np.uint8(left)
                    corner = over
        else:
            return 1
    return 0


def passes(header: Header) -> list[tuple[int, int, int, int]]:
    """The passes in which pixels are stored; passes without pixels left out."""
    if not header.interlaced:
        return [(0, 0, 1, 1)]
    return [each for each in _PASSES if each[0] < header.width and each[1] < header.height]


def raw_size(header: Header) -> int:
    """Bytes of all filtered rows, filter bytes included."""
    total = 0
    for x, y, across, down in passes(header):
        rows = -(-(header.height - y) // down)
        total += rows * (1 + header.row_bytes(-(-(header.width - x) // across)))
    return total


def samples_of(raw: U8, header: Header) -> Samples | None:
    """Samples (height, width, channels) of filtered rows; None for a filter that does not exist.

    uint16 when the depth is 16, else uint8 with the values as stored.
    """
    kind = np.uint16 if header.depth == 16 else np.uint8
    out = np.empty((header.height, header.width, header.channels), kind)
    at = 0
    for x, y, across, down in passes(header):
        width, height = -(-(header.width - x) // across), -(-(header.height - y) // down)
        size = header.row_bytes(width)
        rows = np.empty((height, size), np.uint8)
        if _unfilter(raw[at : at + height * (size + 1)], height, size, header.step, rows):
            return None
        at += height * (size + 1)
        out[y::down, x::across] = _unpacked(rows, width, header)
    return out


def _unpacked(rows: U8, width: int, header: Header) -> Samples:
    height = rows.shape[0]
    if header.depth == 8:
        return rows.reshape(height, width, header.channels)
    if header.depth == 16:
        return rows.view(">u2").astype(np.uint16).reshape(height, width, header.channels)
    bits = np.unpackbits(rows, axis=1)[:, : width * header.depth].reshape(height, width, header.depth)
    weights = (1 << np.arange(header.depth - 1, -1, -1)).astype(np.uint8)
    return np.asarray((bits * weights).sum(axis=2, dtype=np.uint8)[:, :, None])


def rows_of(samples: Samples, header: Header) -> U8:
    """Unfiltered rows, (height, bytes), of samples; not interlaced."""
    height, width = samples.shape[:2]
    if header.depth == 8:
        return np.ascontiguousarray(samples.reshape(height, -1)).astype(np.uint8, copy=False)
    if header.depth == 16:
        return np.ascontiguousarray(samples.reshape(height, -1).astype(">u2")).view(np.uint8)
    shifts = np.arange(header.depth - 1, -1, -1, dtype=np.uint8)
    bits = (samples.reshape(height, width, 1) >> shifts) & 1
    return np.packbits(bits.reshape(height, width * header.depth).astype(np.uint8), axis=1)


# -- filtering -------------------------------------------------------------------------------

#: Ways to choose each row's filter: one for all rows, or the row's best by some measure.
NONE, SUB, UP, AVERAGE, PAETH, LEAST_SUM, ENTROPY, BIGRAMS = range(8)


@njit(cache=True, nogil=True, error_model="numpy")
def _filter_row(rows: U8, y: int, step: int, kind: int, out: U8) -> None:
    size = rows.shape[1]
    row = rows[y]
    above = rows[max(y - 1, 0)]
    if kind == 0 or (kind == 2 and y == 0):
        out[:] = row
    elif kind == 1 or (kind == 4 and y == 0):
        out[:step] = row[:step]
        for x in range(step, size):
            out[x] = row[x] - row[x - step]
    elif kind == 2:
        for x in range(size):
            out[x] = row[x] - above[x]
    elif kind == 3 and y == 0:
        out[:step] = row[:step]
        for x in range(step, size):
            out[x] = row[x] - (row[x - step] >> 1)
    elif kind == 3:
        for x in range(min(step, size)):
            out[x] = row[x] - (above[x] >> 1)
        for x in range(step, size):
            out[x] = row[x] - np.uint8((np.int32(row[x - step]) + np.int32(above[x])) >> 1)
    else:
        for x in range(min(step, size)):
            out[x] = row[x] - above[x]
        for x in range(step, size):
            out[x] = row[x] - np.uint8(
                _paeth(np.int32(row[x - step]), np.int32(above[x]), np.int32(above[x - step]))
            )


@njit(cache=True, nogil=True, error_model="numpy")
def _chosen(rows: U8, step: int, way: int, out: U8) -> None:
    """Filters every row, each with the filter that its measure likes best."""
    height, size = rows.shape
    trial = np.empty((5, size), np.uint8)
    histogram = np.zeros(256, np.int32)
    seen = np.zeros(65536, np.int32)
    stamp = 0
    for y in range(height):
        best = 0
        least = 1e30
        first = 0 if way >= LEAST_SUM else way
        last = 4 if way >= LEAST_SUM else way
        for kind in range(first, last + 1):
            _filter_row(rows, y, step, kind, trial[kind])
            cost = 0.0
            if way == LEAST_SUM:
                total = 0
                for x in range(size):
                    value = np.int32(trial[kind, x])
                    total += value if value < 128 else 256 - value
                cost = float(total)
            elif way == ENTROPY:
                histogram[:] = 0
                for x in range(size):
                    histogram[trial[kind, x]] += 1
                for value in range(256):
                    if histogram[value]:
                        cost -= histogram[value] * np.log2(histogram[value] / size)
            elif way == BIGRAMS:
                stamp += 1
                distinct = 0
                for x in range(size - 1):
                    pair = np.int32(trial[kind, x]) << 8 | np.int32(trial[kind, x + 1])
                    if seen[pair] != stamp:
                        seen[pair] = stamp
                        distinct += 1
                cost = float(distinct)
            if cost < least:
                least = cost
                best = kind
        out[y, 0] = best
        out[y, 1:] = trial[best]


def filtered(rows: U8, step: int, way: int) -> U8:
    """Rows with their filter bytes, (height, 1 + bytes), filtered in one of the ways above."""
    out = np.empty((rows.shape[0], rows.shape[1] + 1), np.uint8)
    _chosen(np.ascontiguousarray(rows), step, way, out)
    return out


def filtered_each(rows: U8, step: int) -> U8:
    """Every row in each of the five filters, filter bytes included: (5, height, 1 + bytes)."""
    return np.stack([filtered(rows, step, kind) for kind in range(5)])

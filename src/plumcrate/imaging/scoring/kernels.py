"""The number-crunching of the score: colour conversion, blur and error statistics.

Float32 throughout; one picture plane is a C-contiguous (height, width) float32 array.
No kernel checks its bounds: callers pass planes of equal shape, at least 8 x 8.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]
Cells = tuple[NDArray[np.int64], NDArray[np.int64]]

RADIUS = 5
_SIGMA = 1.5
_taps = np.exp(-0.5 * (np.arange(-RADIUS, RADIUS + 1) / _SIGMA) ** 2)
TAPS: F32 = (_taps / _taps.sum()).astype(np.float32)

# Opsin absorbance, ISO/IEC 18181-1 (XYB colour space).
_BIAS = np.float32(0.0037930732552754493)
_CBRT_BIAS = np.float32(0.0037930732552754493 ** (1 / 3))
_M = (
    (np.float32(0.30), np.float32(1.0 - 0.078 - 0.30), np.float32(0.078)),
    (np.float32(0.23), np.float32(1.0 - 0.078 - 0.23), np.float32(0.078)),
    (
        np.float32(0.24342268924547819),
        np.float32(0.20476744424496821),
        np.float32(1.0 - 0.24342268924547819 - 0.20476744424496821),
    ),
)
(_M00, _M01, _M02), (_M10, _M11, _M12), (_M20, _M21, _M22) = _M
_THIRD = np.float32(1 / 3)
_C2 = np.float32(0.0009)


@njit(inline="always")
def cbrt(x: np.float32) -> np.float32:
    """Cube root of a float32 in (0, 2): bit-level first guess, two Halley steps, error below 1e-6."""
    bits = np.float32(x).view(np.int32)
    t = np.int32(np.float32(bits) * _THIRD + np.float32(709921077.0)).view(np.float32)
    for _ in range(2):
        t3 = t * t * t
        t = t * (t3 + np.float32(2) * x) / (np.float32(2) * t3 + x)
    return t


@njit(inline="always")
def _write_xyb(red: F32, green: F32, blue: F32, out: F32, y: int, wants_x: bool, wants_b: bool) -> None:
    """One row of linear light to the positive XYB planes (Y, X, B) that SSIMULACRA2 compares."""
    width = red.size
    out_y = out[0, y]
    if wants_x:
        out_x = out[1, y]
        for x in range(width):
            long = cbrt(_M00 * red[x] + _M01 * green[x] + _M02 * blue[x] + _BIAS)
            medium = cbrt(_M10 * red[x] + _M11 * green[x] + _M12 * blue[x] + _BIAS)
            out_y[x] = np.float32(0.5) * (long + medium) - _CBRT_BIAS + np.float32(0.01)
            out_x[x] = np.float32(7.0) * (long - medium) + np.float32(0.42)
    else:
        for x in range(width):
            long = cbrt(_M00 * red[x] + _M01 * green[x] + _M02 * blue[x] + _BIAS)
            medium = cbrt(_M10 * red[x] + _M11 * green[x] + _M12 * blue[x] + _BIAS)
            out_y[x] = np.float32(0.5) * (long + medium) - _CBRT_BIAS + np.float32(0.01)
    if wants_b:
        out_b = out[2, y]
        for x in range(width):
            short = cbrt(_M20 * red[x] + _M21 * green[x] + _M22 * blue[x] + _BIAS) - _CBRT_BIAS
            out_b[x] = short - out_y[x] + np.float32(0.56)


@njit(inline="always")
def _write_half(above: F32, below: F32, out: F32) -> None:
    """Mean of each 2 x 2 block of two rows; an odd last column averages what is there."""
    width = above.size
    for x in range(width // 2):
        out[x] = (above[2 * x] + above[2 * x + 1] + below[2 * x] + below[2 * x + 1]) * np.float32(0.25)
    if width % 2:
        out[width // 2] = (above[width - 1] + below[width - 1]) * np.float32(0.5)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def finest_scale(rgb: U8, table: F32, xyb: F32, half: F32) -> None:
    """sRGB bytes (height, width, 3) to the Y plane of the finest scale and half-size linear light.

    ``xyb`` is (1, height, width), ``half`` (3, ceil(height / 2), ceil(width / 2)), 0 to 1.
    """
    height, width, _ = rgb.shape
    rows = np.empty((2, 3, width), np.float32)
    for y in range(0, height, 2):
        for k in range(2):
            source = min(y + k, height - 1)
            for x in range(width):
                rows[k, 0, x] = table[rgb[source, x, 0]]
                rows[k, 1, x] = table[rgb[source, x, 1]]
                rows[k, 2, x] = table[rgb[source, x, 2]]
            if y + k < height:
                _write_xyb(rows[k, 0], rows[k, 1], rows[k, 2], xyb, y + k, False, False)
        for c in range(3):
            _write_half(rows[0, c], rows[1, c], half[c, y // 2])


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def coarser_scale(linear: F32, wants_x: bool, wants_b: bool, xyb: F32, half: F32) -> None:
    """Linear light (3, height, width) to the XYB planes of its scale and half-size linear light.

    ``xyb`` has the planes Y, X, B in that order; those not wanted need not be there.
    """
    _, height, _width = linear.shape
    for y in range(height):
        _write_xyb(linear[0, y], linear[1, y], linear[2, y], xyb, y, wants_x, wants_b)
    for y in range(0, height, 2):
        below = min(y + 1, height - 1)
        for c in range(3):
            _write_half(linear[c, y], linear[c, below], half[c, y // 2])


@njit(inline="always")
def _reflect(y: int, height: int) -> int:
    if y < 0:
        return -1 - y
    if y >= height:
        return 2 * height - 1 - y
    return y


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def local_moments(plane: F32, taps: F32, step: int, mean: F32, variance: F32) -> None:
    """Gaussian-weighted local mean and variance of a plane, on every ``step``-th row.

    Outputs are (ceil(height / step), width). Rows beyond the picture mirror it, columns beyond
    it count as zero, as in the reference implementations of the metric.
    """
    height, width = plane.shape
    first = np.zeros(width + 2 * RADIUS, np.float32)
    second = np.zeros(width + 2 * RADIUS, np.float32)
    for index in range(mean.shape[0]):
        y = index * step
        first[:] = 0
        second[:] = 0
        for k in range(2 * RADIUS + 1):
            row = plane[_reflect(y + k - RADIUS, height)]
            tap = taps[k]
            for x in range(width):
                value = row[x]
                first[x + RADIUS] += tap * value
                second[x + RADIUS] += tap * value * value
        out_mean = mean[index]
        out_variance = variance[index]
        for x in range(width):
            m = np.float32(0)
            s = np.float32(0)
            for k in range(2 * RADIUS + 1):
                m += taps[k] * first[x + k]
                s += taps[k] * second[x + k]
            out_mean[x] = m
            out_variance[x] = s - m * m


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def compare_plane(
    a: F32,
    mean_a: F32,
    variance_a: F32,
    b: F32,
    taps: F32,
    step: int,
    cells: Cells,
    sums: NDArray[np.float64],
) -> None:
    """Adds up the error maps of one plane of one scale over every ``step``-th row, cell by cell.

    ``cells`` are the places where columns of cells begin, and where rows of them do, each with the end.
    ``sums`` (rows of cells, columns, 6) receives in each cell the sums of: structure error, its 4th power,
    added edges, their 4th power, lost edges, their 4th power. Three blurs suffice: of b, of b squared, and of
    (a - b) squared, whose local variance is var(a) + var(b) - 2 cov(a, b).
    """
    across, down = cells
    height, width = b.shape
    blur_b = np.zeros(width + 2 * RADIUS, np.float32)
    blur_bb = np.zeros(width + 2 * RADIUS, np.float32)
    blur_dd = np.zeros(width + 2 * RADIUS, np.float32)
    w0, w1, w2, w3, w4, w5 = taps[5], taps[4], taps[3], taps[2], taps[1], taps[0]
    one = np.float32(1)
    zero = np.float32(0)
    rows = mean_a.shape[0]
    sums[:] = 0.0
    cell_row = 0
    for index in range(rows):
        y = index * step
        while cell_row + 2 < down.size and y >= down[cell_row + 1]:
            cell_row += 1
        blur_b[:] = 0
        blur_bb[:] = 0
        blur_dd[:] = 0
        for k in range(2 * RADIUS + 1):
            source = _reflect(y + k - RADIUS, height)
            row_a = a[source]
            row_b = b[source]
            tap = taps[k]
            for x in range(width):
                vb = row_b[x]
                vd = row_a[x] - vb
                blur_b[x + RADIUS] += tap * vb
                blur_bb[x + RADIUS] += tap * vb * vb
                blur_dd[x + RADIUS] += tap * vd * vd
        here_a = a[y]
        here_b = b[y]
        ma = mean_a[index]
        va = variance_a[index]
        for cell in range(across.size - 1):
            s0 = zero
            s1 = zero
            s2 = zero
            s3 = zero
            s4 = zero
            s5 = zero
            # Views, so that places count from nought: the compiler need not fear negative ones.
            left, right = across[cell], across[cell + 1]
            cell_b = blur_b[left : right + 2 * RADIUS]
            cell_bb = blur_bb[left : right + 2 * RADIUS]
            cell_dd = blur_dd[left : right + 2 * RADIUS]
            cell_ma, cell_va = ma[left:right], va[left:right]
            cell_a, cell_here = here_a[left:right], here_b[left:right]
            for x in range(right - left):
                m = (
                    w0 * cell_b[x + 5]
                    + w1 * (cell_b[x + 4] + cell_b[x + 6])
                    + w2 * (cell_b[x + 3] + cell_b[x + 7])
                    + w3 * (cell_b[x + 2] + cell_b[x + 8])
                    + w4 * (cell_b[x + 1] + cell_b[x + 9])
                    + w5 * (cell_b[x] + cell_b[x + 10])
                )
                bb = (
                    w0 * cell_bb[x + 5]
                    + w1 * (cell_bb[x + 4] + cell_bb[x + 6])
                    + w2 * (cell_bb[x + 3] + cell_bb[x + 7])
                    + w3 * (cell_bb[x + 2] + cell_bb[x + 8])
                    + w4 * (cell_bb[x + 1] + cell_bb[x + 9])
                    + w5 * (cell_bb[x] + cell_bb[x + 10])
                )
                dd = (
                    w0 * cell_dd[x + 5]
                    + w1 * (cell_dd[x + 4] + cell_dd[x + 6])
                    + w2 * (cell_dd[x + 3] + cell_dd[x + 7])
                    + w3 * (cell_dd[x + 2] + cell_dd[x + 8])
                    + w4 * (cell_dd[x + 1] + cell_dd[x + 9])
                    + w5 * (cell_dd[x] + cell_dd[x + 10])
                )
                shift = cell_ma[x] - m
                both = cell_va[x] + bb - m * m
                covariance2 = both - (dd - shift * shift)
                error = one - (one - shift * shift) * (covariance2 + _C2) / (both + _C2)
                error = max(error, zero)
                edge = (one + abs(cell_here[x] - m)) / (one + abs(cell_a[x] - cell_ma[x])) - one
                added = max(edge, zero)
                lost = max(-edge, zero)
                s0 += error
                s1 += error * error * error * error
                s2 += added
                s3 += added * added * added * added
                s4 += lost
                s5 += lost * lost * lost * lost
            into = sums[cell_row, cell]
            into[0] += s0
            into[1] += s1
            into[2] += s2
            into[3] += s3
            into[4] += s4
            into[5] += s5

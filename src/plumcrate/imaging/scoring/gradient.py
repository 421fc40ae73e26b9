"""How the score changes with each sample of a candidate: the score in reverse.

Reverse-mode differentiation of :mod:`.ssimulacra2`, by hand: every kernel of the way forward has its adjoint
here. An encoder that knows where a sample's error costs many points, and where none, spends its bits there.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..srgb import LIGHT
from .kernels import (
    _BIAS,
    _C2,
    _M00,
    _M01,
    _M02,
    _M10,
    _M11,
    _M12,
    _M20,
    _M21,
    _M22,
    F32,
    RADIUS,
    TAPS,
    U8,
    _reflect,
    cbrt,
)
from .ssimulacra2 import SMALLEST_SIDE, Plane, Reference, xyb_scales

#: Rows that are gone through together, an even count: what is reckoned for them alone is dropped at once.
_BAND = 128
#: How fast linear light rises with a sample value.
_RISE: F32 = np.gradient(LIGHT.astype(np.float64)).astype(np.float32)


@njit(inline="always")
def _across(row: F32, taps: F32, x: int) -> Any:
    """One sample of a row, which has ``RADIUS`` more on each side, blurred along it."""
    return (
        taps[5] * row[x + 5]
        + taps[4] * (row[x + 4] + row[x + 6])
        + taps[3] * (row[x + 3] + row[x + 7])
        + taps[2] * (row[x + 2] + row[x + 8])
        + taps[1] * (row[x + 1] + row[x + 9])
        + taps[0] * (row[x] + row[x + 10])
    )


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _moments(a: F32, b: F32, taps: F32, step: int, begin: int, mean: F32, square: F32, apart: F32) -> None:
    """Blurs of b, of its square and of the square of what lies between a and b, on every ``step``-th row, as
    the score takes them: rows beyond the picture mirror it, columns beyond it count as zero. ``begin``: the
    first of these rows that is asked for."""
    height, width = b.shape
    rows = np.zeros((3, width + 2 * RADIUS), np.float32)
    for index in range(mean.shape[0]):
        y = (begin + index) * step
        rows[:] = 0
        first = rows[0, RADIUS:]
        second = rows[1, RADIUS:]
        third = rows[2, RADIUS:]
        for k in range(2 * RADIUS + 1):
            source = _reflect(y + k - RADIUS, height)
            row_a = a[source]
            row_b = b[source]
            tap = taps[k]
            for x in range(width):
                value = row_b[x]
                off = row_a[x] - value
                first[x] += tap * value
                second[x] += tap * value * value
                third[x] += tap * off * off
        for x in range(width):
            mean[index, x] = _across(rows[0], taps, x)
            square[index, x] = _across(rows[1], taps, x)
            apart[index, x] = _across(rows[2], taps, x)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _spread(gradient: F32, taps: F32, step: int, begin: int, height: int, first: int, out: F32) -> None:
    """The adjoint of a blur of :func:`_moments`, of a plane of so many rows, for the rows of ``out`` from
    ``first`` on; taps are symmetric."""
    count, width = out.shape
    row = np.zeros(width + 2 * RADIUS, np.float32)
    across = np.empty(width, np.float32)
    out[:] = 0
    for index in range(gradient.shape[0]):
        y = (begin + index) * step
        row[RADIUS : RADIUS + width] = gradient[index]
        for x in range(width):
            across[x] = _across(row, taps, x)
        for k in range(2 * RADIUS + 1):
            at = _reflect(y + k - RADIUS, height) - first
            if at < 0 or at >= count:
                continue
            target = out[at]
            tap = taps[k]
            for x in range(width):
                target[x] += tap * across[x]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _errors(
    a: F32,
    mean_a: F32,
    variance_a: F32,
    b: F32,
    step: int,
    m: F32,
    bb: F32,
    dd: F32,
    error: F32,
    edge: F32,
    fourths: NDArray[np.float64],
) -> None:
    """The maps of structure error and of edges, added above 0 and lost below; adds the sums of the fourth
    powers of errors, of added and of lost edges to ``fourths``."""
    one = np.float32(1)
    for index in range(m.shape[0]):
        here_a, here_b = a[index * step], b[index * step]
        s0 = s1 = s2 = np.float32(0)
        for x in range(m.shape[1]):
            mean = m[index, x]
            shift = mean_a[index, x] - mean
            whole = variance_a[index, x] + bb[index, x] - mean * mean + _C2
            e = one - (one - shift * shift) * (whole - dd[index, x] + shift * shift) / whole
            e = max(e, np.float32(0))
            g = (one + abs(here_b[x] - mean)) / (one + abs(here_a[x] - mean_a[index, x])) - one
            error[index, x] = e
            edge[index, x] = g
            more = max(g, np.float32(0))
            less = min(g, np.float32(0))
            s0 += e * e * e * e
            s1 += more * more * more * more
            s2 += less * less * less * less
        fourths[0] += s0
        fourths[1] += s1
        fourths[2] += s2


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _back(
    a: F32,
    mean_a: F32,
    variance_a: F32,
    b: F32,
    step: int,
    m: F32,
    bb: F32,
    dd: F32,
    error: F32,
    edge: F32,
    factors: F32,
) -> None:
    """From a plane's statistics to what was blurred: the gradients by mean, by square, by what lies apart and
    by the sample itself take the places of ``m``, ``bb``, ``dd`` and ``edge``.

    ``factors`` are those of error, added and lost edges, each of the first power and of the third.
    """
    one = np.float32(1)
    two = np.float32(2)
    zero = np.float32(0)
    for index in range(m.shape[0]):
        here_a, here_b = a[index * step], b[index * step]
        for x in range(m.shape[1]):
            mean = m[index, x]
            shift = mean_a[index, x] - mean
            inverse = one / (variance_a[index, x] + bb[index, x] - mean * mean + _C2)
            lacking = (dd[index, x] - shift * shift) * inverse  # one less the structure's ratio
            light = one - shift * shift
            e = error[index, x]
            by_error = factors[0] + factors[1] * e * e * e if e > zero else zero
            by_apart = by_error * light * inverse
            by_both = -by_apart * lacking
            by_shift = two * shift * (by_error * (one - lacking) - by_apart)
            g = edge[index, x]
            cube = g * g * g
            by_edge = factors[2] + factors[3] * cube if g > zero else -factors[4] + factors[5] * cube
            by_edge /= one + abs(here_a[x] - mean_a[index, x])
            if here_b[x] < mean:
                by_edge = -by_edge
            edge[index, x] = by_edge
            m[index, x] = -by_shift - two * mean * by_both - by_edge
            bb[index, x] = by_both
            dd[index, x] = by_apart


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _gathered(a: F32, b: F32, mean: F32, square: F32, apart: F32, out: F32) -> None:
    two = np.float32(2)
    for y in range(a.shape[0]):
        for x in range(a.shape[1]):
            moved = mean[y, x] + two * b[y, x] * square[y, x]
            out[y, x] += moved - two * (a[y, x] - b[y, x]) * apart[y, x]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _to_light(linear: F32, by_xyb: F32, out: F32) -> None:
    """Adds the adjoint of the way from linear light to XYB, whose gradient is in the order Y, X, B."""
    third = np.float32(1 / 3)
    for y in range(linear.shape[1]):
        for x in range(linear.shape[2]):
            r, g, b = linear[0, y, x], linear[1, y, x], linear[2, y, x]
            long = cbrt(_M00 * r + _M01 * g + _M02 * b + _BIAS)
            medium = cbrt(_M10 * r + _M11 * g + _M12 * b + _BIAS)
            short = cbrt(_M20 * r + _M21 * g + _M22 * b + _BIAS)
            by_y = np.float32(0.5) * (by_xyb[0, y, x] - by_xyb[2, y, x])
            by_x = np.float32(7) * by_xyb[1, y, x]
            by_long = (by_y + by_x) * third / (long * long)
            by_medium = (by_y - by_x) * third / (medium * medium)
            by_short = by_xyb[2, y, x] * third / (short * short)
            out[0, y, x] += _M00 * by_long + _M10 * by_medium + _M20 * by_short
            out[1, y, x] += _M01 * by_long + _M11 * by_medium + _M21 * by_short
            out[2, y, x] += _M02 * by_long + _M12 * by_medium + _M22 * by_short


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _doubled(half: F32, height: int, first: int, out: F32) -> None:
    """Adds the adjoint of the mean of each 2 x 2 block, of planes of so many rows, to the rows of ``out``
    from ``first`` on; at odd edges the mean is of what is there."""
    planes, count, width = out.shape
    for c in range(planes):
        for row in range(count):
            y = first + row
            rows = 2 if y < height - height % 2 else 1
            for x in range(width):
                columns = 2 if x < width - width % 2 else 1
                out[c, row, x] += half[c, y // 2, x // 2] / np.float32(rows * columns)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _halved(linear: F32, out: F32) -> None:
    planes, height, width = linear.shape
    for c in range(planes):
        for y in range(out.shape[1]):
            below = min(2 * y + 1, height - 1)
            for x in range(out.shape[2]):
                right = min(2 * x + 1, width - 1)
                total = linear[c, 2 * y, 2 * x] + linear[c, 2 * y, right]
                total += linear[c, below, 2 * x] + linear[c, below, right]
                out[c, y, x] = np.float32(0.25) * total


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _light_of(rgb: U8, table: F32, out: F32) -> None:
    for y in range(rgb.shape[0]):
        for c in range(3):
            for x in range(rgb.shape[1]):
                out[c, y, x] = table[rgb[y, x, c]]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _of_luma(gradient: F32, rgb: U8, rise: F32, out: F32) -> None:
    """From linear light (3, height, width) to what moves all three samples of a pixel alike."""
    for y in range(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            total = np.float32(0)
            for c in range(3):
                total += gradient[c, y, x] * rise[rgb[y, x, c]]
            out[y, x] = total


def luma_gradient(reference: Reference, candidate: U8) -> F32:
    """How the score's error sum rises with each pixel's luma of a candidate, (height, width), in sRGB values.

    The error sum is what points are a falling function of. Its gradient says where errors count, and what
    moving a pixel's samples by one would do; its scale is no matter to who compares places. Pictures smaller
    than the coarsest scale needs give zeros. Raises ValueError when the shapes differ.
    """
    if candidate.shape != reference.shape:
        raise ValueError(f"the candidate is {candidate.shape}, the reference {reference.shape}")
    out = np.zeros(candidate.shape[:2], np.float32)
    if min(out.shape) < SMALLEST_SIDE:
        return out
    xyb = list(xyb_scales(candidate))
    light = _coarser_light(candidate, len(xyb))
    gradient = np.zeros((3, 0, 0), np.float32)
    for scale in reversed(range(len(xyb))):
        here = xyb.pop()
        height, width = here.shape[1:]
        planes = [plane for plane in reference.planes if plane.scale == scale]
        factors = [_factors(plane, here[plane.which]) for plane in planes]
        coarser, gradient = gradient, np.zeros((3, height, width) if scale else (3, 0, 0), np.float32)
        for first in range(0, height, _BAND):
            rows = slice(first, min(first + _BAND, height))
            count = rows.stop - first
            by_xyb = np.zeros((3, count, width), np.float32)
            for plane, part in zip(planes, factors, strict=True):
                _add_rows(plane, here[plane.which], part, first, by_xyb[plane.which])
            band = gradient[:, rows] if scale else np.zeros((3, count, width), np.float32)
            if coarser.size:
                _doubled(coarser, height, first, band)
            _to_light(_light(candidate, light, scale, rows), by_xyb, band)
            if not scale:
                _of_luma(band, candidate[rows], _RISE, out[rows])
    return out


def _light(rgb: U8, coarser: list[F32], scale: int, rows: slice) -> F32:
    """Linear light (3, rows, width) of some rows of a scale; that of the two finest is never whole in
    memory."""
    if scale > 1:
        return coarser[scale - 2][:, rows]
    if scale == 1:
        return _half(_light(rgb, coarser, 0, slice(2 * rows.start, 2 * rows.stop)))
    some = rgb[rows]
    out = np.empty((3, *some.shape[:2]), np.float32)
    _light_of(some, LIGHT, out)
    return out


def _coarser_light(rgb: U8, scales: int) -> list[F32]:
    """Linear light of the third scale and those above it."""
    firsts = range(0, (rgb.shape[0] + 1) // 2, _BAND)
    bands = [_half(_light(rgb, [], 1, slice(first, first + _BAND))) for first in firsts]
    light = [np.concatenate(bands, axis=1)]
    while len(light) < scales - 2:
        light.append(_half(light[-1]))
    return light


def _half(linear: F32) -> F32:
    """The mean of each 2 x 2 block of planes (3, height, width), at odd edges of what is there."""
    out = np.empty((3, (linear.shape[1] + 1) // 2, (linear.shape[2] + 1) // 2), np.float32)
    _halved(linear, out)
    return out


def add_plane(plane: Plane, b: F32, out: F32) -> None:
    """Adds one plane's gradient by its samples, where the candidate has ``b``."""
    _add_rows(plane, b, _factors(plane, b), 0, out)


class _Stretch:
    """A plane's statistics against a candidate's on some of the rows looked at, from ``begin`` up to
    ``end``."""

    def __init__(self, plane: Plane, b: F32, begin: int, end: int, fourths: NDArray[np.float64]) -> None:
        self.begin, step = begin, plane.step
        self._own = plane.values[begin * step :], plane.mean[begin:end], plane.variance[begin:end]
        self._step, self._b = step, b[begin * step :]
        self.maps = tuple(np.empty_like(self._own[1]) for _ in range(5))
        _moments(plane.values, b, TAPS, step, begin, *self.maps[:3])
        _errors(*self._own, self._b, step, *self.maps, fourths)

    def back(self, factors: F32) -> tuple[F32, F32, F32, F32]:
        """The plane's gradient by what was blurred of it, and by its samples themselves on these rows."""
        _back(*self._own, self._b, self._step, *self.maps, factors)
        by_mean, by_square, by_apart, _, by_sample = self.maps
        return by_mean, by_square, by_apart, by_sample


def _factors(plane: Plane, b: F32) -> F32:
    """What error, added and lost edges of one place add to the error sum: of the first power and of the
    third."""
    count, fourths = len(plane.mean), np.zeros(3)
    for begin in range(0, count, _BAND):
        _Stretch(plane, b, begin, min(begin + _BAND, count), fourths)
    fourths /= plane.mean.size
    factors = np.zeros(6, np.float32)
    factors[0::2] = plane.weights[:3] / plane.mean.size
    factors[1::2] = plane.weights[3:] * np.where(fourths > 0, fourths, np.inf) ** -0.75 / plane.mean.size
    return factors


def _add_rows(plane: Plane, b: F32, factors: F32, first: int, out: F32) -> None:
    """Adds one plane's gradient by its samples on the rows of ``out``, which begin at ``first``."""
    step, rows = plane.step, slice(first, first + len(out))
    begin = max(0, (first - RADIUS) // step)
    end = min(len(plane.mean), (rows.stop + RADIUS) // step + 1)
    *blurs, by_sample = _Stretch(plane, b, begin, end, np.zeros(3)).back(factors)
    spread = np.empty((3, *out.shape), np.float32)
    for values, target in zip(blurs, spread, strict=True):
        _spread(values, TAPS, step, begin, len(b), first, target)
    _gathered(plane.values[rows], b[rows], *spread, out)
    own = -(-first // step)
    out[own * step - first :: step] += by_sample[own - begin : -(-rows.stop // step) - begin]

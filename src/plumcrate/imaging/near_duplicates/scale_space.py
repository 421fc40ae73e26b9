"""Scale space: a picture ever more blurred, and the places that stand out in it (Lowe 2004, 3 and 4).

Everything is small (a longer side of some hundred pixels), so that a blur is two matrix products.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Reals = NDArray[np.floating[Any]]

#: Scales within an octave, the blur of its first, and the blur that a picture has already; in pixels.
_SCALES, _FIRST, _GIVEN = 3, 1.6, 0.5
#: A difference of two blurs below this (of a picture's standard deviation) is noise.
_CONTRAST = 0.015
#: Of the two curvatures at an extremum, one is at most so many times the other, or it lies on an edge.
_EDGE = 10.0
#: An octave has at least so many pixels on each side.
_LEAST_SIDE = 12
#: So far from an octave's border nothing is looked for, in pixels.
_BORDER = 4


@dataclass(frozen=True, slots=True)
class Octave:
    """Blurred planes of one size: ``step`` pixels of the picture to one of theirs."""

    step: int
    blurred: list[Reals]


@dataclass(frozen=True, slots=True)
class Extrema:
    """Places that stand out in one octave: column, row and scale in its pixels, the plane, and how much."""

    x: Reals
    y: Reals
    sigma: Reals
    plane: NDArray[np.intp]
    strength: Reals

    def only(self, chosen: NDArray[np.intp]) -> Extrema:
        """Some of them."""
        return Extrema(
            self.x[chosen], self.y[chosen], self.sigma[chosen], self.plane[chosen], self.strength[chosen]
        )


def octaves(grey: Reals) -> list[Octave]:
    """The scale space of a grey picture; empty where it is too small."""
    found: list[Octave] = []
    plane, step, given = grey, 1, _GIVEN
    while min(plane.shape) >= _LEAST_SIDE:
        blurred = [_blur(plane, _more(given, _FIRST))]
        for number in range(1, _SCALES + 3):
            blurred.append(_blur(blurred[-1], _more(_sigma(number - 1), _sigma(number))))
        found.append(Octave(step, blurred))
        plane, step, given = blurred[_SCALES][::2, ::2], step * 2, _FIRST
    return found


def extrema(octave: Octave) -> Extrema:
    """Where the difference of two blurs is more, or less, than at all 26 neighbours."""
    apart = np.stack(
        [after - before for before, after in zip(octave.blurred, octave.blurred[1:], strict=False)]
    )
    inner = apart[1:-1, 1:-1, 1:-1]
    most, least = np.full_like(inner, -np.inf), np.full_like(inner, np.inf)
    depth, height, width = apart.shape
    for plane in range(3):
        for row in range(3):
            for column in range(3):
                if plane == row == column == 1:
                    continue
                near = apart[plane : depth - 2 + plane, row : height - 2 + row, column : width - 2 + column]
                np.maximum(most, near, out=most)
                np.minimum(least, near, out=least)
    stands_out = (np.abs(inner) > _CONTRAST) & ((inner > most) | (inner < least))
    planes, rows, columns = (axis + 1 for axis in np.nonzero(stands_out))
    kept = (rows >= _BORDER) & (rows < height - _BORDER) & (columns >= _BORDER) & (columns < width - _BORDER)
    planes, rows, columns = planes[kept], rows[kept], columns[kept]
    here = apart[planes, rows, columns]
    right, left = apart[planes, rows, columns + 1], apart[planes, rows, columns - 1]
    below, above = apart[planes, rows + 1, columns], apart[planes, rows - 1, columns]
    xx, yy = right + left - 2 * here, below + above - 2 * here
    corners = apart[planes, rows + 1, columns + 1] + apart[planes, rows - 1, columns - 1]
    corners -= apart[planes, rows + 1, columns - 1] + apart[planes, rows - 1, columns + 1]
    trace, determinant = xx + yy, xx * yy - (corners / 4) ** 2
    round_ = (determinant > 0) & (trace**2 * _EDGE < (_EDGE + 1) ** 2 * determinant)
    x = columns + np.clip(_vertex(left, here, right), -0.5, 0.5)
    y = rows + np.clip(_vertex(above, here, below), -0.5, 0.5)
    sigma = _FIRST * 2.0 ** (planes / _SCALES)
    return Extrema(
        x[round_].astype(np.float32),
        y[round_].astype(np.float32),
        sigma[round_].astype(np.float32),
        planes[round_],
        np.abs(here[round_]),
    )


def _vertex(before: Reals, here: Reals, after: Reals) -> Reals:
    """Where a parabola through three samples has its vertex, from the middle one."""
    bend = before + after - 2 * here
    return np.where(bend == 0, 0, (before - after) / (2 * np.where(bend == 0, 1, bend)))


def _sigma(number: int) -> float:
    return float(_FIRST * 2 ** (number / _SCALES))


def _more(given: float, wanted: float) -> float:
    """The blur that makes one blur out of another."""
    return float(np.sqrt(max(wanted**2 - given**2, 0.01)))


def _blur(plane: Reals, sigma: float) -> Reals:
    height, width = plane.shape
    return _kernel(height, sigma) @ plane @ _kernel(width, sigma).T


def _kernel(size: int, sigma: float) -> Reals:
    """A Gaussian blur of a line as a matrix; what lies beyond its ends is as they are."""
    at = np.arange(size, dtype=np.float32)
    weights = np.exp(-((at[:, None] - at[None, :]) ** 2) / np.float32(2 * sigma**2))
    found: Reals = (weights / weights.sum(1, keepdims=True)).astype(np.float32)
    return found

"""What a judge says of a candidate: its score, and where in the picture the score was lost."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..outcome import WorstPlace

F64 = NDArray[np.float64]

#: Rows and columns of a stored map, at most: it takes no more than this squared in bytes.
MAP_SIDE = 16


@dataclass(frozen=True, slots=True)
class Judgement:
    """``score`` of the whole, and ``cells`` (rows, columns): what it would be were all like that cell.

    ``side`` is that of a cell in pixels; the last row and column reach to the picture's edge.
    """

    score: float
    cells: F64 = field(compare=False)
    side: int

    @property
    def worst(self) -> float:
        """The score of the worst cell."""
        return float(self.cells.min())

    def with_worse(self, other: Judgement) -> Judgement:
        """The worse of two judgements of one candidate, everywhere."""
        return Judgement(min(self.score, other.score), np.minimum(self.cells, other.cells), self.side)

    def turned(self, orientation: int) -> Judgement:
        """The same of the picture turned upright from an Exif orientation, 1 to 8."""
        cells = self.cells
        if orientation >= 5:
            cells = cells.T
        if orientation in (2, 3, 6, 7):
            cells = cells[:, ::-1]
        if orientation in (3, 4, 7, 8):
            cells = cells[::-1]
        return Judgement(self.score, cells, self.side)

    def worst_place(self, size: tuple[int, int]) -> WorstPlace:
        """The worst place of a picture of ``size`` (width, height), turned as it was judged."""
        rows, columns = self.cells.shape
        row, column = np.unravel_index(int(self.cells.argmin()), self.cells.shape)
        middles = []
        for number, count, length in ((column, columns, size[0]), (row, rows, size[1])):
            end = length if number == count - 1 else (number + 1) * self.side
            middles.append(float((number * self.side + end) / 2 / length))
        each_row, each_column = -(-rows // MAP_SIDE), -(-columns // MAP_SIDE)
        coarse = np.minimum.reduceat(self.cells, np.arange(0, rows, each_row), axis=0)
        coarse = np.minimum.reduceat(coarse, np.arange(0, columns, each_column), axis=1)
        lost = np.rint(np.clip(100 - coarse, 0, 255)).astype(np.uint8)
        return WorstPlace(
            round(self.worst, 2), round(middles[0], 4), round(middles[1], 4), lost.shape[1], lost.tobytes()
        )

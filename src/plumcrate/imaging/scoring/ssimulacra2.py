"""SSIMULACRA2, the perceptual score that every level promises.

Definition and weights: Jon Sneyers, "SSIMULACRA 2", 2022 (version 2.1); the code is our own. The XYB colour
space is that of JPEG XL (ISO/IEC 18181-1). Six error statistics (structure, added edges, lost edges; mean and
4-norm) of the XYB planes at up to six scales are weighted and mapped to one figure:

* 100 identical; 90 cannot be told apart when flicked between; 80 cannot be told apart side by
  side; 70 hard to notice without the original; 50 medium; below 0 very strong distortion.

Ours leaves out the planes whose weights are nearly nothing (effect below 0.002 points) and, at
the finest scale, evaluates every second row (effect below 0.05 points on photographs).
A reference picture's side is computed once and kept for any number of candidates.

The same statistics, taken over a cell of the picture alone, say what the score would be were all of it like
that cell: :class:`Judgement` keeps them as a map of where the score was lost.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..srgb import LIGHT
from .judgement import Judgement
from .kernels import TAPS, Cells, coarser_scale, compare_plane, finest_scale, local_moments

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]

SCALES = 5
#: Smaller pictures are mirrored up to this side, so that every scale has something to measure.
SMALLEST_SIDE = 8 << (SCALES - 1)
#: Side of the cells that are judged on their own, in pixels of the finest scale.
CELL = 64
_Y, _X, _B = 0, 1, 2
_PLANES: tuple[tuple[int, ...], ...] = ((_Y,), (_Y, _X), (_Y, _X), (_Y, _X, _B), (_Y, _X, _B))
_ROW_STEP = (2, 1, 1, 1, 1)
#: The published weights by plane (X, Y, B), scale (0 to 5) and statistic: the means of structure
#: error, added edges and lost edges, then the 4-norms of the same.
# fmt: off
_WEIGHTS = np.array([
    # X
    0.0, 0.0007376606707406586, 0.0, 0.0, 0.0007793481682867309, 0.0,
    0.0, 0.0004371155730107379, 0.0, 1.1041726426657346, 0.00066284834129271, 0.00015231632783718752,
    0.0, 0.0016406437456599754, 0.0, 1.8422455520539298, 11.441172603757666, 0.0,
    0.0007989109436015163, 0.000176816438078653, 0.0, 1.8787594979546387, 10.94906990605142, 0.0,
    0.0007289346991508072, 0.9677937080626833, 0.0,
    0.00014003424285435884, 0.9981766977854967, 0.00031949755934435053,
    0.0004550992113792063, 0.0, 0.0, 0.0013648766163243398, 0.0, 0.0,
    # Y
    0.0, 0.0, 0.0, 7.466890328078848, 0.0, 17.445833984131262,
    0.0006235601634041466, 0.0, 0.0, 6.683678146179332, 0.00037724407979611296, 1.027889937768264,
    225.20515300849274, 0.0, 0.0, 19.213238186143016, 0.0011401524586618361, 0.001237755635509985,
    176.39317598450694, 0.0, 0.0, 24.43300999870476, 0.28520802612117757, 0.0004485436923833408,
    0.0, 0.0, 0.0, 34.77906344483772, 44.835625328877896, 0.0,
    0.0, 0.0, 0.0, 0.0, 0.0, 0.0,
    # B
    0.0, 0.0008680556573291698, 0.0, 0.0, 0.0, 0.0,
    0.0, 0.0005313191874358747, 0.0, 0.00016533814161379112, 0.0, 0.0,
    0.0, 0.0, 0.0, 0.0004179171803251336, 0.0017290828234722833, 0.0,
    0.0020827005846636437, 0.0, 0.0, 8.826982764996862, 23.19243343998926, 0.0,
    95.1080498811086, 0.9863978034400682, 0.9834382792465353,
    0.0012286405048278493, 171.2667255897307, 0.9807858872435379,
    0.0, 0.0, 0.0, 0.0005130064588990679, 0.0, 0.00010854057858411537,
]).reshape(3, 6, 6)
# fmt: on
_WEIGHT_ROW = {_X: 0, _Y: 1, _B: 2}


@dataclass(frozen=True, slots=True)
class Plane:
    """The reference's side of one plane of one scale."""

    which: int
    scale: int
    values: F32
    mean: F32
    variance: F32

    @property
    def step(self) -> int:
        """Every so many rows are looked at; mean and variance are of these."""
        return _ROW_STEP[self.scale]

    @property
    def weights(self) -> NDArray[np.float64]:
        """Of the means of structure error, added and lost edges, and of their 4-norms."""
        return np.asarray(_WEIGHTS[_WEIGHT_ROW[self.which], self.scale])


def _at_least_smallest(rgb: U8) -> U8:
    """Mirrors a picture that is smaller than the coarsest scale needs."""
    height, width = rgb.shape[:2]
    if min(height, width) >= SMALLEST_SIDE:
        return np.ascontiguousarray(rgb)
    grow = ((0, max(0, SMALLEST_SIDE - height)), (0, max(0, SMALLEST_SIDE - width)), (0, 0))
    return np.ascontiguousarray(np.pad(rgb, grow, mode="symmetric"))


def xyb_scales(rgb: U8) -> Iterator[F32]:
    """The XYB planes of each scale, each (3, height, width) in the order Y, X, B; the finest first."""
    rgb = _at_least_smallest(rgb)
    height, width = rgb.shape[:2]
    linear = np.empty((3, 0, 0), np.float32)
    for scale, planes in enumerate(_PLANES):
        xyb = np.empty((len(planes), height, width), np.float32)
        height, width = (height + 1) // 2, (width + 1) // 2
        half = np.empty((3, height, width), np.float32)
        if scale == 0:
            finest_scale(rgb, LIGHT, xyb, half)
        else:
            coarser_scale(linear, _X in planes, _B in planes, xyb, half)
        linear = half
        yield xyb
        del xyb


class Reference:
    """An opaque sRGB picture, (height, width, 3) uint8, made ready to be compared with."""

    def __init__(self, rgb: U8) -> None:
        self.shape = rgb.shape
        self.planes: list[Plane] = []
        for scale, xyb in enumerate(xyb_scales(rgb)):
            step = _ROW_STEP[scale]
            rows = (xyb.shape[1] + step - 1) // step
            for which in _PLANES[scale]:
                mean = np.empty((rows, xyb.shape[2]), np.float32)
                variance = np.empty_like(mean)
                local_moments(xyb[which], TAPS, step, mean, variance)
                self.planes.append(Plane(which, scale, xyb[which], mean, variance))

    def judge(self, rgb: U8) -> Judgement:
        """The SSIMULACRA2 score of a candidate of the same shape, at most 100, and of each of its cells.

        Raises ValueError when the shapes differ.
        """
        if rgb.shape != self.shape:
            raise ValueError(f"the candidate is {rgb.shape}, the reference {self.shape}")
        rows, columns = (_cell_count(side) for side in self.shape[:2])
        sums = np.empty((rows, columns, 6), np.float64)
        whole, each = np.zeros(()), np.zeros((rows, columns))
        scales = xyb_scales(rgb)
        for scale in range(SCALES):
            xyb = next(scales)
            for plane in (plane for plane in self.planes if plane.scale == scale):
                candidate = xyb[plane.which]
                cells, counts = _cells(candidate.shape, self.shape, scale, plane.step)
                compare_plane(
                    plane.values, plane.mean, plane.variance, candidate, TAPS, plane.step, cells, sums
                )
                weights = plane.weights
                whole += _weighed(sums.sum(axis=(0, 1)) / counts.sum(), weights)
                each += _weighed(sums / counts[:, :, None], weights)
            del xyb, candidate  # before the next scale is made
        return Judgement(float(_to_points(whole)), _to_points(each), CELL)

    def score(self, rgb: U8) -> float:
        """The score alone."""
        return self.judge(rgb).score


def _cell_count(side: int) -> int:
    return max(1, round(side / CELL))


def _cells(
    shape: tuple[int, ...], whole: tuple[int, ...], scale: int, step: int
) -> tuple[Cells, NDArray[np.float64]]:
    """Where the cells of a scale begin, and how many samples each has; the last ones reach to the end."""
    edges = []
    for axis in (1, 0):
        count = _cell_count(whole[axis])
        edges.append(np.append(np.arange(count) * (CELL >> scale), shape[axis]).astype(np.int64))
    across, down = edges
    rows = np.diff(-(-down // step))
    return (across, down), np.outer(rows, np.diff(across)).astype(np.float64)


def _weighed(statistics: NDArray[np.float64], weights: NDArray[np.float64]) -> NDArray[np.float64]:
    """The weighted sum of a plane's means and 4-norms, given as (..., 6) means of powers 1 and 4 in turn."""
    # The published order is mean (structure, added, lost), then 4-norm of the same.
    mean, norm4 = statistics[..., 0::2], statistics[..., 1::2] ** 0.25
    return np.asarray(np.concatenate([mean, norm4], axis=-1) @ weights)


def _to_points(total: NDArray[np.float64]) -> NDArray[np.float64]:
    """The published mapping from the weighted error sum to points."""
    x = np.maximum(total * 0.9562382616834844, 0.0)
    x = 2.326765642916932 * x - 0.020884521182843837 * x * x + 6.248496625763138e-05 * x * x * x
    return np.asarray(100.0 - 10.0 * np.maximum(x, 0.0) ** 0.6276336467831387)

"""Lossy JPEG: our tables, our quantization, our scans; from pixels, or from a JPEG's own coefficients.

Chroma is quantized first; then luma, moved by what chroma's loss would change in light
(:mod:`.luminance`). A JPEG source's luma is requantized from its own coefficients, which spares it the
rounding of one more decode and encode. Its chroma is taken from the pixels that decoders show: measured
on photographs that is smaller at an equal score.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ..kinds import EVERYTHING, Keep
from ..metadata.in_jpeg import jpeg_segments
from .arrays import I16, U8
from .calm import calm_part, calmness, join
from .decode import Decoded
from .encode import Encoder
from .luminance import shifted_bands
from .masking import masking, over_chroma
from .quantize import quantize
from .segments import Component, Frame, is_ycc, metadata_for_rewriting
from .transform import (
    F32,
    ZIGZAG,
    blocks_of,
    coefficients_of,
    frame_for,
    planes_of,
    stored_chroma,
)

#: Lambda of the quantization at step 80, in squared quantization steps a bit, and how it changes.
_WEIGHT = 0.07
_FADE = 36.0
_MOST_WEIGHT = 0.2

#: How strongly lambda follows a block's sensitivity, by how much of what its neighbours add the source is
#: moved, and the part of blocks whose sensitivity is too small to be known.
_FOLLOWS, _STRIDE, _LEAST_KNOWN = 0.5, 0.1, 0.02
_LITTLE = np.float32(1e-3)
#: Blocks that are gone through together.
_SOME = 1 << 14
#: Part that the blocks on each side have in a block's sensitivity.
_BESIDE = np.float32(0.25)
#: How far from the picture's usual lambda may go.
_LEAST, _MOST = 0.25, 4.0
#: What is left of lambda in blocks of fine grain, where that is to stay, and the root mean square of such a
#: block's coefficients but the lowest: below it is nothing to see, above an edge.
_SPARED, _FAINT, _EDGE = 0.05, 0.8, 14.0
#: Coefficients, in zigzag order, that are no grain.
_LOWEST = 6

_DISTANCE = np.array([math.hypot(raster & 7, raster >> 3) for raster in ZIGZAG])
#: Quantization step at DC and its growth with the distance from it: Y, Cb, Cr.
_TABLES = ((5.5, 3.2), (5.4, 4.4), (10.6, 1.85))


#: What is left of the steps of the mean and of both slopes in a calm picture, or where quality is high:
#: Y, Cb, Cr; and from which step on how fast it is high.
_FINER = ((0.6, 0.65), (0.35, 0.5), (0.35, 0.5))
_HIGH, _HIGHER, _HIGHEST = 76, 20, 1.3


def quantization_tables(step: float, calm: float = 0.0) -> dict[int, NDArray[np.uint16]]:
    """Tables of Y (0), Cb (1) and Cr (2), zigzag, for a quality step: 80 is ordinary, 12 more halve them.
    ``calm``: how much the picture is one of calm places (:mod:`.calm`), 0 to 1.

    The steps grow in proportion to the distance from DC in frequency, slower than in the tables of
    T.81 Annex K: fitted on photographs for the smallest file at an equal score.
    """
    scale = 2.0 ** ((80 - step) / 12)
    much = max(calm, min((step - _HIGH) / _HIGHER, _HIGHEST))
    tables = {}
    for number, ((base, growth), (mean, slope)) in enumerate(zip(_TABLES, _FINER, strict=True)):
        steps = scale * (base + growth * _DISTANCE)
        steps[0] *= mean**much
        steps[1:3] *= slope**much
        tables[number] = np.clip(np.rint(steps), 1, 255).astype(np.uint16)
    return tables


class LossyEncoder:
    """One picture with one chroma sampling, to be encoded at any number of steps."""

    def __init__(self, rgb: U8, *, grey: bool, subsampled: bool, metadata: list[bytes] | None = None) -> None:
        """``rgb`` is (height, width, 3) uint8, sRGB or whatever the metadata's profile says."""
        self._rgb = rgb
        self._frame = frame_for(rgb.shape[1], rgb.shape[0], grey=grey, subsampled=subsampled)
        self._frame.metadata = metadata or []
        planes = planes_of(rgb)
        self._values = coefficients_of(planes, self._frame)
        self._texture = masking(planes[0], self._frame)
        self._calm = calmness(planes, self._frame)
        self._calm_part = calm_part(self._calm, self._frame)
        self.forget()

    def forget(self) -> None:
        """Goes back to what is known of the picture alone: how much error each block hides."""
        self._moved: F32 | None = None  # by how much luma's coefficients are moved before they are quantized
        self._masking = self._texture
        self._spared: F32 | None = None  # what is left of each luma block's lambda, that its grain may stay
        self._made: tuple[int, I16] | None = None  # the last step and its levels

    def keep_grain(self) -> None:
        """Rounds fine grain as it is from now on, where the cheapest levels would smooth it away."""
        if self._spared is not None:
            return
        fine = self._values[self._frame.components[0].blocks][:, _LOWEST:]
        grain = np.sqrt(np.einsum("bk,bk->b", fine, fine) / np.float32(64))
        grainy = (grain >= _FAINT) & (grain <= _EDGE)
        self._spared = np.where(grainy, np.float32(_SPARED), np.float32(1))
        self._made = None

    @classmethod
    def of_jpeg(
        cls,
        data: bytes,
        decoded: Decoded | None,
        rgb: U8,
        *,
        grey: bool,
        subsampled: bool,
        keep: Keep = EVERYTHING,
    ) -> LossyEncoder:
        """For a JPEG source, what :func:`~.decode.decode` made of it, and its pixels.

        ``decoded`` is None where only other decoders make a picture of it, which is enough.
        """
        metadata = jpeg_segments(metadata_for_rewriting(data), keep)
        encoder = cls(rgb, grey=grey, subsampled=subsampled, metadata=metadata)
        if decoded is None:
            return encoder
        frame, coefficients, _ = decoded
        if is_ycc(frame) and (len(frame.components) == 1) == grey:
            encoder._take_luma(frame, coefficients)
        return encoder

    def _take_luma(self, source: Frame, coefficients: I16) -> None:
        theirs, ours = source.components[0], self._frame.components[0]
        if (theirs.down, theirs.across) != (ours.down, ours.across):
            return  # a luma of less than full size
        table = source.quantization[theirs.table].astype(np.float32)
        grid = coefficients[theirs.blocks].reshape(theirs.rows, theirs.stride, 64)
        mine = self._values[ours.blocks].reshape(ours.rows, ours.stride, 64)
        np.multiply(grid[: ours.down, : ours.across], table, out=mine[: ours.down, : ours.across])

    def encode(self, step: int, *, searched: bool) -> bytes:
        """A JPEG file at a quality step; ``searched`` looks for the cheapest scans, which takes longer."""
        if self._made is None or self._made[0] != step:
            self._made = None  # before more memory is taken
            self._made = step, self._quantized(step)
        self._frame.quantization = self._tables(step)
        encoder = Encoder(self._frame, self._made[1])
        return encoder.encode() if searched else encoder.sequential()

    def refine(self, gradient: F32) -> None:
        """Makes luma's bits go where a score asks for them: how it changes with each luma sample of the last
        encode as it is decoded, (height, width), in any scale.

        A block's error is taken to cost S times its square; S and what its neighbours' errors add to it are
        read off the gradient. Lambda follows S, and the source is moved a little against the rest.
        """
        if self._made is None:
            return
        step, levels = self._made
        luma = self._frame.components[0]
        table = self._tables(step)[luma.table].astype(np.float32)
        lost = self._values[luma.blocks].copy()
        self._make_up(levels, lost)
        for some in range(0, len(lost), _SOME):
            lost[some : some + _SOME] -= levels[luma.blocks][some : some + _SOME] * table
        steepness = blocks_of(gradient, luma.rows, luma.stride)
        squares = _around(np.einsum("bk,bk->b", lost, lost), luma) + _LITTLE
        sensitivity = _around(-np.einsum("bk,bk->b", steepness, lost), luma) / squares
        known = sensitivity > 0
        if not known.any():
            return
        least = np.quantile(sensitivity[known], _LEAST_KNOWN)
        sensitivity = np.maximum(sensitivity, least)
        logarithms = np.log(sensitivity)
        factors = np.clip(np.exp(-_FOLLOWS * (logarithms - logarithms.mean())), _LEAST, _MOST)
        self._masking = over_chroma(factors.reshape(luma.rows, luma.stride), self._frame)
        # In place: these are as large as the picture.
        steepness /= sensitivity[:, None]
        steepness += lost
        np.clip(steepness, -table / 2, table / 2, out=steepness)
        steepness *= np.float32(-_STRIDE)
        self._moved = steepness
        self._made = None

    def _make_up(self, levels: I16, luma: F32) -> None:
        """Moves coefficients of luma for what the decoded chroma of ``levels`` changes in light."""
        of, *chroma = self._frame.components
        if not chroma:
            return
        for band in shifted_bands(self._rgb, stored_chroma(self._frame, levels)):
            first = band.rows.start // 8
            # The last band reaches to the end of the last whole row of the frame's units.
            last = of.rows if band.rows.stop == len(self._rgb) else band.rows.stop // 8
            shift = blocks_of(band.shift, last - first, of.stride)
            luma[first * of.stride : last * of.stride] += shift

    def _tables(self, step: int) -> dict[int, NDArray[np.uint16]]:
        tables = quantization_tables(step, self._calm_part)
        return {component.table: tables[component.table] for component in self._frame.components}

    def _quantized(self, step: int) -> I16:
        frame = self._frame
        frame.quantization = self._tables(step)
        weights = min(_WEIGHT * 2.0 ** ((80 - step) / _FADE), _MOST_WEIGHT) * self._masking
        if self._spared is not None:
            weights[frame.components[0].blocks] *= self._spared
        levels = np.empty(self._values.shape, np.int16)
        luma, *chroma = frame.components
        for component in chroma:
            levels[component.blocks] = self._rounded(component, self._values[component.blocks], weights)
        own = self._values[luma.blocks].copy()
        self._make_up(levels, own)
        if self._moved is not None:
            own += self._moved
        levels[luma.blocks] = self._rounded(luma, own, weights)
        return levels

    def _rounded(self, component: Component, values: F32, weights: F32) -> I16:
        table, span = self._frame.quantization[component.table], component.blocks
        levels = quantize(values, table, weights[span])
        join(values, table, self._calm[span], weights[span], component, levels)
        return levels


def _around(values: F32, component: Component) -> F32:
    """A figure of each block with a part of those beside it, which makes it less noisy."""
    grid = np.pad(values.reshape(component.rows, component.stride), 1, mode="edge")
    rows = grid[1:-1] + _BESIDE * (grid[:-2] + grid[2:])
    return np.asarray((rows[:, 1:-1] + _BESIDE * (rows[:, :-2] + rows[:, 2:])).ravel())

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
from .decode import decode
from .encode import Encoder
from .luminance import luma_shift
from .masking import masking
from .quantize import quantize
from .segments import Frame, JpegError, is_ycc, metadata_for_rewriting
from .transform import (
    ZIGZAG,
    blocks_of,
    chroma_as_decoded,
    coefficients_of,
    frame_for,
    planes_of,
)  # fmt: skip

#: Lambda of the quantization at step 80, in squared quantization steps a bit, and how it changes.
_WEIGHT = 0.07
_FADE = 36.0
_MOST_WEIGHT = 0.2

_DISTANCE = np.array([math.hypot(raster & 7, raster >> 3) for raster in ZIGZAG])
#: Quantization step at DC and its growth with the distance from it: Y, Cb, Cr.
_TABLES = ((5.5, 3.2), (5.4, 4.4), (10.6, 1.85))


def quantization_tables(step: float) -> dict[int, NDArray[np.uint16]]:
    """Tables of Y (0), Cb (1) and Cr (2), zigzag, for a quality step: 80 is ordinary, 12 more halve them.

    The steps grow in proportion to the distance from DC in frequency, slower than in the tables of
    T.81 Annex K: fitted on photographs for the smallest file at an equal score.
    """
    scale = 2.0 ** ((80 - step) / 12)
    return {
        number: np.clip(np.rint(scale * (base + growth * _DISTANCE)), 1, 255).astype(np.uint16)
        for number, (base, growth) in enumerate(_TABLES)
    }


class LossyEncoder:
    """One picture with one chroma sampling, to be encoded at any number of steps."""

    def __init__(self, rgb: U8, *, grey: bool, subsampled: bool, metadata: list[bytes] | None = None) -> None:
        """``rgb`` is (height, width, 3) uint8, sRGB or whatever the metadata's profile says."""
        self._rgb = rgb
        self._frame = frame_for(rgb.shape[1], rgb.shape[0], grey=grey, subsampled=subsampled)
        self._frame.metadata = metadata or []
        self._planes = planes_of(rgb)
        self._values = coefficients_of(self._planes, self._frame)
        self._masking = masking(self._planes[0], self._frame)

    @classmethod
    def of_jpeg(
        cls, data: bytes, rgb: U8, *, grey: bool, subsampled: bool, keep: Keep = EVERYTHING
    ) -> LossyEncoder:
        """For a JPEG source and its decoded pixels."""
        metadata = jpeg_segments(metadata_for_rewriting(data), keep)
        encoder = cls(rgb, grey=grey, subsampled=subsampled, metadata=metadata)
        try:
            frame, coefficients, _ = decode(data)
        except JpegError:
            return encoder  # decoders make a picture of it; that they do is all that is needed
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
        frame = self._frame
        tables = quantization_tables(step)
        frame.quantization = {component.table: tables[component.table] for component in frame.components}
        weights = min(_WEIGHT * 2.0 ** ((80 - step) / _FADE), _MOST_WEIGHT) * self._masking
        levels = np.empty(self._values.shape, np.int16)
        luma, *chroma = frame.components
        for component in chroma:
            span = component.blocks
            levels[span] = quantize(self._values[span], tables[component.table], weights[span])
        own = self._values[luma.blocks]
        if chroma:
            shift = luma_shift(self._rgb, self._planes, chroma_as_decoded(frame, levels))
            own = own + blocks_of(shift, luma)
        levels[luma.blocks] = quantize(own, tables[luma.table], weights[luma.blocks])
        encoder = Encoder(frame, levels)
        return encoder.encode() if searched else encoder.sequential()

"""Lossy JPEG: our tables, our quantization, our scans; from pixels, or from a JPEG's own coefficients.

A JPEG source with the same chroma sampling is requantized from its coefficients, which spares it the
rounding of one more decode and encode.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from .arrays import U8
from .decode import decode
from .encode import Encoder
from .quantize import quantize
from .segments import Frame, JpegError, is_ycc, metadata_for_rewriting
from .transform import F32, ZIGZAG, coefficients_of, frame_for

#: Lambda of the quantization at step 80, in squared quantization steps a bit, and how it changes.
_WEIGHT = 0.07
_FADE = 24.0

_DISTANCE = np.array([math.hypot(raster & 7, raster >> 3) for raster in ZIGZAG])


def quantization_tables(step: float) -> dict[int, NDArray[np.uint16]]:
    """Luma (0) and chroma (1) tables, zigzag, for a quality step: 80 is ordinary, 12 more halve them.

    The steps grow in proportion to the distance from DC in frequency, slower than in the tables of
    T.81 Annex K: fitted on photographs for the smallest file at an equal score.
    """
    scale = 2.0 ** ((80 - step) / 12)
    raw = {0: 6.0 + 3.0 * _DISTANCE, 1: 9.0 + 2.2 * _DISTANCE}
    return {
        number: np.clip(np.rint(scale * table), 1, 255).astype(np.uint16) for number, table in raw.items()
    }


class LossyEncoder:
    """One picture with one chroma sampling, to be encoded at any number of steps."""

    def __init__(self, frame: Frame, values: F32, metadata: list[bytes]) -> None:
        self._frame = frame
        self._values = values
        frame.metadata = metadata

    @classmethod
    def of_jpeg(cls, data: bytes, rgb: U8, *, grey: bool, subsampled: bool) -> LossyEncoder:
        """For a JPEG source and its decoded pixels: from its coefficients where they fit."""
        metadata = metadata_for_rewriting(data)
        try:
            frame, coefficients, _ = decode(data)
        except JpegError:
            return cls.from_pixels(rgb, grey=grey, subsampled=subsampled, metadata=metadata)
        made = None
        if is_ycc(frame) and (len(frame.components) == 1) == grey:
            made = cls.from_coefficients(frame, coefficients, subsampled=subsampled, metadata=metadata)
        return made or cls.from_pixels(rgb, grey=grey, subsampled=subsampled, metadata=metadata)

    @classmethod
    def from_pixels(cls, rgb: U8, *, grey: bool, subsampled: bool, metadata: list[bytes]) -> LossyEncoder:
        """``rgb`` is (height, width, 3) uint8, sRGB or whatever the metadata's profile says."""
        frame = frame_for(rgb.shape[1], rgb.shape[0], grey=grey, subsampled=subsampled)
        return cls(frame, coefficients_of(rgb, frame), metadata)

    @classmethod
    def from_coefficients(
        cls, source: Frame, coefficients: NDArray[np.int16], *, subsampled: bool, metadata: list[bytes]
    ) -> LossyEncoder | None:
        """From a source's own coefficients; None when its sampling is another."""
        grey = len(source.components) == 1
        frame = frame_for(source.width, source.height, grey=grey, subsampled=subsampled)
        if [(c.horizontal, c.vertical) for c in source.components] != [
            (c.horizontal, c.vertical) for c in frame.components
        ]:
            return None
        values = np.empty(coefficients.shape, np.float32)
        for component in source.components:
            span = slice(component.first, component.first + component.rows * component.stride)
            table = source.quantization[component.table].astype(np.float32)
            np.multiply(coefficients[span], table, out=values[span])
        return cls(frame, values, metadata)

    def encode(self, step: int, *, searched: bool) -> bytes:
        """A JPEG file at a quality step; ``searched`` looks for the cheapest scans, which takes longer."""
        self._frame.quantization = quantization_tables(step)
        if len(self._frame.components) == 1:
            del self._frame.quantization[1]
        weight = _WEIGHT * 2.0 ** ((80 - step) / _FADE)
        encoder = Encoder(self._frame, quantize(self._frame, self._values, min(weight, 0.14)))
        return encoder.encode() if searched else encoder.sequential()

"""Making a JPEG smaller without changing a coefficient, proven on the result."""

from __future__ import annotations

import numpy as np

from ..kinds import EVERYTHING, Keep
from ..metadata.in_jpeg import jpeg_segments
from .decode import decode
from .encode import Encoder
from .segments import JpegError


def recompress(data: bytes, keep: Keep = EVERYTHING) -> bytes:
    """The same picture in fewer bytes, or ``data`` itself when there is no smaller way.

    Coefficients, tables and sampling stay as they are; so do the metadata to ``keep`` but for embedded
    thumbnails, and whatever follows the end marker when everything is kept. The result is decoded again
    and compared before it is returned. Raises :class:`~.segments.JpegError` for files that are not read
    here, truncated ones among them.
    """
    frame, coefficients, rest = decode(data)
    frame.metadata = jpeg_segments(frame.metadata, keep)
    if keep != EVERYTHING:
        rest = b""
    smaller = Encoder(frame, coefficients).encode() + rest
    if len(smaller) >= len(data):
        return data
    again, same, _ = decode(smaller)
    identical = (
        np.array_equal(coefficients, same)
        and (again.width, again.height) == (frame.width, frame.height)
        and again.metadata == frame.metadata
        and [(c.identifier, c.horizontal, c.vertical) for c in again.components]
        == [(c.identifier, c.horizontal, c.vertical) for c in frame.components]
        and all(
            np.array_equal(again.quantization[a.table], frame.quantization[b.table])
            for a, b in zip(again.components, frame.components, strict=True)
        )
    )
    if not identical:
        raise JpegError("the recompressed JPEG was not identical, so it was thrown away")
    return smaller

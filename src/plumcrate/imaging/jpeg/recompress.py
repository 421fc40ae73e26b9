"""Making a JPEG smaller without changing a coefficient, proven on the result."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..kinds import EVERYTHING, Keep
from ..metadata.in_jpeg import jpeg_segments
from .arrays import I16
from .decode import Decoded, decode
from .encode import Encoder
from .further import has_film, has_gain_map, is_index, with_further
from .segments import Component, JpegError


def shown(coefficients: I16, component: Component) -> I16:
    """A component's blocks without the padding up to whole MCUs, which scans of one component leave out."""
    grid = coefficients[component.blocks].reshape(component.rows, component.stride, 64)
    return grid[: component.down, : component.across]


def recompress(data: bytes, keep: Keep = EVERYTHING, decoded: Decoded | None = None) -> bytes:
    """The same picture in fewer bytes, or ``data`` itself when there is no smaller way.

    Coefficients, tables and sampling stay as they are; so do the metadata to ``keep`` but for embedded
    thumbnails, and whatever follows the end marker when everything is kept or a gain map is there, which is
    part of the looks. ``decoded``: what :func:`~.decode.decode` made of ``data``. The result is decoded again
    and compared before it is returned.
    Raises :class:`~.segments.JpegError` for files that are not read here, truncated ones among them.
    """
    frame, coefficients, rest = decoded or decode(data)
    everything = keep == EVERYTHING
    further = everything or has_gain_map(frame.metadata, rest)
    if further and not everything and has_film(frame.metadata):
        raise JpegError("a film follows the gain map, and one cannot be told of without the other")
    frame = replace(frame, metadata=jpeg_segments(frame.metadata, keep, further=further))
    smaller = Encoder(frame, coefficients).encode()
    if further:
        smaller = with_further(smaller, rest, data, whole=everything)
    if len(smaller) >= len(data):
        return data
    again, same, _ = decode(smaller)
    identical = (
        all(np.array_equal(shown(coefficients, c), shown(same, c)) for c in frame.components)
        and (again.width, again.height) == (frame.width, frame.height)
        and [*map(len, again.metadata)] == [*map(len, frame.metadata)]
        and all(
            one == other or is_index(one) for one, other in zip(again.metadata, frame.metadata, strict=True)
        )
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

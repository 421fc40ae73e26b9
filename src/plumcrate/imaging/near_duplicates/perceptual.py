"""What is kept of a picture to know its near duplicates by."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

#: A feature on record: its place in 1/65535 of the width and height, its scale in 1/16 octaves of 1/1024 of
#: the longer side, its direction in 1/256 turns, and its bits.
FEATURE = np.dtype([("x", "<u2"), ("y", "<u2"), ("scale", "u1"), ("direction", "u1"), ("bits", "<u8")])
#: At most so many features are kept.
MOST_FEATURES = 64
#: The side of the thumbnail, in pixels; both sides, whatever the picture's shape.
THUMBNAIL = 48


@dataclass(frozen=True, slots=True)
class PerceptualHash:
    """``width`` and ``height`` as the picture is seen, ``features`` of type :data:`FEATURE`, strongest first,
    and ``thumbnail``, ``THUMBNAIL`` x ``THUMBNAIL`` luma."""

    width: int
    height: int
    features: NDArray[np.void]
    thumbnail: NDArray[np.uint8]

    def as_bytes(self) -> bytes:
        """For a record: the thumbnail, then the features."""
        return self.thumbnail.tobytes() + self.features.tobytes()

    @classmethod
    def of_bytes(cls, width: int, height: int, data: bytes) -> PerceptualHash:
        """As :meth:`as_bytes` gave it."""
        size = THUMBNAIL * THUMBNAIL
        thumbnail = np.frombuffer(data, np.uint8, size).reshape(THUMBNAIL, THUMBNAIL)
        return cls(width, height, np.frombuffer(data, FEATURE, offset=size), thumbnail)


def is_hash(data: bytes) -> bool:
    """Whether some bytes have the form of :meth:`PerceptualHash.as_bytes`."""
    features, rest = divmod(len(data) - THUMBNAIL * THUMBNAIL, FEATURE.itemsize)
    return rest == 0 and 0 <= features <= MOST_FEATURES

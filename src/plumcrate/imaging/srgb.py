"""The one curve between sRGB values and linear light (IEC 61966-2-1)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]


def to_light(values: F64) -> F64:
    """Linear light of sRGB values, both from 0 to 1."""
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


def to_values(light: F64) -> F64:
    """sRGB values of linear light, both from 0 to 1."""
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)


#: Linear light of each 8-bit value.
LIGHT: F32 = to_light(np.arange(256) / 255.0).astype(np.float32)

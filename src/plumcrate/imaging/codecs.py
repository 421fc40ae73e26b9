"""WebP and AVIF through the codec libraries: a decoded Pillow picture in, a file out.

Each encoder uses one thread, so that the number of pictures in hand alone decides how much of the
machine is used. What goes with the picture (profile, rights) is passed as Pillow's save options.
"""

from __future__ import annotations

import io
import math
from typing import Any

import numpy as np
from PIL import Image

from .aim import Knob
from .jpeg.luminance import subsampling_shift
from .recipe import Effort

Extras = dict[str, Any]


def _webp_axis(quality: float) -> float:
    """What the WebP library makes of its quality: a bent line, then a cube root."""
    part = quality / 100
    return float(100 * (part * 2 / 3 if part < 0.75 else 2 * part - 1) ** (1 / 3))


def _webp_quality(place: float) -> float:
    part = (max(0.0, place) / 100) ** 3
    return 100 * (part * 1.5 if part < 0.5 else (part + 1) / 2)


# Priors: medians over photographs at 800 to 2560 px; see docs/imaging/aim.md.
JPEG = Knob(lowest=20, highest=118, prior={70.0: 74, 80.0: 85, 90.0: 103}, slope=0.043)
WEBP = Knob(
    lowest=20, highest=99, prior={70.0: 66, 80.0: 85, 90.0: 96},
    slope=0.054, axis=_webp_axis, back=_webp_quality,
)  # fmt: skip
#: In the AV1 encoder's own 64 quantizers, finest last: steps of quality between them change nothing.
AVIF = Knob(lowest=8, highest=61, prior={70.0: 29, 80.0: 40, 90.0: 55}, slope=0.043)


def knob_of(encoder: str, quality: int) -> int:
    """An encoder's usual quality, 1 to 100, in the units of our knob for it.

    For JPEG the step at which our luma table is on the mean as coarse as that of T.81 Annex K scaled in
    the way of the IJG's library for the quality.
    """
    if encoder == "webp":
        return quality
    if encoder == "avif":
        return round(quality * 63 / 100)
    percent = 5000 / quality if quality < 50 else max(200 - 2 * quality, 1)
    return round(min(130.0, 80 - 12 * math.log2(percent / 40)))


WEBP_LIMIT = 16_383
#: The fastest AVIF speed worth using; probes are made at it.
AVIF_PROBE_SPEED = 8
_WEBP_METHODS = {Effort.QUICK: 3, Effort.NORMAL: 4, Effort.THOROUGH: 6}
#: What measurably helps the score in the AV1 encoder's still-picture tuning.
_AVIF_TUNING = {"tune": "ssimulacra2", "sharpness": "3"}


def _saved(image: Image.Image, kind: str, **options: Any) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def for_half_chroma(image: Image.Image) -> Image.Image:
    """An opaque or transparent RGB picture with luma moved for what halving its chroma will lose."""
    values = np.asarray(image)
    shift = subsampling_shift(np.ascontiguousarray(values[:, :, :3]))
    moved = np.clip(np.rint(values[:, :, :3] + shift[:, :, None]), 0, 255).astype(np.uint8)
    if values.shape[2] == 4:
        moved = np.concatenate([moved, values[:, :, 3:]], axis=2)
    return Image.fromarray(moved)


def encode_webp(image: Image.Image, quality: int, extras: Extras, effort: Effort) -> bytes:
    """Lossy WebP; alpha stays exact."""
    return _saved(image, "WEBP", quality=quality, method=_WEBP_METHODS[effort], **extras)


def encode_webp_lossless(image: Image.Image, extras: Extras, effort: Effort) -> bytes:
    """Lossless WebP; colour under full transparency is not kept."""
    quality, method = {Effort.QUICK: (20, 3), Effort.NORMAL: (70, 4), Effort.THOROUGH: (100, 6)}[effort]
    return _saved(image, "WEBP", lossless=True, quality=quality, method=method, **extras)


def encode_avif(image: Image.Image, step: int, speed: int, subsampling: str, extras: Extras) -> bytes:
    """Lossy AVIF. ``step`` as in the knob; ``speed`` 0 (slow) to 10; ``subsampling`` 4:2:0 or 4:4:4."""
    return _saved(
        image, "AVIF", quality=round(step * 100 / 63), speed=speed, subsampling=subsampling, max_threads=1,
        advanced=_AVIF_TUNING, **extras,
    )  # fmt: skip


def encode_animation(
    frames: list[Image.Image], kind: str, delays: list[int], loops: int, quality: int | None
) -> bytes:
    """Animated WebP or AVIF. ``delays`` in milliseconds; ``loops`` 0 for ever; quality None is lossless."""
    options: dict[str, Any] = {"save_all": True, "append_images": frames[1:], "duration": delays}
    if kind == "WEBP":
        options |= {"loop": loops, "minimize_size": False, "method": 4, "kmin": 0, "kmax": 0}
        options |= {"lossless": True, "quality": 70} if quality is None else {"quality": quality}
    else:
        options |= {"quality": quality, "speed": AVIF_PROBE_SPEED, "max_threads": 1}
    return _saved(frames[0], kind, **options)

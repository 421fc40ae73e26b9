"""WebP and animations through the codec libraries, and the knobs of all encoders.

Each encoder uses one thread, so that the number of pictures in hand alone decides how much of the
machine is used. What goes with the picture (profile, rights) is passed as Pillow's save options.
"""

from __future__ import annotations

import io
import math
import struct
from typing import Any

from PIL import Image

from . import webp
from .aim import Knob
from .recipe import Effort

Extras = dict[str, bytes]


#: The WebP library's quantizers, coarsest first: its quality is a bent line, then a cube root, of these.
_WEBP_QUANTIZERS = 127


def webp_quality(step: int) -> float:
    """The WebP library's quality, 0 to 100, for one of its quantizers, 0 to 127, finest last."""
    part = (step / _WEBP_QUANTIZERS) ** 3
    return 100 * (part * 1.5 if part < 0.5 else (part + 1) / 2)


def _webp_step(quality: int) -> int:
    part = quality / 100
    line = part * 2 / 3 if part < 0.75 else 2 * part - 1
    return round(_WEBP_QUANTIZERS * math.cbrt(line))


# Priors: medians over photographs at 800 to 2560 px; see docs/imaging/aim.md.
JPEG = Knob(lowest=20, highest=118, prior={70.0: 74, 80.0: 85, 90.0: 103}, slope=0.043)
WEBP = Knob(lowest=65, highest=126, prior={70.0: 97, 80.0: 113, 90.0: 123}, slope=0.0425)
#: In the AV1 encoder's own 64 quantizers, finest last: steps of quality between them change nothing.
AVIF = Knob(lowest=8, highest=61, prior={70.0: 29, 80.0: 40, 90.0: 55}, slope=0.043)
#: By the names that encoders have in :mod:`.priors`.
KNOBS = {"jpeg": JPEG, "webp": WEBP, "avif 4:2:0": AVIF, "avif 4:4:4": AVIF}


def knob_of(encoder: str, quality: int) -> int:
    """An encoder's usual quality, 1 to 100, in the units of our knob for it.

    For JPEG the step at which our luma table is on the mean as coarse as that of T.81 Annex K scaled in
    the way of the IJG's library for the quality.
    """
    if encoder == "webp":
        return _webp_step(quality)
    if encoder == "avif":
        return round(quality * 63 / 100)
    percent = 5000 / quality if quality < 50 else max(200 - 2 * quality, 1)
    return round(min(130.0, 80 - 12 * math.log2(percent / 40)))


_WEBP_METHODS = {Effort.QUICK: 4, Effort.NORMAL: 5, Effort.THOROUGH: 6}


def _saved(image: Image.Image, kind: str, **options: Any) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def encode_webp(picture: webp.Planes, step: int, extras: Extras, effort: Effort) -> bytes:
    """Lossy WebP; ``step`` as in the knob; alpha stays exact. Raises :class:`~.webp.WebpError`."""
    return webp.with_metadata(
        webp.encode(picture, webp_quality(step), _WEBP_METHODS[effort]), picture, extras
    )


def encode_webp_lossless(image: Image.Image, extras: Extras, effort: Effort) -> bytes:
    """Lossless WebP; colour under full transparency is not kept."""
    quality, method = {Effort.QUICK: (20, 3), Effort.NORMAL: (70, 4), Effort.THOROUGH: (100, 6)}[effort]
    return _saved(image, "WEBP", lossless=True, quality=quality, method=method, **extras)


#: Animations have many frames: they are encoded at a faster speed.
_MOVING_SPEED = 8


def encode_animation(
    frames: list[Image.Image],
    kind: str,
    delays: list[int],
    plays: int,
    quality: int | None,
    colour: str = "4:2:0",
) -> bytes:
    """Animated WebP or AVIF. ``delays`` in milliseconds; ``plays`` 0 for ever; quality None is lossless;
    ``colour``: how much of it AVIF stores."""
    options: dict[str, Any] = {"save_all": True, "append_images": frames[1:], "duration": delays}
    if kind == "WEBP":
        options |= {"loop": plays, "minimize_size": False, "method": 4, "kmin": 0, "kmax": 0}
        options |= (
            {"lossless": True, "quality": 70}
            if quality is None
            else {"quality": quality, "allow_mixed": True}
        )
        return _saved(frames[0], kind, **options)
    options |= {"quality": quality, "speed": _MOVING_SPEED, "max_threads": 1, "subsampling": colour}
    return played(_saved(frames[0], kind, **options), plays)


def played(avif: bytes, plays: int) -> bytes:
    """An AVIF sequence that its encoder made to run for ever, shown so many times instead; 0: for ever.

    Its track repeats its edit for as long as it lasts (ISO/IEC 14496-12, 8.6.6; AV1 Image File Format 1.1).
    Raises ValueError for what is laid out otherwise.
    """
    if plays == 0:
        return avif
    track, movie, edit = (avif.find(name) + 4 for name in (b"tkhd", b"mvhd", b"elst"))
    if min(track, movie, edit) < 4 or avif[track] != 1 or avif[movie] != 1 or avif[edit] != 1:
        raise ValueError("the AVIF sequence is laid out otherwise")
    (once,) = struct.unpack_from(">Q", avif, edit + 8)
    patched = bytearray(avif)
    struct.pack_into(">Q", patched, track + 28, once * plays)
    struct.pack_into(">Q", patched, movie + 24, once * plays)
    return bytes(patched)

"""PNG, WebP and AVIF through the codec libraries: a decoded Pillow picture in, a file out.

What belongs to a picture's looks goes with it: the colour profile always; in the file that
replaces the original also its other metadata, orientation included. Each encoder uses one thread,
so that the number of pictures in hand alone decides how much of the machine is used.
"""

from __future__ import annotations

import io
import struct
import zlib
from typing import Any

import deflate
from PIL import Image, PngImagePlugin

from .aim import Knob


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
AVIF = Knob(lowest=20, highest=96, prior={70.0: 45, 80.0: 64, 90.0: 87}, slope=0.027)

WEBP_LIMIT = 16_383


def _metadata(image: Image.Image) -> dict[str, Any]:
    """What Pillow read of EXIF, XMP, comment and colour profile, as its save options."""
    kept = {key: image.info[key] for key in ("exif", "xmp", "icc_profile", "comment") if image.info.get(key)}
    if image.format == "JPEG" and "dpi" in image.info:
        kept["dpi"] = image.info["dpi"]
    return kept


def _profile(image: Image.Image) -> dict[str, Any]:
    profile = image.info.get("icc_profile")
    return {"icc_profile": profile} if profile else {}


def _saved(image: Image.Image, kind: str, **options: Any) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def encode_png(image: Image.Image) -> bytes:
    """Lossless, deflated as well as the library can; text chunks and metadata kept."""
    options = _metadata(image)
    options.pop("comment", None)
    chunks = PngImagePlugin.PngInfo()
    for key, value in (getattr(image, "text", None) or {}).items():
        if key != "XML:com.adobe.xmp":
            chunks.add_itxt(key, str(value))
    if "xmp" in options:
        chunks.add_itxt("XML:com.adobe.xmp", options.pop("xmp").decode("utf-8", "replace"))
    if "gamma" in image.info and "icc_profile" not in image.info:
        chunks.add(b"gAMA", round(image.info["gamma"] * 100_000).to_bytes(4, "big"))
    if "srgb" in image.info:
        chunks.add(b"sRGB", bytes([image.info["srgb"]]))
    if "transparency" in image.info:
        options["transparency"] = image.info["transparency"]
    if "dpi" in image.info:
        options["dpi"] = image.info["dpi"]
    return _deflated_again(_saved(image, "PNG", optimize=True, pnginfo=chunks, **options))


def _deflated_again(png: bytes) -> bytes:
    """The same PNG with its picture data compressed at the DEFLATE library's best level."""
    chunks: list[tuple[bytes, bytes]] = []
    position = 8
    while position < len(png):
        (length,) = struct.unpack_from(">I", png, position)
        chunks.append((png[position + 4 : position + 8], png[position + 8 : position + 8 + length]))
        position += 12 + length
    picture = zlib.decompress(b"".join(body for name, body in chunks if name == b"IDAT"))
    out = [png[:8]]
    written = False
    for name, body in chunks:
        if name == b"IDAT":
            if written:
                continue
            written, body = True, bytes(deflate.zlib_compress(picture, 12))
        out.append(struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body)))
    return b"".join(out)


def to_palette(image: Image.Image, colours: int) -> Image.Image:
    """At most ``colours`` colours (2 to 256), with error diffusion; metadata carried along."""
    transparent = image.has_transparency_data
    source = image.convert("RGBA" if transparent else "RGB")
    method = Image.Quantize.FASTOCTREE if transparent else Image.Quantize.MEDIANCUT
    palette = source.quantize(colours, method=method, dither=Image.Dither.NONE)
    if not transparent:
        palette = source.quantize(palette=palette, dither=Image.Dither.FLOYDSTEINBERG)
    kept = ("icc_profile", "exif", "dpi", "gamma", "srgb")
    info: dict[str | tuple[int, int], Any] = {key: image.info[key] for key in kept if key in image.info}
    if "transparency" in palette.info:
        info["transparency"] = palette.info["transparency"]
    palette.info = info
    return palette


def encode_webp(image: Image.Image, quality: int) -> bytes:
    """Lossy WebP; alpha stays exact."""
    return _saved(image, "WEBP", quality=quality, method=4, **_profile(image))


def encode_webp_lossless(image: Image.Image) -> bytes:
    """Lossless WebP; colour under full transparency is not kept."""
    return _saved(image, "WEBP", lossless=True, quality=60, method=4, **_profile(image))


def encode_avif(image: Image.Image, quality: int, speed: int, subsampling: str) -> bytes:
    """Lossy AVIF. ``speed`` 0 (slow) to 10; ``subsampling`` 4:2:0 or 4:4:4."""
    return _saved(
        image, "AVIF", quality=quality, speed=speed, subsampling=subsampling, max_threads=1, **_profile(image)
    )

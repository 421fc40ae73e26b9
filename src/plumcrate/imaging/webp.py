"""Lossy WebP from planes of our own, through libwebp with its whole configuration.

Chroma is halved here, weighed by alpha so that no hidden colour bleeds into what is seen, and luma is moved
for what halving loses (:mod:`.jpeg.luminance`) before it is rounded. Container: RFC 9649, section 2.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from cffi import FFI
from numpy.typing import NDArray
from webp._webp import ffi, lib

from .jpeg.luminance import shifted_bands
from .jpeg.transform import F32, half_chroma

U8 = NDArray[np.uint8]

#: The longest side, in pixels.
LIMIT = 16_383
#: Studio range of BT.601: luma 16 to 235, chroma 16 to 240.
_LUMA, _CHROMA = np.float32(219 / 255), np.float32(224 / 255)
_WITH_ALPHA = 4
#: Strength of spatial noise shaping, and sharpness of the loop filter: measured for the smallest file at an
#: equal score (docs/imaging/copies.md).
_SHAPING, _SHARPNESS = 80, 7

#: The public part of libwebp's picture (encode.h), of which the binding declares less.
_LAYOUT = FFI()
_LAYOUT.cdef(
    """typedef struct {
        int use_argb, colorspace, width, height;
        uint8_t *y, *u, *v;
        int y_stride, uv_stride;
        uint8_t *a;
        int a_stride;
    } Planes;"""
)


class WebpError(Exception):
    """The library would not encode."""


@dataclass(frozen=True, slots=True)
class Planes:
    """A picture as lossy WebP stores it: ``y`` and ``alpha`` (height, width), ``u`` and ``v`` half of it each
    way, rounded up; ``alpha`` None when opaque."""

    y: U8
    u: U8
    v: U8
    alpha: U8 | None


def planes(rgb: U8, alpha: U8 | None = None) -> Planes:
    """Of a picture (height, width, 3) and its straight alpha (height, width)."""
    half = half_chroma(rgb, alpha)
    y = np.empty(rgb.shape[:2], np.uint8)
    for band in shifted_bands(rgb, half):
        y[band.rows] = _rounded((band.luma + band.shift + np.float32(128)) * _LUMA + np.float32(16))
    u, v = (_rounded(plane * _CHROMA + np.float32(128)) for plane in half)
    return Planes(y, u, v, alpha)


def _rounded(plane: F32) -> U8:
    return np.clip(np.rint(plane), 0, 255).astype(np.uint8)


def encode(picture: Planes, quality: float, method: int) -> bytes:
    """A WebP file without metadata. ``quality`` 0 to 100; ``method`` 0 (fast) to 6. Alpha stays exact.

    Raises :class:`WebpError` and MemoryError.
    """
    config = ffi.new("WebPConfig *")
    if not lib.WebPConfigPreset(config, lib.WEBP_PRESET_DEFAULT, quality):
        raise WebpError("libwebp and its binding do not fit together")
    config.method, config.sns_strength, config.filter_sharpness = method, _SHAPING, _SHARPNESS
    if not lib.WebPValidateConfig(config):
        raise WebpError(f"libwebp does not take quality {quality} and method {method}")
    native, writer = ffi.new("WebPPicture *"), ffi.new("WebPMemoryWriter *")
    lib.WebPMemoryWriterInit(writer)
    try:
        _fill(native, picture)
        native.writer, native.custom_ptr = ffi.addressof(lib, "WebPMemoryWrite"), writer
        if not lib.WebPEncode(config, native):
            raise WebpError("libwebp could not encode the picture")
        return bytes(ffi.buffer(writer.mem, writer.size))
    finally:
        lib.WebPPictureFree(native)
        lib.WebPMemoryWriterClear(writer)


def _fill(native: Any, picture: Planes) -> None:
    if not lib.WebPPictureInit(native):
        raise WebpError("libwebp and its binding do not fit together")
    inside = _LAYOUT.cast("Planes *", int(ffi.cast("uintptr_t", native)))
    height, width = picture.y.shape
    inside.use_argb, inside.width, inside.height = 0, width, height
    inside.colorspace = 0 if picture.alpha is None else _WITH_ALPHA
    if not lib.WebPPictureAlloc(native):
        raise MemoryError
    _copied(picture.y, inside.y, inside.y_stride)
    _copied(picture.u, inside.u, inside.uv_stride)
    _copied(picture.v, inside.v, inside.uv_stride)
    if picture.alpha is not None:
        _copied(picture.alpha, inside.a, inside.a_stride)


def _copied(plane: U8, target: Any, stride: int) -> None:
    height, width = plane.shape
    if not target or stride < width:
        raise WebpError("libwebp and its binding do not fit together")
    memory = np.frombuffer(_LAYOUT.buffer(target, height * stride), np.uint8)
    memory.reshape(height, stride)[:, :width] = plane


_PROFILE, _ALPHA, _EXIF, _XMP = 0x20, 0x10, 0x08, 0x04


def with_metadata(data: bytes, picture: Planes, extras: dict[str, bytes]) -> bytes:
    """A file of :func:`encode` with ``icc_profile``, ``exif`` (TIFF) and ``xmp`` in an extended container."""
    if not extras:
        return data
    height, width = picture.y.shape
    chunks = _chunks(data)
    flags = _ALPHA if any(name == b"ALPH" for name, _ in chunks) else 0
    body = [(name, content) for name, content in chunks if name != b"VP8X"]
    if "icc_profile" in extras:
        flags |= _PROFILE
        body.insert(0, (b"ICCP", extras["icc_profile"]))
    if "exif" in extras:
        flags |= _EXIF
        body.append((b"EXIF", extras["exif"].removeprefix(b"Exif\0\0")))
    if "xmp" in extras:
        flags |= _XMP
        body.append((b"XMP ", extras["xmp"]))
    head = bytes([flags, 0, 0, 0]) + (width - 1).to_bytes(3, "little") + (height - 1).to_bytes(3, "little")
    written = b"WEBP" + b"".join(_chunk(name, content) for name, content in [(b"VP8X", head), *body])
    return b"RIFF" + len(written).to_bytes(4, "little") + written


def _chunks(data: bytes) -> list[tuple[bytes, bytes]]:
    out, at = [], 12
    while at + 8 <= len(data):
        size = int.from_bytes(data[at + 4 : at + 8], "little")
        out.append((data[at : at + 4], data[at + 8 : at + 8 + size]))
        at += 8 + size + (size & 1)
    return out


def _chunk(name: bytes, content: bytes) -> bytes:
    return name + len(content).to_bytes(4, "little") + content + b"\0" * (len(content) & 1)

"""A folder of odd files, and what becomes of each: ``python tests/imaging/odd.py`` prints the table."""

from __future__ import annotations

import io
import struct
import zlib

import numpy as np
from outputs import data_of
from PIL import Image, ImageCms

from plumcrate.imaging import ImagingError, Limits, Recipe, treat
from plumcrate.imaging.png.chunks import CHANNELS, SIGNATURE, Chunk, Header
from plumcrate.imaging.png.rows import filtered, passes, rows_of

_SIDE = (96, 72)


def _photo(width: int = _SIDE[0], height: int = _SIDE[1]) -> Image.Image:
    y, x = np.mgrid[0:height, 0:width]
    waves = [np.sin(x / (9.0 + 3 * c)) * 60 + np.cos(y / (7.0 + 2 * c)) * 50 + 128 for c in range(3)]
    noise = np.random.default_rng(1).normal(0, 4, (height, width, 3))
    return Image.fromarray(np.clip(np.dstack(waves) + noise, 0, 255).astype(np.uint8))


def _saved(image: Image.Image, kind: str, **options: object) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def _png(colour: int, depth: int, interlaced: bool) -> bytes:
    header = Header(*_SIDE, depth, colour, interlaced)
    ramp = np.add.outer(np.arange(_SIDE[1]), np.arange(_SIDE[0]))[:, :, None] * (1 << depth) // 170
    values = np.repeat(ramp, CHANNELS[colour], axis=2).astype(np.uint16 if depth == 16 else np.uint8)
    raw = b""
    for x, y, across, down in passes(header):
        part = values[y::down, x::across]
        flat = Header(part.shape[1], part.shape[0], depth, colour)
        raw += filtered(rows_of(part, flat), header.step, 1).tobytes()
    palette = [Chunk(b"PLTE", bytes(range(256)) * 3)] if colour == 3 else []
    if palette and depth < 8:
        palette = [Chunk(b"PLTE", np.random.default_rng(depth).bytes(3 << depth))]
    chunks = [header.chunk(), *palette, Chunk(b"IDAT", zlib.compress(raw, 1)), Chunk(b"IEND", b"")]
    return SIGNATURE + b"".join(chunk.encoded() for chunk in chunks)


def _oriented(value: int) -> bytes:
    exif = Image.Exif()
    exif[0x0112] = value
    return _saved(_photo(), "JPEG", quality=95, exif=exif)


def odd_files() -> dict[str, bytes]:
    """The files by name; what each is, its name says."""
    photo, ycck = _photo(), _photo().convert("CMYK")
    kinds = {0: "grey", 2: "rgb", 3: "palette", 4: "grey-alpha", 6: "rgba"}
    depths = {0: (1, 2, 4, 8, 16), 2: (8, 16), 3: (1, 2, 4, 8), 4: (8, 16), 6: (8, 16)}
    files = {
        f"{kinds[colour]}-{depth}-bit{more}.png": _png(colour, depth, bool(more))
        for colour in kinds
        for depth in depths[colour]
        for more in ("", "-interlaced")
    }
    files |= {f"orientation-{value}.jpg": _oriented(value) for value in range(1, 9)}
    frames = [photo.rotate(20 * number) for number in range(4)]
    more = {"save_all": True, "append_images": frames[1:], "duration": 80}
    p3 = ImageCms.ImageCmsProfile(ImageCms.createProfile("LAB")).tobytes()
    jpeg = _saved(photo, "JPEG", quality=92)
    huge = SIGNATURE + Header(60_000, 60_000, 8, 2).chunk().encoded()
    files |= {
        "animated.gif": _saved(frames[0], "GIF", **more),
        "animated.png": _saved(frames[0], "PNG", **more),
        "animated.webp": _saved(frames[0], "WEBP", **more),
        "arithmetic.jpg": jpeg.replace(b"\xff\xc0", b"\xff\xc9", 1),
        "cmyk.jpg": _saved(ycck, "JPEG", quality=92),
        "comment-only-end.jpg": jpeg + b"after the end",
        "grey.jpg": _saved(photo.convert("L"), "JPEG", quality=92),
        "huge.png": huge + Chunk(b"IDAT", b"").encoded() + Chunk(b"IEND", b"").encoded(),
        "mislabelled-png.jpg": _saved(photo, "PNG"),
        "no-end-marker.jpg": jpeg[:-2],
        "not-a-picture.jpg": b"<html>404 Not Found</html>",
        "one-pixel.gif": _saved(photo.resize((1, 1)), "GIF"),
        "one-pixel.jpg": _saved(photo.resize((1, 1)), "JPEG"),
        "one-pixel.png": _saved(photo.resize((1, 1)), "PNG"),
        "one-row.jpg": _saved(photo.resize((300, 1)), "JPEG", quality=95),
        "progressive.jpg": _saved(photo, "JPEG", quality=95, progressive=True),
        "rgb-components.jpg": _saved(photo, "JPEG", quality=95, keep_rgb=True),
        "still.avif": _saved(photo, "AVIF", quality=95),
        "still.webp": _saved(photo, "WEBP", quality=97),
        "truncated.gif": _saved(photo, "GIF")[:-400],
        "truncated.jpg": jpeg[: len(jpeg) * 2 // 3],
        "truncated.png": _saved(photo, "PNG")[:-3000],
        "twelve-bit.jpg": jpeg.replace(b"\xff\xc0\x00\x11\x08", b"\xff\xc1\x00\x11\x0c", 1),
        "unfitting-profile.jpg": _saved(photo, "JPEG", quality=95, icc_profile=p3),
        "wrong-checksum.png": _with_wrong_checksum(_saved(photo, "PNG")),
        "zero-wide.png": SIGNATURE + struct.pack(">I4sII", 13, b"IHDR", 0, 5) + b"\x08\x02\0\0\0" + b"\0" * 4,
    }
    return dict(sorted(files.items()))


def _with_wrong_checksum(data: bytes) -> bytes:
    at = data.index(b"IDAT") - 4
    end = at + 8 + struct.unpack_from(">I", data, at)[0]
    return data[:end] + bytes([data[end] ^ 1]) + data[end + 1 :]


def outcome(data: bytes) -> tuple[str, str]:
    """What becomes of the file itself, and of its copies, in words."""
    try:
        treatment = treat(data, Recipe(), Limits(50_000_000))
    except ImagingError as error:
        return f"declined: {error}", ""
    main = treatment.main
    copies = [copy.format for copy in treatment.of("copy") if data_of(copy) is not None]
    if data_of(main) is None:
        said = f"stays: {main.reason}"
    else:
        said = "lighter, identical pixels" if main.score == 100.0 else "lighter, at the level's score"
    return said, ", ".join(copies) or "none is smaller"


def table() -> str:
    """The table of docs/imaging/odd-files.md."""
    lines = ["| file | the file itself, at everyday | copies |", "| --- | --- | --- |"]
    for name, data in odd_files().items():
        said, copies = outcome(data)
        lines.append(f"| {name} | {said} | {copies} |")
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    print(table(), end="")

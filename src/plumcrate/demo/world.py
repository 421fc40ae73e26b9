"""The trust's media library: what hangs where, how large, with what in its metadata, and the mess.

``build`` writes the same bytes every time. The full library is 64 pictures in about 330 files; the
small one, for tests, has a handful of each kind at an eighth of the width.
"""

from __future__ import annotations

import io
import math
import os
import struct
import time
import zlib
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image, ImageCms
from PIL.TiffImagePlugin import IFDRational

from .painter.drawings import DRAWINGS, flashing_light
from .painter.noise import enlarge, grain
from .painter.scenes import SCENES

#: Widths of the sizes that the stand-in site derives from each upload.
SIZES = (1600, 1024, 640, 320, 160)
#: Scenes are painted at most so wide; larger pictures are enlarged, then given their grain.
_CANVAS = 2000
#: The width of the small library's pictures, in parts of the full one's.
_SMALL = 0.125


@dataclass(frozen=True, slots=True)
class Photo:
    """One photograph. ``turn`` is the EXIF orientation it is stored with."""

    path: str
    scene: str
    mood: int
    width: int
    height: int
    quality: int = 92
    turn: int = 1
    format: str = "JPEG"


@dataclass(frozen=True, slots=True)
class Drawing:
    path: str
    kind: str
    width: int
    height: int
    options: tuple[tuple[str, Any], ...] = ()


#: What some visitors wrote into their pictures; several wrote the same.
_CAPTIONS = {
    "headland": "Gannet Ledge from the landing, the tower above the rocks",
    "swell": "Swell breaking off the ledge after a westerly gale",
    "tower": "The tower from the keepers' lawn",
    "open-day": "Visitors queue at the tower door on the open day",
    "lens": "The great lens in the lamp room, its prisms in rings",
}
_NAMES = {
    "headland": "gannet-ledge-headland",
    "swell": "swell-off-the-ledge",
    "ledge": "lichen-on-the-ledge",
    "tower": "tower-from-the-lawn",
    "fog": "morning-fog",
    "open-day": "open-day",
    "lens": "great-lens",
    "postcard": "postcard",
}


def photos() -> list[Photo]:
    """The photographs of the full library."""
    pictures: list[Photo] = []
    scenes = list(SCENES)
    for index in range(40):
        scene = scenes[index % len(scenes)]
        month = f"{2024 + index // 20}/{index % 12 + 1:02d}"
        width, height = ((2000, 1333), (1800, 1350), (2400, 1600), (1333, 2000))[index % 4]
        quality = (92, 88, 95, 90, 85)[index % 5]
        name = f"{_NAMES[scene]}-{index + 1:02d}.jpg"
        pictures.append(Photo(f"{month}/{name}", scene, index, width, height, quality))
    pictures += [
        Photo("2025/06/IMG_2041 open day (visitor).jpg", "open-day", 41, 6000, 4000, 94),
        Photo("2025/06/headland-at-dusk-full.jpg", "headland", 42, 6000, 4000, 90),
        Photo("2025/07/Möwen über der Ledge – Besucherfoto.jpg", "swell", 43, 4032, 3024, 93, turn=6),
        Photo("2025/07/sideways-from-a-phone.jpg", "tower", 44, 4032, 3024, 92, turn=8),
        Photo("2025/08/journal-cover.png", "headland", 46, 1400, 933, format="PNG"),
        Photo("2025/08/lamp-room.png", "lens", 47, 1200, 800, format="PNG"),
        Photo("2025/09/already-light.webp", "fog", 48, 1600, 1067, 80, format="WEBP"),
    ]
    return pictures


def drawings() -> list[Drawing]:
    """Charts, plates, marks and scans of the full library."""
    return [
        Drawing("charts/tides-spring.png", "tide-chart", 2000, 900),
        Drawing("charts/tides-autumn.png", "tide-chart", 1600, 720),
        Drawing("charts/approaches.png", "sea-chart", 1800, 1300),
        Drawing("charts/approaches-print.jpg", "sea-chart", 1800, 1300, (("quality", 95),)),
        Drawing("plates/lens-plate-4.png", "lens-drawing", 1800, 1200),
        Drawing("plates/lens-plate-5.png", "lens-drawing", 1200, 1200),
        Drawing("brand/logo.png", "logo", 1200, 400),
        Drawing("brand/logo-small.png", "logo", 480, 160),
        Drawing("journal/log-1911-03.jpg", "log-page", 1500, 2100, (("quality", 92),)),
        Drawing("journal/log-1911-04.jpg", "log-page", 1500, 2100, (("quality", 92),)),
        Drawing("journal/log-1911-05.png", "log-page", 900, 1260),
    ]


def build(root: Path, *, small: bool = False) -> int:
    """Paints the library below ``root``, which must be empty or missing; returns the count of files."""
    root.mkdir(parents=True, exist_ok=True)
    if any(root.iterdir()):
        raise FileExistsError(f"{root} is not empty")
    everything: list[Photo | Drawing] = [*photos(), *drawings()]
    scale = _SMALL if small else 1.0
    work = [(root, picture, scale) for picture in everything]
    if small:
        work = [*work[:6], *work[42:]]
    work.sort(key=lambda job: -job[1].width * job[1].height)
    with ProcessPoolExecutor(max_workers=os.cpu_count() or 1) as pool:
        list(pool.map(_make, work))
    _animation(root)
    _leaflet(root)
    _mess(root, 0.4 if small else 1.0)
    return sum(1 for path in root.rglob("*") if path.is_file())


def _make(job: tuple[Path, Photo | Drawing, float]) -> None:
    root, what, scale = job
    seed = zlib.crc32(what.path.encode())
    rng = np.random.default_rng(seed)
    width, height = max(64, round(what.width * scale)), max(64, round(what.height * scale))
    path = root / what.path
    path.parent.mkdir(parents=True, exist_ok=True)
    if isinstance(what, Drawing):
        image = DRAWINGS[what.kind](rng, width, height)
        save(image, path, **dict(what.options))
        derive(path, image)
        return
    picture = _photograph(rng, what, width, height)
    image = Image.fromarray(picture)
    exif = camera_metadata(seed, what.turn)
    if what.scene in _CAPTIONS and what.mood % 3:
        exif[0x010E] = _CAPTIONS[what.scene]
    if what.turn != 1:
        # The camera was held on its side: the stored pixels lie down, the metadata says so.
        image = image.rotate(90 if what.turn == 6 else -90, expand=True)
    if what.format == "PNG":
        save(image, path)
    elif what.format == "WEBP":
        save(image, path, quality=what.quality)
    else:
        save(image, path, quality=what.quality, exif=exif, icc_profile=_srgb_profile())
    upright = Image.fromarray(picture)
    derive(path, upright)


def _photograph(rng: np.random.Generator, what: Photo, width: int, height: int) -> np.ndarray[Any, Any]:
    shrink = min(1.0, _CANVAS / max(width, height))
    canvas = round(width * shrink), round(height * shrink)
    scene = SCENES[what.scene](rng, *canvas, what.mood)
    if shrink < 1:
        scene = np.stack(
            [enlarge(np.ascontiguousarray(scene[:, :, c]), width, height) for c in range(3)], axis=2
        )
    noisy = grain(rng, scene.astype(np.float32), 0.026)
    return (np.clip(noisy, 0, 1) * 255 + 0.5).astype(np.uint8)


def _srgb_profile() -> bytes:
    """An sRGB profile with a fixed date (ICC.1:2022, 7.2.8), so that files are the same each time."""
    profile = bytearray(ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes())
    profile[24:36] = struct.pack(">6H", 2025, 1, 1, 0, 0, 0)
    profile[84:100] = bytes(16)  # the identifier is a hash over the date too
    return bytes(profile)


def save(image: Image.Image, path: Path, **options: Any) -> None:
    """Saves by the path's ending."""
    path.parent.mkdir(parents=True, exist_ok=True)
    image.save(path, **options)


def derive(path: Path, image: Image.Image) -> list[Path]:
    """Writes the site's sizes of a picture beside it, as ``name-640w.jpg``; returns their paths."""
    derived = []
    for width in SIZES:
        if width >= image.width:
            continue
        smaller = image.resize(
            (width, max(1, round(image.height * width / image.width))), Image.Resampling.LANCZOS
        )
        place = path.with_name(f"{path.stem}-{width}w{path.suffix}")
        options = {"quality": 88} if path.suffix.lower() in (".jpg", ".jpeg", ".webp") else {}
        if path.suffix.lower() in (".jpg", ".jpeg") and smaller.mode not in ("RGB", "L"):
            smaller = smaller.convert("RGB")
        save(smaller, place, **options)
        derived.append(place)
    return derived


def camera_metadata(seed: int, orientation: int) -> Image.Exif:
    """EXIF of a made-up camera at a made-up place, with rights and capture time."""
    exif = Image.Exif()
    exif[0x010F] = "Gannet Camera Works"
    exif[0x0110] = "Ledge 24"
    exif[0x0112] = orientation
    exif[0x013B] = "Visitor to Gannet Ledge"
    exif[0x8298] = "(c) Gannet Ledge Light Trust"
    times = exif.get_ifd(0x8769)
    times[0x9003] = f"2025:{seed % 12 + 1:02d}:{seed % 27 + 1:02d} 10:{seed % 60:02d}:00"
    times[0x920A] = IFDRational(35, 1)
    place = exif.get_ifd(0x8825)
    place[1], place[3] = "N", "W"
    place[2] = (IFDRational(48), IFDRational(seed % 60), IFDRational(seed % 6000, 100))
    place[4] = (IFDRational(27), IFDRational(seed % 50), IFDRational(seed % 5000, 100))
    return exif


def _animation(root: Path) -> None:
    frames = flashing_light(480, 320)
    (root / "animation").mkdir(exist_ok=True)
    frames[0].save(
        root / "animation/flashing-light.gif", save_all=True, append_images=frames[1:], duration=400, loop=0
    )


def _leaflet(root: Path) -> None:
    rng = np.random.default_rng(7)
    page = DRAWINGS["log-page"](rng, 800, 1130)
    (root / "journal").mkdir(exist_ok=True)
    # A fixed time: the same bytes each time.
    page.save(root / "journal/visitor-leaflet.pdf", "PDF", creationDate=_EPOCH, modDate=_EPOCH, quality=85)


_EPOCH = time.gmtime(1_735_689_600)


def _mess(root: Path, scale: float) -> None:
    """What real libraries hold besides pictures that are right; their width and height in parts of the
    usual."""
    folder = root / "2025/10"
    folder.mkdir(parents=True, exist_ok=True)
    for name, data in mess(np.random.default_rng(11), scale):
        (folder / name).write_bytes(data)
    source = next(path for path in sorted(root.rglob("gannet-ledge-headland-*.jpg")) if "w." not in path.name)
    (folder / "headland copy (2).jpg").write_bytes(source.read_bytes())


def mess(rng: np.random.Generator, scale: float = 1.0) -> Iterator[tuple[str, bytes]]:
    """Names and bytes of the odd files."""

    def sized(one: int, other: int) -> tuple[int, int]:
        return round(one * scale), round(other * scale)

    scene = (np.clip(SCENES["headland"](rng, *sized(1000, 667), 1), 0, 1) * 255).astype(np.uint8)
    image = Image.fromarray(scene)
    jpeg = encoded(image, "JPEG", quality=90)
    yield "truncated-upload.jpg", jpeg[: len(jpeg) * 3 // 5]
    yield "actually-a-png.jpg", encoded(DRAWINGS["tide-chart"](rng, *sized(800, 400)), "PNG")
    yield "error-page.jpg", b"<!doctype html><title>404</title><p>The picture you asked for is not here.</p>"
    yield "press-cmyk.jpg", encoded(image.convert("CMYK"), "JPEG", quality=90)
    yield "empty.png", b""
    yield "one-pixel.png", encoded(Image.new("RGBA", (1, 1), (0, 0, 0, 0)), "PNG")
    yield "forty-thousand.png", enormous_png(40_000, 40_000)
    deep = np.linspace(0, 65_535, math.prod(sized(640, 400))).reshape(sized(400, 640)).astype(np.uint16)
    yield "sixteen-bit.png", encoded(Image.fromarray(deep), "PNG")
    yield "Leuchtturm Übersicht & Preise.jpg", encoded(image.resize(sized(800, 534)), "JPEG", quality=96)
    yield (
        "brand-mark.svg",
        (
            b'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 40">'
            b'<path d="M14 36h12L23 12h-6z"/></svg>'
        ),
    )


def encoded(image: Image.Image, kind: str, **options: Any) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def enormous_png(width: int, height: int) -> bytes:
    """A valid, tiny file of an enormous white picture: one bit a pixel, deflated."""

    def chunk(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))

    row = b"\0" + b"\xff" * ((width + 7) // 8)
    packer = zlib.compressobj(9)
    body = b"".join(packer.compress(row) for _ in range(height)) + packer.flush()
    header = struct.pack(">IIBBBBB", width, height, 1, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", body) + chunk(b"IEND", b"")

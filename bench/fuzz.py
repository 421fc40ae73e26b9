"""Mutated files through our readers and writers, in child processes: no crash, hang or changed pixel.

100,000 JPEGs, 50,000 PNGs (three in four inside their chunks and compressed data, with all checksums right)
and 50,000 GIFs; and 20,000 each of WebP and AVIF and 1,000 each of SVG, PDF, TIFF and BMP, which libraries
decode, whole treatments through the sandbox: a child may die of one, nothing else may. ``script/bench fuzz
KIND ...`` takes some of them only.
"""

from __future__ import annotations

import io
import multiprocessing
import os
import random
import sys
import time
import zlib
from collections import Counter
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Effort, ImagingError, Level, Recipe, gif, png
from plumcrate.imaging.formats import FORMATS
from plumcrate.imaging.gif.recompress import same_animation
from plumcrate.imaging.jpeg import JpegError, recompress
from plumcrate.imaging.jpeg.decode import decode
from plumcrate.imaging.jpeg.recompress import shown
from plumcrate.imaging.png.picture import same_pixels
from plumcrate.imaging.recipe import EVERY_CONVERSION
from plumcrate.sandbox.children import Sandbox, SandboxError

from .corpus import documents, photo, vector_drawings, wallpapers

_FILES = {"jpeg": 100_000, "png": 50_000, "gif": 50_000, "webp": 20_000, "avif": 20_000}
_OTHER = {"svg": 1_000, "pdf": 1_000, "tiff": 1_000, "bmp": 1_000}
_BATCH = 500
_MOST_PIXELS = 2_000_000


def main() -> None:
    console = Console()
    for kind in sys.argv[1:] or (*_FILES, *_OTHER):
        if kind in ("webp", "avif", *_OTHER):
            sources = _of_pixels(kind) if kind in _FILES else _of_other_kinds(kind)
            console.print(_in_sandbox(kind, (_FILES | _OTHER)[kind], sources))
            continue
        files = _FILES[kind]
        sources = {"jpeg": _sources, "png": _pngs, "gif": _gifs}[kind]()
        jobs = [(kind, seed, sources) for seed in range(files // _BATCH)]
        outcomes: Counter[str] = Counter()
        began = time.monotonic()
        context = multiprocessing.get_context("forkserver")
        with context.Pool(os.cpu_count() or 1, maxtasksperchild=10) as pool:
            for counts in pool.imap_unordered(_batch, jobs):
                outcomes += counts
        console.print(_table(kind, files, began, outcomes))


def _table(kind: str, files: int, began: float, outcomes: Counter[str]) -> Table:
    title = f"{files:,} mutated {kind.upper()} files in {time.monotonic() - began:.0f} s"
    table = Table("outcome", "files", title=title)
    for name, count in outcomes.most_common():
        table.add_row(name, f"{count:,}")
    return table


def _of_other_kinds(kind: str) -> list[bytes]:
    if kind == "svg":
        return [path.read_bytes() for path in vector_drawings(60, 3) if path.stat().st_size < 20_000]
    if kind == "pdf":
        small = [data for path in documents(100, 3) if len(data := path.read_bytes()) < 40_000]
        return small or [documents(1, 3)[0].read_bytes()]
    out = io.BytesIO()
    photo(wallpapers()[0], 90).save(out, kind.upper())
    return [out.getvalue()]


def _of_pixels(kind: str) -> list[bytes]:
    image = photo(wallpapers()[0], 90)
    sources = []
    for mode, options in (("RGB", {"quality": 80}), ("RGBA", {"quality": 60}), ("RGB", {"lossless": True})):
        out = io.BytesIO()
        image.convert(mode).save(out, kind.upper(), **(options if kind == "webp" else {"speed": 10}))
        sources.append(out.getvalue())
    return sources


def _in_sandbox(kind: str, files: int, sources: list[bytes]) -> Table:
    """Whole treatments in the sandbox's own children, as the worker has them made."""
    sandbox = Sandbox(os.cpu_count() or 1, 1024, 10.0, backstop=20.0)
    recipe = Recipe(Level.LEAN, copies=frozenset(), effort=Effort.QUICK, convert=EVERY_CONVERSION)

    def one(seed: int) -> str:
        chance = random.Random(seed)
        data = _mutated(chance, bytearray(chance.choice(sources)))
        began = time.monotonic()
        try:
            treatment = sandbox.treat(data, recipe, 0.01)
        except ImagingError:
            outcome = "refused with a reason"
        except SandboxError as error:
            outcome = f"its child ended: {error.code}"
        except Exception as error:
            outcome = f"FAULT: {type(error).__name__}: {error}"
        else:
            outcome = "read, and treated or kept"
            for output in treatment.chosen if FORMATS[kind].pixels else ():
                with Image.open(io.BytesIO(output.data)) as shown_:
                    shown_.load()
        return "FAULT: took too long" if time.monotonic() - began > 60 else outcome

    began = time.monotonic()
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        outcomes = Counter(pool.map(one, range(files)))
    sandbox.close()
    return _table(kind, files, began, outcomes)


def _pngs() -> list[bytes]:
    made = []
    image = photo(wallpapers()[0], 90)
    for mode in ("RGB", "P", "L", "1", "LA", "RGBA", "I;16"):
        out = io.BytesIO()
        (image.convert("I").convert(mode) if mode == "I;16" else image.convert(mode)).save(out, "PNG")
        made.append(out.getvalue())
    out = io.BytesIO()
    image.save(out, "PNG", save_all=True, append_images=[image.rotate(90), image.rotate(180)], duration=50)
    return [*made, out.getvalue()]


def _gifs() -> list[bytes]:
    image = photo(wallpapers()[0], 90)
    still, moving = io.BytesIO(), io.BytesIO()
    image.save(still, "GIF")
    image.save(
        moving, "GIF", save_all=True, append_images=[image.rotate(9 * n) for n in range(1, 5)], disposal=2
    )
    return [still.getvalue(), moving.getvalue()]


def _sources() -> list[bytes]:
    made = []
    for path in wallpapers()[:4]:
        image = photo(path, 120)
        image.info.clear()
        for mode, options in (
            ("RGB", {"quality": 80}),
            ("RGB", {"quality": 90, "progressive": True}),
            ("L", {"quality": 70}),
            ("CMYK", {"quality": 85}),
            ("RGB", {"quality": 60, "subsampling": "4:4:4", "restart_marker_blocks": 3}),
        ):
            out = io.BytesIO()
            image.convert(mode).save(out, "JPEG", **options)
            made.append(out.getvalue())
    return made


def _batch(job: tuple[str, int, list[bytes]]) -> Counter[str]:
    kind, seed, sources = job
    chance = random.Random(seed)
    outcomes: Counter[str] = Counter()
    for _ in range(_BATCH):
        source = chance.choice(sources)
        if kind == "png" and chance.random() < 0.75:
            data = _mutated_inside(chance, source)
        else:
            data = _mutated(chance, bytearray(source))
        outcomes[{"jpeg": _one, "png": _one_png, "gif": _one_gif}[kind](data)] += 1
    return outcomes


def _mutated(chance: random.Random, data: bytearray) -> bytes:
    for _ in range(chance.randint(1, 6)):
        at = chance.randrange(2, len(data))
        deed = chance.randrange(5)
        if deed == 0:
            data[at] = chance.randrange(256)
        elif deed == 1:
            data[at] ^= 1 << chance.randrange(8)
        elif deed == 2:
            del data[at : at + chance.randint(1, 9)]
        elif deed == 3:
            data[at:at] = bytes(chance.randrange(256) for _ in range(chance.randint(1, 9)))
        else:
            # Headers decide most, so they are hit more often.
            place = chance.randrange(2, min(700, len(data)))
            data[place] = chance.choice((0, 1, 0x11, 0x22, 0x44, 0x7F, 0xFF, chance.randrange(256)))
        if len(data) < 20:
            break
    if chance.random() < 0.15:
        del data[chance.randrange(len(data)) :]
    return bytes(data)


def _mutated_inside(chance: random.Random, data: bytes) -> bytes:
    """A PNG with the content of one chunk changed, inflated for it where it is compressed; all checksums are
    right."""
    chunks = _chunks(data)
    index = chance.randrange(len(chunks) - 1)
    name, body = chunks[index]
    head = 4 if name == b"fdAT" else 0
    if name in (b"IDAT", b"fdAT"):
        body = body[:head] + zlib.compress(_mutated(chance, bytearray(zlib.decompress(body[head:]))))
    elif len(body) > 2:
        body = _mutated(chance, bytearray(body))
    else:
        body = bytes(chance.randrange(256) for _ in body)
    chunks[index] = name, body
    written = (
        len(body).to_bytes(4, "big") + name + body + zlib.crc32(name + body).to_bytes(4, "big")
        for name, body in chunks
    )
    return data[:8] + b"".join(written)


def _chunks(data: bytes) -> list[tuple[bytes, bytes]]:
    out, at = [], 8
    while at < len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        out.append((data[at + 4 : at + 8], data[at + 8 : at + 8 + length]))
        at += 12 + length
    return out


def _one_png(data: bytes) -> str:
    began = time.monotonic()
    try:
        before = png.read_png(data, _MOST_PIXELS)
        smaller = png.recompress(data, Effort.QUICK, _MOST_PIXELS)
        after = png.read_png(smaller, _MOST_PIXELS)
    except png.PngError:
        return "refused with a reason"
    except Exception as error:
        return f"FAULT: {type(error).__name__}: {error}"
    if time.monotonic() - began > 20:
        return "FAULT: took too long"
    if not same_pixels(before.picture, after.picture):
        return "FAULT: other pixels"
    return "kept as it was" if smaller is data else "recompressed, identical pixels"


def _one_gif(data: bytes) -> str:
    began = time.monotonic()
    try:
        before = gif.read_gif(data, _MOST_PIXELS)
        if before.width * before.height * len(before.frames) > 20 * _MOST_PIXELS:
            return "refused with a reason"  # as treat() does, by its limit of pixels
        smaller = gif.recompress(data, _MOST_PIXELS)
        after = gif.read_gif(smaller, _MOST_PIXELS)
    except gif.GifError:
        return "refused with a reason"
    except Exception as error:
        return f"FAULT: {type(error).__name__}: {error}"
    if time.monotonic() - began > 20:
        return "FAULT: took too long"
    if not same_animation(before, after):
        return "FAULT: other pixels"
    return "kept as it was" if smaller is data else "recompressed, identical frames"


def _one(data: bytes) -> str:
    began = time.monotonic()
    try:
        smaller = recompress(data)
    except JpegError:
        return "refused with a reason"
    except Exception as error:
        return f"FAULT: {type(error).__name__}: {error}"
    if time.monotonic() - began > 20:
        return "FAULT: took too long"
    if smaller is data:
        return "kept as it was"
    frame, before, _ = decode(data)
    after = decode(smaller)[1]
    if not all(np.array_equal(shown(before, each), shown(after, each)) for each in frame.components):
        return "FAULT: other coefficients"
    try:
        first = np.asarray(Image.open(io.BytesIO(data)))
    except Exception:
        return "recompressed; Pillow cannot read the mutated file"
    second = np.asarray(Image.open(io.BytesIO(smaller)))
    if np.array_equal(first, second):
        return "recompressed, identical pixels"
    return "same coefficients, Pillow shows other pixels: treat() refuses these"


if __name__ == "__main__":
    main()

"""50,000 mutated JPEGs through our reader and writer, in child processes: no crash, hang or changed pixel."""

from __future__ import annotations

import io
import multiprocessing
import os
import random
import time
from collections import Counter

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging.jpeg import JpegError, recompress
from plumcrate.imaging.jpeg.decode import decode

from .corpus import photo, wallpapers

_FILES = 50_000
_BATCH = 500


def main() -> None:
    sources = _sources()
    jobs = [(seed, sources) for seed in range(_FILES // _BATCH)]
    outcomes: Counter[str] = Counter()
    began = time.monotonic()
    with multiprocessing.get_context("forkserver").Pool(os.cpu_count() or 1, maxtasksperchild=10) as pool:
        for counts in pool.imap_unordered(_batch, jobs):
            outcomes += counts
    table = Table(
        "outcome",
        "files",
        title=f"{_FILES:,} mutated files in {time.monotonic() - began:.0f} s",
    )
    for name, count in outcomes.most_common():
        table.add_row(name, f"{count:,}")
    Console().print(table)


def _sources() -> list[bytes]:
    made = []
    for path in wallpapers()[:4]:
        image = photo(path, 120)
        image.info.clear()
        for mode, options in (
            ("RGB", {"quality": 80}), ("RGB", {"quality": 90, "progressive": True}), ("L", {"quality": 70}),
            ("CMYK", {"quality": 85}),
            ("RGB", {"quality": 60, "subsampling": "4:4:4", "restart_marker_blocks": 3}),
        ):  # fmt: skip
            out = io.BytesIO()
            image.convert(mode).save(out, "JPEG", **options)
            made.append(out.getvalue())
    return made


def _batch(job: tuple[int, list[bytes]]) -> Counter[str]:
    seed, sources = job
    chance = random.Random(seed)
    outcomes: Counter[str] = Counter()
    for _ in range(_BATCH):
        outcomes[_one(_mutated(chance, bytearray(chance.choice(sources))))] += 1
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
    if not np.array_equal(decode(data)[1], decode(smaller)[1]):
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

"""Near duplicates: recall on changed wallpapers, false pairs among drawings, the index at half a million.

``script/bench near``. Each wallpaper is cut, scaled, compressed again, tinted, turned; every result is looked
up among all wallpapers and 2,000 pictures of openclipart. A found pair is right when both came from one
wallpaper. Pairs among the drawings themselves are counted by what they are: the same bytes or pixels, or not.
The time of an index is of hashes that are made up, since nobody has half a million pictures at hand.
"""

from __future__ import annotations

import io
import random
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import ImagingError, Limits
from plumcrate.imaging.near_duplicates.hashing import perceptual_hash
from plumcrate.imaging.near_duplicates.index import Index
from plumcrate.imaging.near_duplicates.matching import matched
from plumcrate.imaging.near_duplicates.perceptual import FEATURE, MOST_FEATURES, THUMBNAIL, PerceptualHash

from .corpus import drawings, photo, wallpapers

_SEED, _OTHERS, _MANY = 30, 2_000, 500_000
#: What is promised, and what is looked at beyond.
_PROMISED = ("scaled", "cut to 80 %", "cut to 60 %", "compressed", "tinted", "turned 90°")
_BEYOND = ("cut to 45 %", "turned 3°", "turned 10°")


def changed(image: Image.Image, how: str, lot: random.Random) -> Image.Image:
    """A picture after one of the changes, by lot within its kind."""
    width, height = image.size
    if how == "scaled":
        by = lot.uniform(0.15, 0.6)
        return image.resize((round(width * by), round(height * by)), Image.Resampling.LANCZOS)
    if how.startswith("cut"):
        side = (int(how.split()[2]) / 100) ** 0.5
        shape = lot.uniform(0.85, 1.18)
        across, down = min(1.0, side * shape), min(1.0, side / shape)
        left, top = lot.uniform(0, 1 - across), lot.uniform(0, 1 - down)
        right, bottom = left + across, top + down
        return image.crop(
            (round(left * width), round(top * height), round(right * width), round(bottom * height))
        )
    if how == "tinted":
        gains = np.array([lot.uniform(0.6, 1.3) for _ in range(3)])
        return Image.fromarray(np.clip(np.asarray(image) * gains, 0, 255).astype(np.uint8))
    if how == "turned 90°":
        return image.transpose(lot.choice((Image.Transpose.ROTATE_90, Image.Transpose.ROTATE_180)))
    if how.startswith("turned"):
        angle = int(how[7:-1]) * lot.choice((-1, 1))
        return image.rotate(angle, Image.Resampling.BICUBIC, expand=True, fillcolor=(255, 255, 255))
    return image


def _hash(image: Image.Image, quality: int) -> PerceptualHash:
    out = io.BytesIO()
    image.save(out, "JPEG", quality=quality)
    return perceptual_hash(out.getvalue(), Limits())


def _family(path: Path) -> list[tuple[str, PerceptualHash]]:
    lot = random.Random(f"{_SEED}{path}")
    image = photo(path, 1_400)
    found = [("", _hash(image, 95))]
    for how in (*_PROMISED, *_BEYOND):
        quality = 55 if how == "compressed" else lot.choice((75, 85, 92))
        found.append((how, _hash(changed(image, how, lot), quality)))
    return found


def _drawing(path: Path) -> PerceptualHash | None:
    try:
        return perceptual_hash(path.read_bytes(), Limits(pixels=30_000_000))
    except ImagingError:
        return None


def main() -> None:
    paths = [path for kind in ("jpg", "png") for path in wallpapers(kind)]
    with ProcessPoolExecutor(2) as pool:
        families = list(pool.map(_family, paths))
        others = [one for one in pool.map(_drawing, drawings(_OTHERS), chunksize=20) if one is not None]
    known: dict[int, PerceptualHash] = {number: family[0][1] for number, family in enumerate(families)}
    known |= {len(families) + number: one for number, one in enumerate(others)}
    index = Index(known.items())
    hits: Counter[str] = Counter()
    right = wrong = 0
    for number, family in enumerate(families):
        for how, one in family[1:]:
            found = [other for other in index.candidates(one) if matched(known[other], one) is not None]
            hits[how] += number in found
            if how in _PROMISED:
                right += number in found
                wrong += sum(other != number for other in found)
    table = Table(title=f"{len(paths)} wallpapers, changed, among {len(known):,} pictures")
    for column in ("change", "found", "goal"):
        table.add_column(column)
    for how in (*_PROMISED, *_BEYOND):
        goal = "" if how in _PROMISED else "not promised"
        table.add_row(how, f"{hits[how] / len(paths):.0%}", goal)
    table.add_row("recall, all that is promised", f"{right / len(paths) / len(_PROMISED):.3f}", ".95")
    table.add_row("precision", f"{right / max(1, right + wrong):.3f}", ".98")
    same, differing = _among(known, index, range(len(families), len(known)))
    table.add_row("pairs of drawings, the same pixels", f"{same:,}", "")
    table.add_row("pairs of drawings that differ", f"{differing:,}", "0")
    among, _ = _among(known, index, range(len(families)))
    table.add_row("pairs of unlike wallpapers", f"{among + _:,}", "0")
    Console().print(table)
    _print_index()


def _among(known: dict[int, PerceptualHash], index: Index, numbers: range) -> tuple[int, int]:
    """Pairs among some: of the same pixels, and others."""
    same = differing = 0
    for number in numbers:
        for other in index.candidates(known[number]):
            if other <= number or other not in numbers:
                continue
            found = matched(known[number], known[other])
            if found is not None:
                same += found.alike > 0.9995
                differing += found.alike <= 0.9995
    return same, differing


def _print_index() -> None:
    lot = np.random.default_rng(_SEED)
    thumbnail = lot.integers(0, 256, (THUMBNAIL, THUMBNAIL), np.uint8)

    def made_up() -> PerceptualHash:
        features = np.zeros(MOST_FEATURES, FEATURE)
        features["bits"] = lot.integers(0, 2**63, MOST_FEATURES, np.uint64)
        return PerceptualHash(800, 600, features, thumbnail)

    asked = made_up()
    hashes = ((number, made_up() if number else asked) for number in range(_MANY))
    began = time.perf_counter()
    index = Index(hashes)
    built = time.perf_counter() - began
    began = time.perf_counter()
    for _ in range(20):
        assert index.candidates(asked)[0] == 0
    taken = (time.perf_counter() - began) / 20
    print(
        f"index of {_MANY:,}: built in {built:.0f} s; a question takes {taken * 1000:.1f} ms (goal: a second)"
    )
    began, count = time.perf_counter(), 200
    pairs = [(made_up(), made_up()) for _ in range(count)]
    began = time.perf_counter()
    for first, second in pairs:
        matched(first, second)
    print(f"two unlike pictures are told apart in {(time.perf_counter() - began) / count * 1000:.2f} ms")

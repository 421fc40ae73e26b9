"""Sizes: our downscale against Pillow's; what a cut around what matters keeps, against a cut in the middle.

``script/bench shapes``. The pictures of the second part are labelled by how they are made: a drawing of
openclipart is put somewhere into a photograph, and the painter's towers and visitors stand where they were
told to.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging.geometry import downscale
from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.scoring import Judge
from plumcrate.imaging.shapes import cut_at_place
from plumcrate.imaging.shaping.matters import what_matters

from .corpus import drawings, held_out, photo

U8 = NDArray[np.uint8]
_SCALES = (1.5, 2.0, 3.0, 5.0)
#: A subject is inside a cut when so much of it is.
_INSIDE = 0.9
_SHAPES = ((1, 1), (3, 4), (16, 9), (9, 16))


def main() -> None:
    table = Table("what", "figure", "goal", title="Sizes")
    _quality(table)
    _cuts(table)
    Console(width=110).print(table)


def _quality(table: Table) -> None:
    photos = [np.asarray(photo(path, 1920)) for path in held_out()[:6]]
    drawn = [np.asarray(_on_white(path, 1200)) for path in drawings(12)]
    drawn = [one for one in drawn if min(one.shape[:2]) >= 300][:6]
    for name, pictures in (("photographs", photos), ("drawings", drawn)):
        for scale in _SCALES:
            gains, speeds = [], []
            for rgb in pictures:
                size = round(rgb.shape[1] / scale), round(rgb.shape[0] / scale)
                ours, mine = _timed(lambda rgb=rgb, size=size: downscale(Pixels(rgb), *size).rgb)
                image = Image.fromarray(rgb)
                theirs, other = _timed(
                    lambda image=image, size=size: np.asarray(image.resize(size, Image.Resampling.LANCZOS))
                )
                gains.append(_round_trip(rgb, ours) - _round_trip(rgb, theirs))
                speeds.append(other / mine)
            table.add_row(
                f"{name}, {scale:g} times smaller: round trip against Pillow's Lanczos",
                f"{statistics.mean(gains):+.2f} points, from {min(gains):+.2f}",
                "not less",
            )
            table.add_row("  speed against Pillow's", f"{statistics.median(speeds):.2f} times", "1.0 times")


def _on_white(path: Path, side: int) -> Image.Image:
    image = Image.open(path).convert("RGBA")
    white = Image.new("RGBA", image.size, "white")
    flat = Image.alpha_composite(white, image).convert("RGB")
    flat.thumbnail((side, side))
    return flat


def _timed(make: object) -> tuple[U8, float]:
    """The result, and the least CPU seconds of several goes."""
    seconds = []
    for _ in range(5):
        began = time.process_time()
        result = make()  # type: ignore[operator]
        seconds.append(time.process_time() - began)
    return result, min(seconds)


def _round_trip(rgb: U8, small: U8) -> float:
    """The score of a picture made as large again, by the same filter for both."""
    size = rgb.shape[1], rgb.shape[0]
    again = np.asarray(Image.fromarray(small).resize(size, Image.Resampling.BICUBIC))
    return Judge(Pixels(rgb)).score(Pixels(again))


def _cuts(table: Table) -> None:
    ours = middle = count = 0
    kept_ours, kept_middle = [], []
    for rgb, box in labelled():
        matter = what_matters(Pixels(rgb))
        height, width = rgb.shape[:2]
        for shape in _SHAPES:
            if abs(width / height / (shape[0] / shape[1]) - 1) < 0.15:
                continue
            mine = _part_inside(box, matter.box(width, height, shape))
            plain = _part_inside(box, cut_at_place(width, height, shape, "centre"))
            kept_ours.append(mine)
            kept_middle.append(plain)
            ours += mine >= _INSIDE
            middle += plain >= _INSIDE
            count += 1
    table.add_row(
        f"{count} cuts of {len(list(labelled()))} labelled pictures: subject inside",
        f"{ours / count:.0%} around what matters, {middle / count:.0%} in the middle",
        "more than the middle",
    )
    table.add_row(
        "  part of the subject that is kept, mean",
        f"{statistics.mean(kept_ours):.0%}, {statistics.mean(kept_middle):.0%}",
        "",
    )


def _part_inside(subject: tuple[int, int, int, int], cut: tuple[int, int, int, int]) -> float:
    width = max(0, min(subject[2], cut[2]) - max(subject[0], cut[0]))
    height = max(0, min(subject[3], cut[3]) - max(subject[1], cut[1]))
    return width * height / max(1, (subject[2] - subject[0]) * (subject[3] - subject[1]))


def labelled() -> Iterator[tuple[U8, tuple[int, int, int, int]]]:
    """Pictures with the box of their subject; the same each time."""
    chance = np.random.default_rng(16)
    grounds = [photo(path, 960) for path in held_out()]
    subjects = [path for path in drawings(400) if path.stat().st_size > 4_000][:48]
    for number, path in enumerate(subjects):
        subject = Image.open(path).convert("RGBA")
        ground = grounds[number % len(grounds)].copy()
        part = chance.uniform(0.16, 0.34)
        scale = part * max(ground.size) / max(subject.size)
        size = max(8, round(subject.width * scale)), max(8, round(subject.height * scale))
        if size[1] > ground.height * 0.8:
            size = round(size[0] * ground.height * 0.6 / size[1]), round(ground.height * 0.6)
        small = subject.resize(size, Image.Resampling.LANCZOS)
        left = round(chance.uniform(0.02, 0.98) * (ground.width - size[0]))
        top = round(chance.uniform(0.02, 0.98) * (ground.height - size[1]))
        ground.paste(small, (left, top), small)
        yield np.asarray(ground), (left, top, left + size[0], top + size[1])
    yield from _painted(chance)


def _painted(chance: np.random.Generator) -> Iterator[tuple[U8, tuple[int, int, int, int]]]:
    from plumcrate.demo.painter.scenes import _tower, headland, swell

    for number in range(24):
        width, height = (960, 640) if number % 2 else (640, 900)
        scene = (headland, swell)[number % 2](np.random.default_rng(number), width, height, number)
        tall = int(height * chance.uniform(0.2, 0.4))
        foot = int(width * chance.uniform(0.1, 0.9)), int(height * chance.uniform(0.55, 0.85))
        before = scene.copy()
        scene = _tower(np.random.default_rng(number), scene, foot, tall)
        rows, columns = np.nonzero(np.abs(scene - before).max(axis=2) > 0.1)
        box = int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1
        yield (scene.clip(0, 1) * 255).astype(np.uint8), box


if __name__ == "__main__":
    main()

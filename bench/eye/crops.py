"""200 crops of treated pictures, drawn by lot from one seed: photographs, drawings, stamps, diagrams."""

from __future__ import annotations

import hashlib
import io
import json
import random
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path
from unittest.mock import patch

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from plumcrate.demo.painter.diagrams import every_diagram
from plumcrate.imaging import Chosen, Level, Recipe, treat
from plumcrate.imaging import recipe as recipes
from plumcrate.imaging.pixels import decode
from plumcrate.imaging.scoring import Flatness
from plumcrate.imaging.treatment import case, png

from ..corpus import drawings, others

HOME = Path(".state/eye")
SEED, COUNT, SAME = 31, 200, 20
#: Side of what is shown of a crop, in pixels of the screen; at 200 % half as many of the picture's.
SHOWN = 144
#: The part of a picture that is treated, and the quality at which a photograph's is stored.
_PART, _QUALITY = (640, 448), 95
_ANYTHING = Flatness(*[1e9] * 6)

U8 = NDArray[np.uint8]


@dataclass(frozen=True)
class Crop:
    """One pair. ``what`` it is of, ``how`` its result was made, ``zoom`` 1 or 2; ``digest`` of the result, by
    which a judgement knows what it was of. ``left`` and ``top`` within the part that was treated."""

    number: int
    what: str
    how: str
    zoom: int
    left: int
    top: int
    digest: str

    @property
    def side(self) -> int:
        """In pixels of the picture."""
        return SHOWN // self.zoom


def make() -> None:
    HOME.mkdir(parents=True, exist_ok=True)
    with ProcessPoolExecutor(2) as pool:
        made = list(pool.map(_make_one, range(COUNT)))
    (HOME / "crops.json").write_text(json.dumps([asdict(crop) for crop in made], indent=1))
    print(f"{len(made)} crops in {HOME}")


def load() -> list[Crop]:
    """The crops that were made. Raises SystemExit with what to do where there are none."""
    try:
        return [Crop(**crop) for crop in json.loads((HOME / "crops.json").read_text())]
    except FileNotFoundError:
        raise SystemExit("there are no crops yet: script/bench eye make") from None


def pair(number: int) -> tuple[U8, U8]:
    """The part that was treated, and what came of it, (height, width, 3) each."""
    with (
        Image.open(HOME / f"{number}-original.png") as first,
        Image.open(HOME / f"{number}-result.png") as second,
    ):
        return np.asarray(first.convert("RGB")), np.asarray(second.convert("RGB"))


def _make_one(number: int) -> Crop:
    lot = random.Random(SEED * 1_000 + number)
    zoom = 1 + number % 2
    for _ in range(20):
        what, image = _source(lot)
        made = _result(lot, image)
        if made is None:
            continue
        how, original, result = made
        side = SHOWN // zoom
        if min(original.shape[:2]) < side or (original == result).all():
            continue
        left, top = _place(lot, original, result, side)
        for name, pixels in (("original", original), ("result", result)):
            Image.fromarray(pixels).save(HOME / f"{number}-{name}.png")
        shown = np.ascontiguousarray(result[top : top + side, left : left + side])
        return Crop(number, what, how, zoom, left, top, hashlib.sha256(shown.tobytes()).hexdigest()[:16])
    raise RuntimeError(f"nothing was made for crop {number}")


def _source(lot: random.Random) -> tuple[str, Image.Image]:
    kind = lot.choice(["photograph"] * 5 + ["stamp", "drawing", "diagram"])
    if kind == "diagram":
        every = every_diagram(480)
        name = lot.choice(sorted(every))
        return name, every[name]
    found = {"photograph": others("jpg"), "stamp": others("png"), "drawing": drawings(400)}
    place = lot.choice(found[kind])
    with Image.open(place) as opened:
        image = opened.convert("RGBA" if kind != "photograph" else "RGB")
    width, height = (min(most, side) for most, side in zip(_PART, image.size, strict=True))
    left, top = lot.randint(0, image.width - width), lot.randint(0, image.height - height)
    return place.name, image.crop((left, top, left + width, top + height))


def _result(lot: random.Random, image: Image.Image) -> tuple[str, U8, U8] | None:
    """One output of a treatment, by lot: at a level, with all that guards what is seen or the score alone."""
    photograph = image.mode == "RGB"
    level = lot.choice([Level.LEAN, Level.EVERYDAY, Level.EVERYDAY, Level.GALLERY])
    guarded = lot.random() < 0.5
    into = io.BytesIO()
    image.save(
        into,
        "JPEG" if photograph else "PNG",
        **({"quality": _QUALITY, "subsampling": 0} if photograph else {}),
    )
    with _guards(guarded):
        outputs = treat(into.getvalue(), Recipe(level)).outputs
    chosen = [one for one in outputs if isinstance(one, Chosen) and one.score != 100.0]
    if not chosen:
        return None
    output = lot.choice(chosen)
    ground = 26 if lot.random() < 0.5 else 230
    original, result = (decode(data).over(ground) for data in (into.getvalue(), output.data))
    return f"{level}, {'guarded' if guarded else 'score alone'}, {output.format}", original, result


@contextmanager
def _guards(on: bool) -> Iterator[None]:
    if on:
        yield
        return
    free = dict.fromkeys(Level, _ANYTHING)
    with (
        patch.object(recipes, "TEXTURE", {}),
        patch.object(case, "_FLATNESS", free),
        patch.object(png, "_PLAIN", free),
        patch.object(png, "_GRAINED", free),
    ):
        yield


def _place(lot: random.Random, original: U8, result: U8, side: int) -> tuple[int, int]:
    """Where to look: anywhere, or where the difference is largest for what goes on there."""
    lefts, tops = (range(0, extent - side + 1, 8) for extent in (original.shape[1], original.shape[0]))
    if lot.random() < 0.5:
        return lot.choice(lefts), lot.choice(tops)
    light = original.mean(2)
    off = np.abs(original.astype(float) - result).mean(2)

    def seen(place: tuple[int, int]) -> float:
        rows, columns = slice(place[1], place[1] + side), slice(place[0], place[0] + side)
        return float(off[rows, columns].mean() / (4 + light[rows, columns].std()))

    return max(((left, top) for left in lefts[::2] for top in tops[::2]), key=seen)

"""The worst places of painted pictures at ``everyday``, by the score and by texture, as one sheet."""

from __future__ import annotations

import io
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

from plumcrate.demo.painter.diagrams import every_diagram
from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import Chosen, Recipe, treat
from plumcrate.imaging.pixels import decode
from plumcrate.imaging.scoring import Judge
from plumcrate.imaging.scoring.texture import change_of

from .crops import U8

PLACE = Path(__file__).parents[2] / "docs/imaging/worst-places.png"
#: Side of a crop, shown at 200 %; crops in a row, rows of each half.
_SIDE, _ACROSS, _DOWN = 64, 5, 4
_GAP, _LINE = 10, 18
#: A window of texture, and a cell of the score, in pixels.
_WINDOW, _CELL = 16, 64


@dataclass(frozen=True)
class Place:
    """A crop of an output: its cell's score, and how far its texture changed, 1 at the limit."""

    what: str
    score: float
    texture: float
    pair: tuple[U8, U8]


def draw() -> None:
    with ProcessPoolExecutor(2) as pool:
        places = [place for some in pool.map(_places, [*SCENES, *every_diagram(8)]) for place in some]
    halves = {
        "by the score": sorted(places, key=lambda place: place.score),
        "by texture": sorted(places, key=lambda place: -place.texture),
    }
    width = _ACROSS * (4 * _SIDE + 2 + _GAP)
    height = len(halves) * (_LINE + _DOWN * (2 * _SIDE + _LINE))
    sheet = Image.new("RGB", (width, height), "white")
    pen = ImageDraw.Draw(sheet)
    y = 0
    for title, worst in halves.items():
        pen.text((2, y + 3), f"The worst {title}; the original is on the left, 200 %", fill="black")
        y += _LINE
        for number, place in enumerate(worst[: _ACROSS * _DOWN]):
            x, top = number % _ACROSS * (4 * _SIDE + 2 + _GAP), y + number // _ACROSS * (2 * _SIDE + _LINE)
            said = f"{place.what}: score {place.score:.0f}, texture {place.texture:.1f}"
            pen.text((x + 2, top + 3), said, fill="black")
            for side, pixels in enumerate(place.pair):
                image = Image.fromarray(pixels.repeat(2, 0).repeat(2, 1))
                sheet.paste(image, (x + side * (2 * _SIDE + 2), top + _LINE))
        y += _DOWN * (2 * _SIDE + _LINE)
    sheet.save(PLACE, optimize=True)
    print(f"{PLACE} is drawn")


def _places(name: str) -> list[Place]:
    """Of each output of a painted picture the cell that is worst by either measure."""
    source = _painted(name)
    original = decode(source)
    judge = Judge(original)
    found: list[Place] = []
    for output in treat(source, Recipe()).outputs:
        if not isinstance(output, Chosen) or output.score == 100.0:
            continue
        result = decode(output.data)
        first, second = original.over(230), result.over(230)
        cells = judge.judge(result).cells
        rows, columns = first.shape[0] // _CELL, first.shape[1] // _CELL
        each = _CELL // _WINDOW
        change = change_of(first, second)[:, : rows * each, : columns * each]
        change = np.percentile(change.reshape(2, rows, each, columns, each), 80, axis=(2, 4)).max(0)
        for row, column in {_lowest(cells[:rows, :columns]), _lowest(-change)}:
            window = np.s_[row * _CELL :, column * _CELL :]
            crops = tuple(np.ascontiguousarray(one[window][:_SIDE, :_SIDE]) for one in (first, second))
            said = f"{name}, {output.format}"
            found.append(
                Place(said, float(cells[row, column]), float(change[row, column]), (crops[0], crops[1]))
            )
    return found


def _lowest(cells: np.ndarray) -> tuple[int, int]:
    row, column = np.unravel_index(int(cells.argmin()), cells.shape)
    return int(row), int(column)


def _painted(name: str) -> bytes:
    out = io.BytesIO()
    if name in SCENES:
        chance = np.random.default_rng(5)
        painted = grain(chance, SCENES[name](chance, 1200, 800, 1), 0.02)
        image = Image.fromarray((painted.clip(0, 1) * 255).astype(np.uint8))
        image.save(out, "JPEG", quality=95)
    else:
        every_diagram(480)[name].save(out, "PNG")
    return out.getvalue()

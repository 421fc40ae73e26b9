"""Sheets to be judged: pairs side by side, which is the original and in which order by lot."""

from __future__ import annotations

import csv
import random
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

from .crops import COUNT, HOME, SAME, SHOWN, U8, Crop, load, pair

JUDGEMENTS = Path(__file__).with_name("judgements.csv")
#: Pairs beside and below one another on a sheet.
_ACROSS, _DOWN = 5, 5
_GAP, _LINE = 12, 18
#: What may be written down of a pair: no difference, one that is found by looking for it, one that is seen at
#: once.
_VERDICTS = "012"


def draw(number: int) -> None:
    """Draws the sheets of a pass."""
    made = {crop.number: crop for crop in load()}
    each = _ACROSS * _DOWN
    order = _order(number)
    for first in range(0, len(order), each):
        sheet = Image.new("RGB", (_ACROSS * (2 * SHOWN + 2 + _GAP), _DOWN * (SHOWN + _LINE)), "#808080")
        draw_on = ImageDraw.Draw(sheet)
        for at, which in enumerate(order[first : first + each]):
            x, y = at % _ACROSS * (2 * SHOWN + 2 + _GAP), at // _ACROSS * (SHOWN + _LINE)
            swapped = random.Random(f"{number} {which}").random() < 0.5
            shown = _shown(made[which % COUNT], same=which >= COUNT)
            for side, pixels in enumerate(shown[::-1] if swapped else shown):
                sheet.paste(Image.fromarray(pixels), (x + side * (SHOWN + 2), y + _LINE - 2))
            draw_on.text((x + 2, y + 3), f"{at + 1}", fill="white")
        place = HOME / f"pass-{number}-{first // each + 1}.png"
        sheet.save(place)
        print(place)


def record(number: int) -> None:
    """Reads what was written down, and keeps it."""
    written = (HOME / f"pass-{number}.txt").read_text()
    verdicts = [int(letter) for letter in written if letter in _VERDICTS]
    order = _order(number)
    if len(verdicts) != len(order):
        raise SystemExit(f"{len(verdicts)} verdicts were written down, of {len(order)} pairs")
    kept = {row["pair"]: row for row in rows()} if JUDGEMENTS.exists() else {}
    made = {crop.number: crop for crop in load()}
    for which, verdict in zip(order, verdicts, strict=True):
        crop = made[which % COUNT]
        row = kept.setdefault(str(which), {"pair": str(which)})
        row |= {"of": crop.what, "how": "the same" if which >= COUNT else crop.how, "zoom": str(crop.zoom)}
        row |= {"result": "" if which >= COUNT else crop.digest, f"pass {number}": str(verdict)}
    with JUDGEMENTS.open("w", newline="") as file:
        into = csv.DictWriter(file, ["pair", "of", "how", "zoom", "result", "pass 1", "pass 2"])
        into.writeheader()
        into.writerows(kept[key] for key in sorted(kept, key=int))


def rows() -> Iterator[dict[str, str]]:
    """What is kept of every pair."""
    with JUDGEMENTS.open(newline="") as file:
        yield from csv.DictReader(file)


def _order(number: int) -> list[int]:
    """Pairs as they come in a pass; those from :data:`COUNT` on show the original twice."""
    order = list(range(COUNT + SAME))
    random.Random(number).shuffle(order)
    return order


def _shown(crop: Crop, *, same: bool) -> list[U8]:
    """Both sides in pixels of the screen."""
    window = np.s_[crop.top : crop.top + crop.side, crop.left : crop.left + crop.side]
    original, result = (pixels[window] for pixels in pair(crop.number))
    return [
        side.repeat(crop.zoom, 0).repeat(crop.zoom, 1) for side in (original, original if same else result)
    ]

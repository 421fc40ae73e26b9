"""What the eye sees and a score forgives: fine grain that results keep, and what keeping it costs.

``script/bench seen [FOLDER] [LEVEL]``. Crops of photographs at full size, by default of the wallpapers; those
in a folder are better, since nothing was fitted on them. Each is treated twice, once with nothing asked of
grain.
"""

from __future__ import annotations

import io
import sys
import time
from collections import defaultdict
from pathlib import Path
from unittest.mock import patch

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Chosen, Level, Recipe, treat
from plumcrate.imaging import recipe as recipes
from plumcrate.imaging.pixels import decode
from plumcrate.imaging.scoring import Judge

from .corpus import wallpapers

#: Width and height of a crop from the middle, and the quality it is stored at.
_CROP, _QUALITY = (1_000, 700), 95
_MEAN, _LEAST = 0.85, 0.7


def main() -> None:
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else None
    level = Level(sys.argv[2]) if len(sys.argv) > 2 else Level.EVERYDAY
    sources = [crop(place) for place in pictures(folder)]
    table = Table(
        "grain asked for",
        "format",
        "files",
        "kept, mean",
        "least",
        "bytes",
        "CPU-s",
        title=f"{len(sources)} photographs at {level}",
    )
    for asked in (0.0, recipes.GRAIN.get(level, 0.0)):
        floors = recipes.GRAIN | {level: asked} if asked else {}
        with patch.object(recipes, "GRAIN", floors):
            began = time.process_time()
            rows = measured(sources, level)
            seconds = time.process_time() - began
        for number, (kind, found) in enumerate(sorted(rows.items(), reverse=True)):
            kept, sizes = zip(*found, strict=True)
            table.add_row(
                f"{asked:g}" if not number else "",
                kind,
                str(len(found)),
                f"{np.mean(kept):.3f}",
                f"{min(kept):.2f}",
                f"{sum(sizes):,}",
                f"{seconds:.0f}" if not number else "",
            )
    table.caption = f"goal at everyday: mean {_MEAN}, least {_LEAST}"
    Console(width=110).print(table)


def measured(sources: list[bytes], level: Level) -> dict[str, list[tuple[float, int]]]:
    """What each format's results keep, and weigh."""
    found: dict[str, list[tuple[float, int]]] = defaultdict(list)
    for data in sources:
        judge = Judge(decode(data))
        for output in treat(data, Recipe(level)).outputs:
            if isinstance(output, Chosen):
                found[output.format].append((judge.grain_kept(decode(output.data)), output.size))
    return found


def pictures(folder: Path | None) -> list[Path]:
    """The wallpapers, or a folder's photographs."""
    if folder is None:
        return wallpapers()
    return sorted(place for place in folder.iterdir() if place.suffix.lower() in (".jpg", ".jpeg"))


def crop(place: Path) -> bytes:
    """The middle of a picture at full size, as a camera's file."""
    with Image.open(place) as image:
        width, height = (min(most, side) for most, side in zip(_CROP, image.size, strict=True))
        left, top = (image.width - width) // 2, (image.height - height) // 2
        into = io.BytesIO()
        part = image.convert("RGB").crop((left, top, left + width, top + height))
        part.save(into, "JPEG", quality=_QUALITY, subsampling=0)
    return into.getvalue()


if __name__ == "__main__":
    main()

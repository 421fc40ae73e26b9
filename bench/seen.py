"""What the eye sees and a score forgives: fine grain and texture that results keep, and what it costs.

``script/bench seen [LEVEL] [FOLDER]``. Crops of photographs at full size, by default of those that nothing
was fitted on. Each is treated twice, once with nothing asked of texture.
"""

from __future__ import annotations

import io
import sys
import time
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
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

from .corpus import others

#: Width and height of a crop from the middle, and the quality it is stored at.
_CROP, _QUALITY = (1_000, 700), 95
_MEAN, _LEAST = 0.85, 0.7


@dataclass(frozen=True, slots=True)
class Result:
    """One output: its ``format`` and ``size``, what it keeps of grain, in how much of it a change is seen."""

    format: str
    size: int
    kept: float
    seen: float


def main() -> None:
    level = Level(sys.argv[1]) if len(sys.argv) > 1 else Level.EVERYDAY
    sources = [crop(place) for place in pictures(Path(sys.argv[2]) if len(sys.argv) > 2 else None)]
    table = Table(
        "texture",
        "format",
        "files",
        "kept, mean",
        "least",
        "seen, mean",
        "most",
        "bytes",
        "CPU-s",
        title=f"{len(sources)} photographs at {level}",
    )
    for asked in (False, True):
        with ProcessPoolExecutor(2) as pool:
            done = list(pool.map(partial(measured, level, asked), sources))
        by_format: dict[str, list[Result]] = defaultdict(list)
        for _, results in done:
            for result in results:
                by_format[result.format].append(result)
        for number, (kind, found) in enumerate(sorted(by_format.items(), reverse=True)):
            kept, seen = [one.kept for one in found], [one.seen for one in found]
            table.add_row(
                ("asked for" if asked else "not asked for") if not number else "",
                kind,
                str(len(found)),
                f"{np.mean(kept):.3f}",
                f"{min(kept):.2f}",
                f"{np.mean(seen):.1%}",
                f"{max(seen):.0%}",
                f"{sum(one.size for one in found):,}",
                f"{sum(seconds for seconds, _ in done):.0f}" if not number else "",
            )
    table.caption = f"goal at everyday: kept on the mean {_MEAN}, at least {_LEAST}"
    Console(width=110).print(table)


def measured(level: Level, asked: bool, data: bytes) -> tuple[float, list[Result]]:
    """CPU seconds of a treatment, and its lossy outputs."""
    judge = Judge(decode(data))
    with patch.object(recipes, "TEXTURE", recipes.TEXTURE if asked else {}):
        began = time.process_time()
        outputs = treat(data, Recipe(level)).outputs
        seconds = time.process_time() - began
    chosen = [one for one in outputs if isinstance(one, Chosen) and one.score != 100.0]
    shifts = [judge.texture(decode(one.data)) for one in chosen]
    return seconds, [
        Result(one.format, one.size, shift.kept, shift.seen)
        for one, shift in zip(chosen, shifts, strict=True)
    ]


def pictures(folder: Path | None) -> list[Path]:
    """Photographs that nothing was fitted on, or a folder's."""
    found = others("jpg") if folder is None else sorted(folder.iterdir())
    return [place for place in found if place.suffix.lower() in (".jpg", ".jpeg")]


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

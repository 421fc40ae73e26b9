"""Our GIF and animated copies, on animations drawn from real drawings: a slide show, a moving mark, noise.

Baseline: the file as Pillow writes it, unoptimized and optimized.
"""

from __future__ import annotations

import io
import time

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Chosen, Level, Recipe, treat
from plumcrate.imaging.gif import recompress

from .corpus import drawings, photo, tuned

_FRAMES = 16


def main() -> None:
    table = Table(
        "animation",
        "as written",
        "Pillow optimized",
        "exact",
        "saved",
        "WebP copy",
        "AVIF copy",
        "MP per CPU-second",
        title="GIF",
    )
    for name, frames in _animations().items():
        plain, optimized = (_saved(frames, optimize=optimize) for optimize in (False, True))
        began = time.process_time()
        smaller = recompress(plain, 10**9)
        seconds = time.process_time() - began
        copies = {
            copy.format: copy.size
            for copy in treat(plain, Recipe(Level.EVERYDAY)).of("copy")
            if isinstance(copy, Chosen)
        }
        megapixels = frames[0].width * frames[0].height * len(frames) / 1e6
        table.add_row(
            name,
            f"{len(plain):,}",
            f"{len(optimized):,}",
            f"{len(smaller):,}",
            f"{1 - len(smaller) / len(plain):.1%}",
            f"{copies.get('webp', 0):,}",
            f"{copies.get('avif', 0):,}",
            f"{megapixels / seconds:.1f}",
        )
    Console(width=120).print(table)


def _animations() -> dict[str, list[Image.Image]]:
    marks = []
    for path in drawings(40):
        with Image.open(path) as image:
            marks.append(image.convert("RGBA").resize((200, 160)))
    shows = []
    for path in tuned()[:4]:
        shows += [photo(path, 320).resize((320, 200))] * 4
    moving = []
    for number in range(_FRAMES):
        canvas = Image.new("RGBA", (420, 200), (240, 244, 246, 255))
        canvas.alpha_composite(marks[3], (10 + number * 12, 20))
        moving.append(canvas)
    rng = np.random.default_rng(0)
    noise = [Image.fromarray(rng.integers(0, 256, (100, 160, 3), dtype=np.uint8)) for _ in range(_FRAMES)]
    return {
        "drawings, one after another": marks[:_FRAMES],
        "one drawing moving": moving,
        "photographs, standing": shows,
        "noise": noise,
    }


def _saved(frames: list[Image.Image], *, optimize: bool) -> bytes:
    out = io.BytesIO()
    delays = [80 + 10 * number for number in range(len(frames))]
    frames[0].save(
        out, "GIF", save_all=True, append_images=frames[1:], duration=delays, loop=0, optimize=optimize
    )
    return out.getvalue()


if __name__ == "__main__":
    main()

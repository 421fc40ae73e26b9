"""Our PNG on real drawings and wallpapers: exact by effort, and lossy by level.

Baseline: the file as it is, and what Pillow's optimize makes of it.
"""

from __future__ import annotations

import io
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import deflate
import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Chosen, Effort, Level, Recipe, treat
from plumcrate.imaging.png import read_png, recompress
from plumcrate.imaging.png.rows import LEAST_SUM, filtered, rows_of

from .corpus import drawings, wallpapers

_MOST = 10**9
#: Thorough effort is slow: it is measured on pictures of at most so many pixels.
_THOROUGH_UP_TO = 600_000


@dataclass
class _Result:
    before: int
    after: int
    pillow: int
    megapixels: float
    seconds: float
    same: bool
    score: float = 100.0


def main() -> None:
    console = Console(width=130)
    groups = {"drawings": drawings(200), "wallpapers": wallpapers("png", every=True)}
    with ProcessPoolExecutor(2) as pool:
        exact = Table(
            "pictures",
            "effort",
            "files",
            "before",
            "Pillow",
            "after",
            "saved",
            "larger",
            "other pixels",
            "MP per CPU-second",
            title="PNG, exact",
        )
        for effort in (Effort.QUICK, Effort.NORMAL):
            every: list[_Result] = []
            for name, paths in groups.items():
                every += _row(exact, name, effort, list(pool.map(partial(_exact, effort), paths)))
            _row(exact, "all", effort, every)
        console.print(exact)
        small = [path for path in drawings(200) if _pixels(path) <= _THOROUGH_UP_TO][:60]
        thorough = Table(
            "files",
            "library's best level",
            "normal",
            "thorough",
            "against the best level",
            "MP per CPU-second",
            title="PNG, thorough effort, small drawings",
        )
        found = list(pool.map(_thorough, small))
        best, normal, deep, megapixels, seconds = (sum(column) for column in zip(*found, strict=True))
        thorough.add_row(
            str(len(small)),
            f"{best / 1e6:.3f} MB",
            f"{normal / 1e6:.3f} MB",
            f"{deep / 1e6:.3f} MB",
            f"{deep / best - 1:+.1%}",
            f"{megapixels / seconds:.3f}",
        )
        console.print(thorough)
        lossy = Table(
            "pictures",
            "level",
            "files",
            "exact",
            "at the level",
            "saved",
            "least score",
            "mean score",
            title="PNG, lossy: a palette at the level's score",
        )
        for level in (Level.GALLERY, Level.EVERYDAY):
            results = list(pool.map(partial(_lossy, level), small))
            before, after = sum(r.before for r in results), sum(r.after for r in results)
            scores = [r.score for r in results]
            lossy.add_row(
                "drawings",
                str(level),
                str(len(results)),
                f"{before / 1e6:.3f} MB",
                f"{after / 1e6:.3f} MB",
                f"{1 - after / before:.1%}",
                f"{min(scores):.1f}",
                f"{np.mean(scores):.1f}",
            )
        console.print(lossy)


def _row(table: Table, name: str, effort: Effort, results: list[_Result]) -> list[_Result]:
    total: Callable[[str], float] = lambda field: sum(getattr(result, field) for result in results)  # noqa: E731
    table.add_row(
        name,
        str(effort),
        str(len(results)),
        f"{total('before') / 1e6:.2f} MB",
        f"{total('pillow') / total('before') - 1:+.1%}",
        f"{total('after') / 1e6:.2f} MB",
        f"{1 - total('after') / total('before'):.1%}",
        str(sum(r.after > r.before for r in results)),
        str(sum(not r.same for r in results)),
        f"{total('megapixels') / total('seconds'):.2f}",
    )
    return results


def _pixels(path: Path) -> int:
    with Image.open(path) as image:
        return image.width * image.height


def _exact(effort: Effort, path: Path) -> _Result:
    data = path.read_bytes()
    began = time.process_time()
    smaller = recompress(data, effort, _MOST)
    seconds = time.process_time() - began
    with Image.open(io.BytesIO(data)) as first, Image.open(io.BytesIO(smaller)) as second:
        out = io.BytesIO()
        first.save(out, "PNG", optimize=True)
        one, other = (np.asarray(image.convert("RGBA")) for image in (first, second))
        hidden = (one[..., 3] == 0) & (other[..., 3] == 0)
        same = bool(((one == other).all(axis=2) | hidden).all())
        megapixels = first.width * first.height / 1e6
    return _Result(len(data), len(smaller), out.tell(), megapixels, seconds, same)


def _thorough(path: Path) -> tuple[int, int, int, float, float]:
    """Bytes with the library's best level on the same form, at normal and at thorough effort."""
    data = path.read_bytes()
    normal = recompress(data, Effort.NORMAL, _MOST)
    picture = read_png(normal, _MOST).picture
    plain = rows_of(picture.samples, picture.header)
    ways = (0, LEAST_SUM) if picture.header.depth == 8 else (0,)
    overhead = len(normal) - sum(len(body) for name, body in _chunks(normal) if name == b"IDAT")
    best = min(
        len(deflate.zlib_compress(filtered(plain, picture.header.step, way).tobytes(), 12)) for way in ways
    )
    began = time.process_time()
    thorough = recompress(data, Effort.THOROUGH, _MOST)
    seconds = time.process_time() - began
    return min(best + overhead, len(data)), len(normal), len(thorough), _pixels(path) / 1e6, seconds


def _chunks(data: bytes) -> list[tuple[bytes, bytes]]:
    from plumcrate.imaging.png.chunks import read_chunks

    return [(chunk.name, chunk.body) for chunk in read_chunks(data)[0]]


def _lossy(level: Level, path: Path) -> _Result:
    data = path.read_bytes()
    exact = recompress(data, Effort.NORMAL, _MOST)
    output = treat(data, Recipe(level, copies=frozenset())).main
    return _Result(
        len(exact),
        output.size if isinstance(output, Chosen) else len(exact),
        0,
        0,
        0,
        True,
        output.score or 100.0,
    )


if __name__ == "__main__":
    main()

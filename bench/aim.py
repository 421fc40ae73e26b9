"""Landing on a score: how many encodes, what AVIF's cost, how far off, how many bytes, at 1200 pixels.

AVIF's encodes are also told in units of one by the library's speed 6 with plain tuning (full chroma, tiles)
at the quality that was landed on.
"""

from __future__ import annotations

import io
import time
from collections.abc import Iterator
from contextlib import contextmanager
from statistics import mean
from typing import Any
from unittest import mock

from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Chosen, Level, Output, Recipe, Treatment, avif, treat
from plumcrate.imaging.recipe import TARGETS
from plumcrate.imaging.treatment import modern

from .copies import plain_tuning
from .corpus import as_uploaded, held_out, photo, tuned

#: Units of AVIF that are wanted at most.
_GOALS = {Level.GALLERY: 1.15, Level.EVERYDAY: 1.05, Level.LEAN: 1.3}


def main() -> None:
    console = Console(width=130)
    for title, paths in (
        ("photographs that constants were fitted on", tuned()),
        ("held-out photographs", held_out()),
    ):
        table = Table(
            "level",
            "file",
            "of them",
            "chosen",
            "encodes",
            "units",
            "goal",
            "points off",
            "largest miss",
            "bytes saved",
            title=title,
        )
        for level, goal in _GOALS.items():
            sources = [as_uploaded(photo(path, 1200)) for path in paths]
            began = time.process_time()
            with _clocked() as spent:
                treatments = [treat(source, Recipe(level)) for source in sources]
            seconds = time.process_time() - began
            by_format: dict[str, list[tuple[int, Output]]] = {}
            for source, treatment in zip(sources, treatments, strict=True):
                for output in (treatment.main, *treatment.of("copy")):
                    by_format.setdefault(output.format, []).append((len(source), output))
            for name, outputs in by_format.items():
                chosen = [(size, one) for size, one in outputs if isinstance(one, Chosen)]
                off = [(one.score or 0) - TARGETS[level] for _, one in chosen]
                saved = 1 - sum(one.size for _, one in chosen) / max(1, sum(size for size, _ in chosen))
                units = sum(spent) / sum(map(_unit, sources, treatments)) if name == "avif" else None
                table.add_row(
                    level,
                    name,
                    str(len(outputs)),
                    str(len(chosen)),
                    f"{mean(one.encodes for _, one in outputs):.2f}",
                    f"{units:.2f}" if units else "",
                    f"{goal}" if units else "",
                    f"{mean(abs(value) for value in off):.2f}" if off else "",
                    f"{min(off):.2f}" if off else "",
                    f"{saved:.0%}" if chosen else "",
                )
            megapixels = sum(t.facts.pixels for t in treatments) / 1e6
            table.add_row(level, "all three", *[""] * 7, f"{megapixels / seconds:.2f} MP per CPU-second")
        console.print(table)


@contextmanager
def _clocked() -> Iterator[list[float]]:
    """CPU-seconds of each AVIF encode that treatments make."""
    spent: list[float] = []

    def clocked(*arguments: Any) -> bytes:
        began = time.process_time()
        data = avif.encode(*arguments)
        spent.append(time.process_time() - began)
        return data

    with mock.patch.object(modern, "encode_avif", clocked):
        yield spent


def _unit(source: bytes, treatment: Treatment) -> float:
    """CPU-seconds of one encode with plain tuning where AVIF came down, or was given up."""
    how = next(one.how for one in treatment.of("copy") if one.format == "avif")
    step = int(how.removeprefix("quality ").split(",")[0])
    with Image.open(io.BytesIO(source)) as image:
        image.load()
        began = time.process_time()
        plain_tuning(image, round(step * 100 / 63))
        return time.process_time() - began


if __name__ == "__main__":
    main()

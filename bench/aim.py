"""Landing on a score: how many encodes, how far off, how many bytes, on photographs at 1200 pixels."""

from __future__ import annotations

import time
from statistics import mean

from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Chosen, Level, Output, Recipe, treat
from plumcrate.imaging.recipe import TARGETS

from .corpus import as_uploaded, held_out, photo, tuned


def main() -> None:
    console = Console()
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
            "points off",
            "largest miss",
            "bytes saved",
            title=title,
        )
        for level in (Level.GALLERY, Level.EVERYDAY, Level.LEAN):
            sources = [as_uploaded(photo(path, 1200)) for path in paths[:12]]
            began = time.process_time()
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
                table.add_row(
                    level, name, str(len(outputs)), str(len(chosen)),
                    f"{mean(one.encodes for _, one in outputs):.2f}",
                    f"{mean(abs(value) for value in off):.2f}" if off else "",
                    f"{min(off):.2f}" if off else "", f"{saved:.0%}" if chosen else "",
                )  # fmt: skip
            megapixels = sum(t.facts.pixels for t in treatments) / 1e6
            table.add_row(
                level, "all three", "", "", "", "", "", f"{megapixels / seconds:.2f} MP per CPU-second"
            )
        console.print(table)


if __name__ == "__main__":
    main()

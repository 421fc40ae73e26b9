"""What shutting the decoders in costs: the same pictures through children with walls and without, in turn."""

from __future__ import annotations

import statistics
import time

from rich.console import Console
from rich.table import Table

from plumcrate.imaging import Recipe
from plumcrate.sandbox.children import Sandbox

from .corpus import as_uploaded, photo, wallpapers

_PICTURES, _SIDE, _ROUNDS = 12, 800, 5


def main() -> None:
    found = wallpapers()
    pictures = [as_uploaded(photo(found[number % len(found)], _SIDE)) for number in range(_PICTURES)]
    boxes = {contained: Sandbox(1, 4000, 60, contained=contained) for contained in (True, False)}
    try:
        for box in boxes.values():  # each has loaded its kernels
            box.treat(pictures[0], Recipe(), 1.0)
        ratios = []
        for _ in range(_ROUNDS):
            took = {}
            for contained, box in boxes.items():
                began = time.perf_counter()
                for data in pictures:
                    box.treat(data, Recipe(copies=frozenset({"webp"})), 1.0)
                took[contained] = time.perf_counter() - began
            ratios.append(took[False] / took[True])
        holds = boxes[True].ready()
    finally:
        for box in boxes.values():
            box.close()
    table = Table("what", "figure", "goal", title="Containment, throughput with against without")
    table.add_row("median of pairs", f"{statistics.median(ratios):.3f}", "0.97")
    table.add_row("pairs", ", ".join(f"{ratio:.3f}" for ratio in ratios), "")
    table.add_row("what holds here", ", ".join(name for name, held in holds.items() if held), "")
    Console(width=110).print(table)


if __name__ == "__main__":
    main()

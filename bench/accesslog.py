"""An access log of a gigabyte: seconds and memory. ``script/bench accesslog`` writes one and reads it."""

from __future__ import annotations

import random
import resource
import tempfile
import time
from pathlib import Path

from rich.console import Console
from rich.table import Table

from plumcrate.accesslog.batches import batches, chunks_of, opened

_SIZE = 1_000_000_000
_AGENTS = (
    "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0",
    "Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15 Safari/604.1",
    "ExampleBot/1.0 (+https://bot.example)",
)


def main() -> None:
    with tempfile.TemporaryDirectory() as home:
        place = Path(home) / "access.log"
        _write(place)
        before = _memory()
        began = time.perf_counter()
        lines = answers = counts = sent = 0
        with opened(place) as log:
            for batch in batches(chunks_of(log, 0), 0, b"/media/"):
                lines += batch.lines
                counts += len(batch.counts)
                sent += 1
                answers += sum(requests for requests, _ in batch.counts.values())
        seconds = time.perf_counter() - began
    table = Table("what", "figure", "goal", title="An access log of 1 GB, Combined Log Format")
    table.add_row("lines; answers with pictures", f"{lines:,}; {answers:,}", "")
    table.add_row("counts to be sent, in batches", f"{counts:,} in {sent:,}", "")
    table.add_row("seconds", f"{seconds:.1f}", "")
    table.add_row("memory at its most", f"{_memory():.0f} MB ({_memory() - before:+.0f})", "100 MB")
    Console(width=100).print(table)


def _write(place: Path) -> None:
    """Twenty thousand pictures in three sizes over four weeks, and as many requests for other things."""
    rng = random.Random(3)
    with place.open("w") as log:
        written = 0
        while written < _SIZE:
            block = "".join(_line(rng) for _ in range(20_000))
            written += log.write(block)


def _line(rng: random.Random) -> str:
    picture = rng.random() < 0.6
    number = rng.randrange(20_000)
    path = f"/media/2025/{number % 12 + 1:02d}/picture-{number}-640w.jpg" if picture else f"/visit?x={number}"
    status = 200 if rng.random() < 0.8 else 304
    day = rng.randrange(1, 29)
    head = f"192.0.2.{rng.randrange(255)} - - [{day:02d}/Oct/2026:08:{rng.randrange(60):02d}:33 +0200]"
    size, agent = rng.choice((5_120, 30_000, 12_345)), rng.choice(_AGENTS)
    return f'{head} "GET {path} HTTP/1.1" {status} {size} "https://ledge.example/visit" "{agent}"\n'


def _memory() -> float:
    """Megabytes resident at the most so far."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1_000

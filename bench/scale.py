"""A library of 200,000 small files: surveys, run creation, memory, queries, progress.

``script/bench scale [FILES]``
"""

from __future__ import annotations

import io
import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path

import httpx
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.contract.common import Page
from plumcrate.contract.pictures import Picture
from plumcrate.contract.runs import RunRequest, Scope

from .stand import Stand, stand

_SIZES = (640, 320, 160, 80)
_ROUNDS = 40


def main() -> None:
    files = int(sys.argv[1]) if len(sys.argv) > 1 else 200_000
    with stand() as bench:
        root = bench.home / "library"
        fill(root, files // (1 + len(_SIZES)))
        table = Table("what", "figure", "goal", title=f"A library of {files:,} files")
        _surveys(bench, root, files, table)
        run_id = _runs(bench, table)
        _queries(bench, run_id, table)
        for name in bench.processes:
            table.add_row(f"most memory of the {name}'s parent", f"{bench.peak(name):.0f} MB", "250 MB")
        Console(width=110).print(table)


def fill(root: Path, pictures: int) -> None:
    """Pictures with four renditions each, in folders by year and month."""
    samples = {}
    for width in (1280, *_SIZES):
        out = io.BytesIO()
        Image.new("RGB", (width, width // 2), (107, 44, 92)).save(out, "JPEG")
        samples[width] = out.getvalue()
    for index in range(pictures):
        place = root / f"{2000 + index % 25}/{index // 25 % 12 + 1:02d}"
        place.mkdir(parents=True, exist_ok=True)
        (place / f"p{index}.jpg").write_bytes(samples[1280])
        for width in _SIZES:
            (place / f"p{index}-{width}w.jpg").write_bytes(samples[width])


def _surveys(bench: Stand, root: Path, files: int, table: Table) -> None:
    began = time.perf_counter()
    bench.connect(root)
    seconds = time.perf_counter() - began
    table.add_row("first survey", f"{seconds:.1f} s, {files / seconds:,.0f} files/s", "")
    client = bench.client
    survey = client.jobs.wait(client.jobs.survey("l").id)
    assert survey.survey is not None
    assert survey.survey.files_new == 0
    assert survey.finished_at is not None
    assert survey.started_at is not None
    seconds = (survey.finished_at - survey.started_at).total_seconds()
    table.add_row("repeated survey", f"{seconds:.1f} s, {files / seconds:,.0f} files/s", "10,000 files/s")


def _runs(bench: Stand, table: Table) -> int:
    client = bench.client
    began = time.perf_counter()
    run = client.runs.start(RunRequest(library="l"))
    table.add_row(f"making a run of {run.files:,} files", f"{time.perf_counter() - began:.1f} s", "5 s")
    began = time.perf_counter()
    picture = client.pictures.page("l", limit=1).rows[0].id
    few = client.runs.start(RunRequest(library="l", scope=Scope(pictures=[picture])))
    table.add_row("a single request meanwhile", f"{(time.perf_counter() - began) * 1000:.0f} ms", "")
    client.runs.wait(few.id)
    time.sleep(20)
    began = time.perf_counter()
    client.runs.pause(run.id)
    table.add_row("pausing it", f"{(time.perf_counter() - began) * 1000:.0f} ms", "")
    return run.id


def _cursor_at(bench: Stand, far: int) -> str | None:
    """Where so many pictures have been passed."""
    cursor, passed = None, 0
    while passed < far and (passed == 0 or cursor is not None):
        page: Page[Picture] = bench.client.pictures.page("l", limit=500, after=cursor)
        cursor, passed = page.cursor, passed + len(page)
    return cursor


def _queries(bench: Stand, run_id: int, table: Table) -> None:
    client, far = bench.client, _cursor_at(bench, 30_000)
    queries: dict[str, Callable[[], object]] = {
        "first page of pictures": lambda: client.pictures.page("l", limit=60),
        "page far down": lambda: client.pictures.page("l", limit=60, after=far),
        "by state": lambda: client.pictures.page("l", limit=60, state=["new"]),
        "by folder": lambda: client.pictures.page("l", limit=60, folder="2007"),
        "search in paths": lambda: client.pictures.page("l", limit=60, search="p1234"),
        "largest saving first": lambda: client.pictures.page("l", limit=60, sort="saved"),
        "worst score first": lambda: client.pictures.page("l", limit=60, sort="worst"),
        "one picture": lambda: client.pictures.get(1234),
        "the library with its totals": lambda: client.libraries.get("l"),
        "a run's progress": lambda: client.runs.get(run_id),
        "a run's latest items": lambda: client.runs.items(run_id, limit=60),
        "a run's failed items": lambda: client.runs.items(run_id, limit=60, state=["failed"]),
        "what a recipe would do": lambda: client.recipes.effect("l", client.recipes.get("l").settings),
        "savings": lambda: client.libraries.savings("l"),
    }
    everything: list[float] = []
    for name, query in queries.items():
        times = []
        for _ in range(_ROUNDS):
            began = time.perf_counter()
            try:
                query()
            except httpx.HTTPError as error:
                raise SystemExit(f"{name}: {error}") from None
            times.append((time.perf_counter() - began) * 1000)
        worst = statistics.quantiles(times, n=20)[-1]
        slow = name in ("what a recipe would do", "savings")
        everything += [] if slow else times
        table.add_row(
            name, f"{statistics.median(times):.0f} ms, {worst:.0f} ms at p95", "" if slow else "50 ms"
        )
    table.add_row(
        "list and filter queries, all", f"{statistics.quantiles(everything, n=20)[-1]:.0f} ms at p95", "50 ms"
    )


if __name__ == "__main__":
    main()

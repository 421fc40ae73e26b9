"""Under load: two workers against one, a new upload during a bulk run, the site's answers meanwhile.

``script/bench load`` also kills a run's worker twenty times and compares the result with an undisturbed run.
"""

from __future__ import annotations

import hashlib
import os
import random
import statistics
import subprocess
import sys
import time
from pathlib import Path

import httpx
from rich.console import Console
from rich.table import Table

from plumcrate.contract.automation import NewFiles
from plumcrate.contract.runs import RunKind, RunRequest, Scope
from plumcrate.records.private import free_port

from .corpus import as_uploaded, photo, wallpapers
from .stand import Stand, stand

_PICTURES, _SIDE = 24, 1200
_KILLS = 20


def main() -> None:
    table = Table("what", "figure", "goal", title="Under load, two cores")
    _two_workers(table)
    _latency(table)
    _kills(table)
    Console(width=110).print(table)


def _fill(root: Path, pictures: int = _PICTURES, side: int = _SIDE) -> None:
    root.mkdir(parents=True, exist_ok=True)
    found = wallpapers()
    for number in range(pictures):
        image = photo(found[number % len(found)], side)
        (root / f"p{number:02d}.jpg").write_bytes(as_uploaded(image))


def _timed_run(bench: Stand) -> float:
    began = time.perf_counter()
    run = bench.client.runs.wait(bench.client.runs.start(RunRequest(library="l")).id)
    assert run.failed == 0
    return time.perf_counter() - began


def _two_workers(table: Table) -> None:
    with stand(workers=1, children=1) as bench:
        root = bench.home / "library"
        _fill(root)
        bench.connect(root)
        _warm(bench)
        one = _timed_run(bench)
        _restored(bench)
        bench.start("worker 1", "plumcrate.worker", children=1)
        while bench.client.health().workers < 2:
            time.sleep(0.2)
        _warm(bench)
        two = _timed_run(bench)
    table.add_row(f"one worker, one child, {_PICTURES} photographs", f"{one:.1f} s", "")
    table.add_row("two workers, one child each", f"{two:.1f} s, {one / two:.2f} times as fast", "1.75 times")


def _warm(bench: Stand) -> None:
    """A small run in which every child takes part, so that all have loaded their kernels."""
    some = [one.id for one in bench.client.pictures.page("l", limit=6).rows]
    request = RunRequest(library="l", scope=Scope(pictures=some))
    bench.client.runs.wait(bench.client.runs.start(request).id)
    _restored(bench)


def _restored(bench: Stand) -> None:
    request = RunRequest(library="l", kind=RunKind.RESTORE)
    bench.client.runs.wait(bench.client.runs.start(request).id)


def _latency(table: Table) -> None:
    """Uploads of 12 megapixels, and the stand-in site's answers, at rest and during a bulk run."""
    with stand(workers=1, children=2) as bench:
        root = bench.home / "library"
        _fill(root, 60, 1600)
        bench.connect(root)
        site = _site(bench, root)
        data = as_uploaded(photo(wallpapers()[3], 4300))
        bench.client.pictures.upload("l", "warm.jpg", data)
        time.sleep(1)
        _settle(bench)
        at_rest = [_upload(bench, data, f"rest-{number}.jpg") for number in range(3)]
        _settle(bench)
        idle = _answers(site)
        run = bench.client.runs.start(RunRequest(library="l"))
        time.sleep(8)
        busy = _answers(site)
        during = [_upload(bench, data, f"busy-{number}.jpg") for number in range(3)]
        assert bench.client.runs.get(run.id).finished_at is None, "the bulk run was over too soon"
        bench.client.runs.stop(run.id)
        bench.stop("site")
    table.add_row("upload of 12 megapixels served light, at rest", f"{statistics.median(at_rest):.1f} s", "")
    table.add_row("the same during a bulk run", f"{statistics.median(during):.1f} s", "seconds")
    for name, part in (("median", 0), ("95th percentile", 1)):
        ratio = busy[part] / idle[part]
        table.add_row(
            f"the site's answers, {name}",
            f"{idle[part] * 1000:.1f} ms idle, {busy[part] * 1000:.1f} ms, {ratio:.2f} times",
            "1.3 times",
        )


def _settle(bench: Stand) -> None:
    while any(run.finished_at is None for run in bench.client.runs.page("l")):
        time.sleep(0.3)


def _upload(bench: Stand, data: bytes, name: str) -> float:
    fresh = data[:-2] + os.urandom(8) + data[-2:]
    began = time.perf_counter()
    found = bench.client.pictures.upload("l", name, fresh, NewFiles.AT_ONCE, 100)
    assert found.state in ("light", "done"), found
    assert found.size_now < found.size_before
    return time.perf_counter() - began


def _site(bench: Stand, root: Path) -> str:
    port = free_port()
    environment = os.environ | {"PLUMCRATE_SITE_LIBRARY": str(root), "PLUMCRATE_SITE_PORT": str(port)}
    bench.processes["site"] = subprocess.Popen(
        [sys.executable, "-m", "plumcrate.demo.site"], env=environment, start_new_session=True
    )
    address = f"http://127.0.0.1:{port}"
    while True:
        try:
            httpx.get(address)
            return address
        except httpx.TransportError:
            time.sleep(0.1)


def _answers(site: str) -> tuple[float, float]:
    """Seconds to a whole picture: the median, and the 95th percentile."""
    times = []
    with httpx.Client(base_url=site) as client:
        for number in range(400):
            began = time.perf_counter()
            client.get(f"/media/p{number % 60:02d}.jpg").raise_for_status()
            times.append(time.perf_counter() - began)
            time.sleep(0.01)
    return statistics.median(times), statistics.quantiles(times, n=20)[-1]


def _kills(table: Table) -> None:
    """A run whose worker is killed again and again ends with the bytes of one left in peace."""
    with stand(workers=1, children=2) as bench:
        root = bench.home / "library"
        _fill(root, 40, 900)
        bench.connect(root)
        _timed_run(bench)
        undisturbed = _hashes(root)
        _restored(bench)
        run = bench.client.runs.start(RunRequest(library="l"))
        chance, kills = random.Random(11), 0
        while bench.client.runs.get(run.id).finished_at is None:
            if kills < _KILLS:
                time.sleep(chance.uniform(1.5, 5.0))
                bench.stop("worker 0")
                kills += 1
                bench.start("worker 0", "plumcrate.worker")
            time.sleep(0.2)
        same = _hashes(root) == undisturbed
        ended = bench.client.runs.get(run.id)
    table.add_row(
        f"a run of {ended.files} files killed {kills} times",
        f"{ended.done} done, {ended.failed} failed, {'the same bytes' if same else 'OTHER BYTES'}",
        "the same bytes",
    )


def _hashes(root: Path) -> dict[str, str]:
    return {
        path.relative_to(root).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in root.rglob("*")
        if path.is_file()
    }


if __name__ == "__main__":
    main()

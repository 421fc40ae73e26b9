"""What it costs to have nothing to do, and what a run costs beside its children.

Processor time is read from the kernel (proc(5)): of the service, the worker and PostgreSQL, with all that
they started, over so many seconds with nothing to do; and in a run, of all but the children that treat."""

from __future__ import annotations

import os
import time
from pathlib import Path

from rich.console import Console
from rich.table import Table

from plumcrate.contract.runs import RunRequest, RunState

from .corpus import as_uploaded, photo, wallpapers
from .stand import Stand, stand

_SECONDS, _SETTLE = 60.0, 20.0
_PICTURES, _SIDE = 24, 1200
_TICK = os.sysconf("SC_CLK_TCK")


def main() -> None:
    table = Table("what", "processor", "goal", title="Service, worker and PostgreSQL")
    with stand() as bench:
        root = bench.home / "library"
        root.mkdir()
        found = wallpapers()
        for number in range(_PICTURES):
            image = photo(found[number % len(found)], _SIDE)
            (root / f"p{number:02d}.jpg").write_bytes(as_uploaded(image))
        bench.connect(root)
        time.sleep(_SETTLE)  # until kernels are loaded
        before = _spent(bench)
        time.sleep(_SECONDS)
        idle = {name: (after - before[name]) / _SECONDS for name, after in _spent(bench).items()}
        for name, share in idle.items():
            table.add_row(f"idle: {name}", f"{share:.2%}", "")
        table.add_row("idle: all", f"{sum(idle.values()):.2%}", "0.5 %")

        before = _spent(bench)
        run = bench.client.runs.start(RunRequest(library="l"))
        while bench.client.runs.get(run.id).state is RunState.RUNNING:
            time.sleep(1)
        spent = {name: after - before[name] for name, after in _spent(bench).items()}
        children = spent.pop("children")
        for name, seconds in spent.items():
            table.add_row(f"in a run: {name}", f"{seconds:.1f} s", "")
        table.add_row("in a run: children", f"{children:.1f} s", "")
        table.add_row(
            "in a run: worker and PostgreSQL to children",
            f"{(spent['worker'] + spent['PostgreSQL']) / children:.1%}",
            "4 %",
        )
    Console(width=100).print(table)


def _spent(bench: Stand) -> dict[str, float]:
    """Processor seconds so far, by part."""
    postmaster = int((bench.home / "postgres/data/postmaster.pid").read_text().split()[0])
    service, worker = bench.processes["service"].pid, bench.processes["worker 0"].pid
    found = {"service": _own(service), "worker": _own(worker), "PostgreSQL": _tree(postmaster)}
    below = sum(_tree(child) for parent in (service, worker) for child in _children(parent))
    return found | {"children": below}


def _own(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / _TICK


def _tree(pid: int) -> float:
    """A process, its children that have ended, and those that live."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return 0.0
    return sum(map(int, fields[11:15])) / _TICK + sum(_tree(child) for child in _children(pid))


def _children(pid: int) -> list[int]:
    found: list[int] = []
    for thread in Path(f"/proc/{pid}/task").iterdir():
        found += map(int, (thread / "children").read_text().split())
    return found


if __name__ == "__main__":
    main()

"""Many random schedules of changes and mishaps in the small world of the tests: how often something is lost.

``script/bench schedules [COUNT] [SEED] [PROCESSES]``; a schedule is six deeds of ours or of strangers, in
which processes are killed, volumes go away and disks fill up; then all comes to rest and is handed back.
"""

from __future__ import annotations

import logging
import sys
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from importlib import import_module
from pathlib import Path
from tempfile import TemporaryDirectory

import structlog
from rich.console import Console
from rich.table import Table

from plumcrate.records.database import Database
from plumcrate.records.private import PrivatePostgres

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests/keeping"))

_DEEDS = 6
_CHUNK = 50


def go_through(url: str, first: int) -> tuple[Counter[str], list[str]]:
    """A few schedules; what was done, and what went wrong."""
    World = import_module("world").World

    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.CRITICAL))
    database = Database(url, pool_size=2)
    done: Counter[str] = Counter()
    wrong: list[str] = []
    for seed in range(first, first + _CHUNK):
        world = World(database, seed)
        try:
            world.go(_DEEDS)
        except Exception as error:
            wrong.append(f"seed {seed}: {type(error).__name__}: {error}")
        finally:
            world.close()
        done["schedules"] += 1
        done["deeds"] += len(world.said)
        done["kills"] += sum(said.startswith("killed at") for said in world.said)
        done["full disks"] += sum(said.startswith("full disk") for said in world.said)
        done["volumes away"] += world.said.count("unmount")
        done["files moved"] += world.said.count("move") + world.said.count("move_folder")
        done["files deleted"] += world.said.count("delete")
        done["writes by strangers"] += sum(world.said.count(one) for one in ("overwrite", "write_in_place"))
        done["backups damaged"] += world.said.count("damage")
    database.close()
    return done, wrong


def main() -> None:
    count, first, processes = (
        int(sys.argv[number]) if len(sys.argv) > number else usual
        for number, usual in ((1, 1000), (2, 1_000_000), (3, 2))
    )
    began = time.monotonic()
    totals: Counter[str] = Counter()
    wrong: list[str] = []
    with TemporaryDirectory() as folder:
        Path(folder).chmod(0o755)
        server = PrivatePostgres(Path(folder) / "postgres", fast=True, elsewhere=True)
        url = server.start()
        database = Database(url)
        database.migrate()
        database.close()
        try:
            with ProcessPoolExecutor(processes) as pool:
                for done, bad in pool.map(
                    go_through, [url] * (count // _CHUNK), range(first, first + count, _CHUNK)
                ):
                    totals += done
                    wrong += bad
                    for line in bad:
                        print(line, file=sys.stderr, flush=True)
        finally:
            server.remove()
    table = Table("what", "how often", title="Random schedules")
    for name, number in totals.items():
        table.add_row(name, f"{number:,}")
    table.add_row("originals lost, torn or not brought back", f"{len(wrong):,}")
    table.add_row("seconds", f"{time.monotonic() - began:,.0f}")
    Console(width=110).print(table)
    sys.exit(bool(wrong))


if __name__ == "__main__":
    main()

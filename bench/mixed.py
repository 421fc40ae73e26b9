"""All kinds of work at once on a real service, with its worker and PostgreSQL killed again and again.

Then all is handed back, and every original must be there, byte for byte, and nothing else.
``script/bench mixed [MINUTES]``. Pictures are tiny, so that changes are dense. What was done is counted in
the ledger."""

from __future__ import annotations

import hashlib
import random
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table
from sqlalchemy import func, select

from plumcrate.client import ClientError
from plumcrate.contract.common import Level
from plumcrate.contract.runs import RunKind, RunRequest, RunState, Scope
from plumcrate.contract.sizes import SizeSettings
from plumcrate.contract.touches import Touches
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.records.tables import File, Ledger, Result

from .stand import Stand, stand

_PICTURES, _FOLDERS, _SIDE = 120, 6, 160
#: Seconds between kills of the worker, and of PostgreSQL, and for how long that is away.
_WORKER, _DATABASE, _AWAY = 15.0, 75.0, 2.0
_GOALS = {
    "replace": 2_000,
    "restore": 500,
    "touched-up": 500,
    "size": 2_000,
    "drop-size": 2_000,
    "moved": 300,
    "worker killed": 100,
    "PostgreSQL killed": 30,
}


def main() -> None:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    with stand() as bench:
        mixed = Mixed(bench)
        mixed.go(minutes * 60)
        table = Table("what", "times", "goal of an hour", title=f"{minutes:.0f} minutes of all at once")
        done = mixed.counted()
        for name, goal in _GOALS.items():
            table.add_row(name, f"{done[name]:,}", f"{goal:,}")
        for name in sorted(done.keys() - _GOALS.keys()):
            table.add_row(name, f"{done[name]:,}", "")
        verdict = mixed.hand_back()
    Console(width=100).print(table, verdict)


class Mixed:
    """A library of small paintings, and everybody who works on it."""

    def __init__(self, bench: Stand) -> None:
        self._bench, self._chance = bench, random.Random(5)
        self._root = bench.home / "library"
        self.done: Counter[str] = Counter()
        for number in range(_PICTURES):
            scene = SCENES["headland"](np.random.default_rng(number), _SIDE, _SIDE * 2 // 3, number)
            place = self._root / f"f{number % _FOLDERS}/p{number:03d}.jpg"
            place.parent.mkdir(parents=True, exist_ok=True)
            Image.fromarray((scene.clip(0, 1) * 255).astype("uint8")).save(place, quality=94)
        self._originals = Counter(_hashes(self._root).values())
        bench.connect(self._root)
        self._ids = [row.id for row in bench.client.pictures.each("l")]

    def go(self, seconds: float) -> None:
        """Works, and kills, for so long."""
        ends = time.monotonic() + seconds
        stop = threading.Event()
        killers = [
            threading.Thread(target=self._again_and_again, args=(stop, every, deed))
            for every, deed in ((_WORKER, self._kill_worker), (_DATABASE, self._kill_database))
        ]
        for killer in killers:
            killer.start()
        deeds = (self._treat, self._treat, self._restore, self._touch, self._touch, self._size, self._move)
        while time.monotonic() < ends:
            with suppress(ClientError, OSError):
                self._chance.choice(deeds)()
        stop.set()
        for killer in killers:
            killer.join()

    def hand_back(self) -> str:
        """The verdict on all of it."""
        client = self._bench.client
        for _ in range(5):
            client.jobs.wait(client.jobs.survey("l").id)
            request = RunRequest(library="l", kind=RunKind.HAND_BACK, confirm="l")
            run = client.runs.wait(client.runs.start(request).id)
            if run.proof is not None and run.proof["verdict"] == "complete":
                break
        now = Counter(_hashes(self._root).values())
        lacking, extra = self._originals - now, now - self._originals
        said = f"{self._originals.total() - lacking.total()} of {self._originals.total()} originals identical"
        told = "".join(
            f"\n{line}"
            for path, content in _hashes(self._root).items()
            if content in extra
            for line in self._known_of(path, content)
        )
        return f"{said}, {extra.total()} files too many; proof {run.proof and run.proof['verdict']}{told}"

    def _known_of(self, path: str, content: str) -> list[str]:
        """What is on record of a file that should not be there: how it came to stay is seen from it."""
        sha256 = bytes.fromhex(content)
        with self._bench.database.begin() as session:
            files = session.scalars(select(File).where((File.path == path) | (File.sha256 == sha256))).all()
            results = session.scalars(select(Result).where(Result.sha256 == sha256)).all()
            ids = [file.id for file in files]
            entries = session.scalars(
                select(Ledger)
                .where((Ledger.path == path) | (Ledger.after_sha256 == sha256) | Ledger.file_id.in_(ids))
                .order_by(Ledger.id)
            ).all()
        return [
            f"{path} {content[:12]}",
            *(
                f"  file {one.id} {one.path} {one.role} {one.state} size {one.size_name} {one.slot}"
                for one in files
            ),
            *(f"  result for {one.purpose}" for one in results),
            *(f"  {one.at:%H:%M:%S.%f} {one.action} {one.path} file {one.file_id}" for one in entries),
        ]

    def counted(self) -> Counter[str]:
        with self._bench.database.begin() as session:
            rows = session.execute(select(Ledger.action, func.count()).group_by(Ledger.action)).all()
        return self.done + Counter({str(action): int(count) for action, count in rows})

    # -- deeds --------------------------------------------------------------------------------

    def _folder(self) -> str:
        return self._chance.choice(sorted(place.name for place in self._root.iterdir() if place.is_dir()))

    def _run(self, **request: object) -> None:
        client = self._bench.client
        run = client.runs.start(RunRequest(library="l", **request))
        until = time.monotonic() + 40
        while time.monotonic() < until and client.runs.get(run.id).state is RunState.RUNNING:
            time.sleep(0.2)

    def _treat(self) -> None:
        level = self._chance.choice([Level.LEAN, Level.EVERYDAY, Level.GALLERY])
        self._run(scope=Scope(folder=self._folder()), level=level, copies=[], force=True)

    def _restore(self) -> None:
        self._run(kind=RunKind.RESTORE, scope=Scope(folder=self._folder()))

    def _touch(self) -> None:
        ids = self._chance.sample(self._ids, 12)
        for number in ids:
            steps = [{"kind": "brightness", "amount": self._chance.randint(-40, 40)}]
            self._bench.client.touches.save(number, Touches.model_validate({"steps": steps}))
        self._run(scope=Scope(pictures=ids), copies=[])

    def _size(self) -> None:
        name, width = "card", self._chance.randint(40, 90)
        if self._chance.random() < 0.5:
            self._bench.client.sizes.save("l", name, SizeSettings(width=width, copies=[]))
        else:
            self._bench.client.sizes.remove("l", name)
        self._run(copies=[])

    def _move(self) -> None:
        former = self._root / self._folder()
        former.rename(self._root / f"f{self._chance.randrange(10**6)}")
        job = self._bench.client.jobs.survey("l")
        self._bench.client.jobs.wait(job.id)

    # -- kills --------------------------------------------------------------------------------

    def _again_and_again(self, stop: threading.Event, every: float, deed: Callable[[], None]) -> None:
        while not stop.wait(every):
            deed()

    def _kill_worker(self) -> None:
        self._bench.stop("worker 0")
        self._bench.start("worker 0", "plumcrate.worker")
        self.done["worker killed"] += 1

    def _kill_database(self) -> None:
        self._bench.server.stop(dead=True)
        time.sleep(_AWAY)
        self._bench.server.start()
        self.done["PostgreSQL killed"] += 1


def _hashes(root: Path) -> dict[str, str]:
    """Of all that is not hidden."""
    return {
        str(path.relative_to(root)): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in root.rglob("*")
        if path.is_file() and not path.name.startswith(".")
    }


if __name__ == "__main__":
    main()

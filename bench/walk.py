"""Walking through a long list over the interface, while pictures come, go and move beneath it.

``script/bench walk [PICTURES]``; the pictures are records only. A walk is right when each picture that stood
through it is seen exactly once.
"""

from __future__ import annotations

import random
import statistics
import sys
import threading
import time
from collections import Counter
from pathlib import Path
from tempfile import TemporaryDirectory

from rich.console import Console
from rich.table import Table
from sqlalchemy import text

from plumcrate.contract.pictures import PictureSort
from plumcrate.records.database import Database

from .lists import fill
from .stand import stand

_PAGE, _CHANGES = 60, 1_000


class _Changes(threading.Thread):
    """Adds, deletes and renames so many pictures each, one after the other, over the length of a walk.
    ``touched``: the numbers of those that did not stand as they were."""

    def __init__(self, database: Database, name: str, pictures: int) -> None:
        super().__init__(daemon=True)
        self.touched: set[int] = set()
        self.over = threading.Event()
        self._database, self._name, self._chance = database, name, random.Random(name)
        self._numbers = self._chance.sample(range(1, pictures + 1), 2 * _CHANGES)

    def run(self) -> None:
        for at in range(_CHANGES):
            if self.over.is_set():
                return
            gone, moved = self._numbers[2 * at : 2 * at + 2]
            place = (
                f"{self._chance.randrange(2000, 2026)}/0{self._chance.randrange(1, 9)}/{self._name}{at}.jpg"
            )
            self.touched |= {gone, moved}
            with self._database.begin() as session:
                session.execute(text("DELETE FROM pictures WHERE id = :id"), {"id": gone})
                session.execute(
                    text("UPDATE pictures SET path = :path WHERE id = :id"), {"id": moved, "path": place}
                )
                session.execute(_COME, {"path": f"{place}.new.jpg"})


_COME = text(
    "INSERT INTO pictures (library_id, path, folder, name, format, width, height, state, original_id, files, "
    "bytes_before, bytes_now, bytes_lightest, touched_by) "
    "SELECT 1, :path, '2026', 'n.jpg', 'jpeg', 9, 9, 'new', 1, 1, 9, 9, 9, ''"
)


def main() -> None:
    """Prints the table."""
    pictures = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    table = Table(
        "order",
        "seen",
        "came, went, moved",
        "twice",
        "missing",
        "a page, median",
        "95 of 100",
        "goal",
        title=f"{pictures:,} pictures, {_PAGE} a page, over the interface",
    )
    with TemporaryDirectory() as folder, stand(workers=0) as bench:
        bench.connect_only(Path(folder))
        fill(bench.database, pictures)
        for sort in (PictureSort.PATH, PictureSort.FOUND):
            with bench.database.reading() as session:
                stood = set(session.scalars(text("SELECT id FROM pictures")))
            changes = _Changes(bench.database, sort, pictures)
            changes.start()
            seen: Counter[int] = Counter()
            took, cursor, asked = [], None, False
            while cursor is not None or not asked:
                began = time.perf_counter()
                page = bench.client.pictures.page("l", sort=sort, limit=_PAGE, after=cursor)
                took.append(1000 * (time.perf_counter() - began))
                seen.update(picture.id for picture in page.rows)
                cursor, asked = page.cursor, True
            changes.over.set()
            changes.join()
            stood -= changes.touched
            table.add_row(
                f"by {sort}",
                f"{len(seen):,}",
                f"{len(changes.touched) // 2:,} of each",
                str(sum(seen[number] > 1 for number in stood)),
                str(len(stood - seen.keys())),
                f"{statistics.median(took):.0f} ms",
                f"{statistics.quantiles(took, n=20)[-1]:.0f} ms",
                "none, none, 20 ms",
            )
    Console(width=140).print(table)


if __name__ == "__main__":
    main()

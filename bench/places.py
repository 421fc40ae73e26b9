"""Sizes and watermarks at scale: 10,000 pictures with five sizes on record, and 1,000 files watermarked and
unmarked.

``script/bench places``. The first part is about deciding: rows of 10,000 pictures are made, sizes defined,
changed and removed, and what the files' making would record is written without making them. The second part
is real, with small pictures.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table
from sqlalchemy import func, insert, select, text

from plumcrate.contract.pictures import FileState
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import RunRequest
from plumcrate.contract.sizes import SizeSettings
from plumcrate.contract.touches import WatermarkSettings
from plumcrate.deciding.decision import variants
from plumcrate.deciding.planning import settings_of
from plumcrate.deciding.shaping import shapes_of
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import current_recipe, new_library
from plumcrate.records.tables import File, Library, Picture
from plumcrate.renditions.sizes import effect_of_change, remove_size, save_size
from plumcrate.runs.runs import create_run

from .load import _hashes
from .stand import stand

_PICTURES, _FILES = 10_000, 1_000


def main() -> None:
    table = Table("what", "seconds", "files", "goal", title="Sizes and watermarks at scale")
    with stand(workers=0, children=1) as bench:
        _sizes(table, bench.database)
    with stand(workers=1, children=2) as bench:
        _watermarks(table, bench)
    Console(width=110).print(table)


def _timed(act: Callable[[], object]) -> tuple[float, object]:
    began = time.perf_counter()
    found = act()
    return time.perf_counter() - began, found


def _sizes(table: Table, database: Database) -> None:
    with database.begin() as session:
        library = new_library(session, "p", "P", "/nowhere/p", [], RecipeSettings(), "bench").id
        names = [f"f{number % 40}/p{number}.jpg" for number in range(_PICTURES)]
        session.execute(
            insert(Picture),
            [
                {
                    "library_id": library,
                    "path": name,
                    "folder": name.partition("/")[0],
                    "name": name,
                    "files": 1,
                }
                for name in names
            ],
        )
        ids = dict(session.execute(select(Picture.path, Picture.id)).all())
        session.execute(
            insert(File),
            [
                {
                    "library_id": library,
                    "picture_id": ids[name],
                    "path": name,
                    "folder": name.partition("/")[0],
                    "format": "jpeg",
                    "width": 1600,
                    "height": 1200,
                    "size_before": 400_000,
                    "size_now": 400_000,
                    "mtime_ns": 1,
                    "mtime_ns_before": 1,
                }
                for name in names
            ],
        )
        session.execute(
            text("UPDATE pictures p SET original_id = f.id FROM files f WHERE f.picture_id = p.id")
        )

    def change(act: Callable[..., object], *arguments: object) -> float:
        def within() -> None:
            with database.begin() as session:
                act(session, session.get_one(Library, library), *arguments)

        return _timed(within)[0]

    def waiting() -> int:
        with database.begin() as session:
            ours = File.library_id == library, File.size_name.is_not(None)
            waits = (File.state == FileState.GONE) != File.unwanted
            return int(session.scalar(select(func.count()).where(*ours, waits)) or 0)

    widths = (200, 390, 520, 800, 1040)
    seconds = sum(
        change(save_size, f"s{width}", SizeSettings(width=width, copies=[]), "b") for width in widths
    )
    table.add_row("five sizes defined, by record", f"{seconds:.1f}", f"{waiting():,} to make", "")

    def effect(session: object, row: Library) -> None:
        effect_of_change(session, row, "s520", SizeSettings(width=540, copies=[]))  # type: ignore[arg-type]

    table.add_row("what another width would do, counted", f"{change(effect):.1f}", "nothing", "")

    def run(session: object, row: Library) -> None:
        made = create_run(session, row, RunRequest(library="p"))  # type: ignore[arg-type]
        counts.append(made.files)
        made.state = "stopped"

    counts: list[int] = []
    table.add_row("a run over all of it made", f"{change(run):.1f}", f"{counts[-1]:,} files", "")
    _as_if_made(database, library)
    table.add_row("another run, with nothing to do", f"{change(run):.1f}", f"{counts[-1]:,} files", "0 files")
    seconds = change(save_size, "s520", SizeSettings(width=520, copies=[], grey=True), "b") + change(run)
    table.add_row(
        "one size changed, and its run made", f"{seconds:.1f}", f"{counts[-1]:,} files", f"{_PICTURES:,}"
    )
    seconds = change(remove_size, "s200") + change(run)
    table.add_row(
        "one removed, and its run made", f"{seconds:.1f}", f"{counts[-1]:,} files", f"{2 * _PICTURES:,}"
    )


def _as_if_made(database: Database, library: int) -> None:
    """Records all that waits as made, with the keys that its making would have left."""
    with database.begin() as session:
        base = variants(settings_of(current_recipe(session, library)), None)[-1].key
        wanted = shapes_of(session, library)
        rows = session.execute(
            select(File.id, wanted)
            .join(Picture, Picture.id == File.picture_id)
            .where(File.library_id == library)
        ).all()
        session.execute(
            text(
                "UPDATE files SET recipe = CAST(:recipe AS jsonb), state = 'lighter', treated_at = now(), "
                "level = 'everyday', sha256 = '\\x00' WHERE id = :id"
            ),
            [{"id": number, "recipe": _json((base or {}) | added)} for number, added in rows],
        )


def _json(values: object) -> str:
    return json.dumps(values)


def _watermarks(table: Table, bench) -> None:  # type: ignore[no-untyped-def]
    root: Path = bench.home / "library"
    root.mkdir()
    rng = np.random.default_rng(16)
    for number in range(_FILES):
        ground = rng.integers(0, 255, (6, 9, 3), dtype=np.uint8)
        Image.fromarray(ground).resize((96, 64), Image.Resampling.BICUBIC).save(
            root / f"p{number:04d}.jpg", quality=95
        )
    bench.connect(root)

    def run() -> int:
        done = bench.client.runs.wait(bench.client.runs.start(RunRequest(library="l", copies=[])).id)
        assert done.failed == 0
        return int(done.files)

    run()
    before = _hashes(root)
    bench.client.watermarks.save("l", "ledge", WatermarkSettings(words="Gannet Ledge", width=0.5, least=8))
    seconds, files = _timed(run)
    changed = sum(before[path] != content for path, content in _hashes(root).items())
    table.add_row(
        "1,000 files watermarked", f"{seconds:.0f}", f"{files:,} files, {changed:,} changed", f"{_FILES:,}"
    )
    bench.client.watermarks.remove("l", "ledge")
    seconds, files = _timed(run)
    same = sum(before[path] == content for path, content in _hashes(root).items())
    table.add_row(
        "unmarked", f"{seconds:.0f}", f"{files:,} files, {same:,} as before to the byte", f"{_FILES:,}"
    )


if __name__ == "__main__":
    main()

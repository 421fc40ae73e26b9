"""Surveys of many small files, against a real database: the first, and one of an unchanged tree."""

from __future__ import annotations

import io
import tempfile
import time
from pathlib import Path

from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.contract import RecipeSettings
from plumcrate.demo.postgres import PrivatePostgres
from plumcrate.keeping.backups import BackupStore
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.tables import Survey
from plumcrate.storage.folder import Folder
from plumcrate.storage.grouping import USUAL_PATTERNS
from plumcrate.work.survey import survey

_PICTURES, _SIZES = 4_000, (640, 320, 160, 80)


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        home.chmod(0o755)
        root = home / "library"
        files = _fill(root)
        server = PrivatePostgres(home / "postgres")
        database = Database(server.start())
        database.migrate()
        with database.begin() as session:
            new_library(session, "l", "L", str(root), list(USUAL_PATTERNS), RecipeSettings(), "bench")
        keeper = Keeper(database, 1, Folder(root), BackupStore(home / "backups"))
        table = Table("survey", "files", "seconds", "files a second", title="Surveys")
        for name in ("first", "unchanged", "unchanged again"):
            with database.begin() as session:
                row = Survey(library_id=1)
                session.add(row)
            began = time.perf_counter()
            survey(database, row.id, keeper)
            seconds = time.perf_counter() - began
            table.add_row(name, f"{files:,}", f"{seconds:.2f}", f"{files / seconds:,.0f}")
        Console().print(table)
        database.close()
        server.remove()


def _fill(root: Path) -> int:
    samples = {}
    for width in (1280, *_SIZES):
        out = io.BytesIO()
        Image.new("RGB", (width, width // 2), (107, 44, 92)).save(out, "JPEG")
        samples[width] = out.getvalue()
    for index in range(_PICTURES):
        place = root / f"{2020 + index % 5}/{index % 12 + 1:02d}"
        place.mkdir(parents=True, exist_ok=True)
        (place / f"p{index}.jpg").write_bytes(samples[1280])
        for width in _SIZES:
            (place / f"p{index}-{width}w.jpg").write_bytes(samples[width])
    return _PICTURES * (1 + len(_SIZES))


if __name__ == "__main__":
    main()

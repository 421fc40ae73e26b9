"""A library with sizes, saved and run without a worker."""

from __future__ import annotations

import hashlib
from pathlib import Path

import numpy as np
from conftest import photograph
from PIL import Image
from sqlalchemy import select
from walk import Walk

from plumcrate.contract.pictures import FileState
from plumcrate.contract.sizes import SizeSettings
from plumcrate.intake.survey import survey
from plumcrate.records.database import Database
from plumcrate.records.tables import File
from plumcrate.renditions.sizes import effect_of_change, remove_size, save_size


class Ledge(Walk):
    """A library with two photographs and a drawing, and sizes that are saved and run."""

    def __init__(self, database: Database, tmp_path: Path) -> None:
        super().__init__(database, tmp_path)
        photograph(self.root / "2026/a.jpg", 480, 320, seed=2)
        photograph(self.root / "2026/b.jpeg", 300, 400, seed=3)
        drawing = np.full((200, 260, 3), 255, np.uint8)
        drawing[40:160:8] = (20, 60, 120)
        Image.fromarray(drawing).save(self.root / "2026/chart.png")
        self._originals = {path: (self.root / path).read_bytes() for path in self.tree()}
        self.survey()

    def original(self, path: str) -> bytes:
        """A file's bytes as they were at first."""
        return self._originals[path]

    def survey(self) -> None:
        survey(self.database, self.keeper, self.library, lambda *_: None)

    def save(self, name: str, **settings: object) -> None:
        with self.database.begin() as session:
            wanted = SizeSettings.model_validate({"copies": []} | settings)
            save_size(session, self.library, name, wanted, "tests")

    def effect(self, name: str, **settings: object):  # type: ignore[no-untyped-def]
        with self.database.begin() as session:
            wanted = SizeSettings.model_validate({"copies": []} | settings)
            return effect_of_change(session, self.library, name, wanted)

    def remove(self, name: str) -> None:
        with self.database.begin() as session:
            remove_size(session, self.library, name)

    def tree(self) -> dict[str, str]:
        return {
            path.relative_to(self.root).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
            for path in sorted(self.root.rglob("*"))
            if path.is_file() and not path.name.startswith(".")
        }

    def made(self) -> list[File]:
        with self.database.begin() as session:
            rows = select(File).where(File.size_name.is_not(None), File.state != FileState.GONE)
            return list(session.scalars(rows.order_by(File.path)))

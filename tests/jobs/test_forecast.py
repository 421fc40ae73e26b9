"""A forecast says what it knows, and when it knows too little."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import add_library
from sqlalchemy.orm import Session

from plumcrate.contract.jobs import Outlook
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.imaging import Recipe
from plumcrate.imaging.outcome import Measured
from plumcrate.jobs import forecast as forecasts
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Library, Picture

FILES, BYTES = 60, 400_000


class Clock:
    """Each file that is looked at takes a second."""

    def __init__(self) -> None:
        self.now = 0.0

    def monotonic(self) -> float:
        return self.now


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    made = Clock()
    monkeypatch.setattr(forecasts, "time", made)
    return made


@pytest.fixture
def keeper(database: Database, tmp_path: Path) -> Keeper:
    """A library of sixty photographs, of two sizes of files."""
    root = tmp_path / "library"
    root.mkdir()
    (tmp_path / "state").mkdir()
    add_library(database, root)
    with database.begin() as session:
        for number in range(FILES):
            add_file(session, root, f"{number:02}.jpg", BYTES if number % 2 else BYTES // 8)
        library = session.get_one(Library, 1)
    return Keeper.of(database, library, StateFolder(database, tmp_path / "state"))


def add_file(session: Session, root: Path, path: str, size: int) -> None:
    (root / path).write_bytes(bytes(size))
    picture = Picture(library_id=1, path=path, folder="", name=path)
    session.add(picture)
    session.flush()
    values = {"size_before": size, "size_now": size, "mtime_ns": 1, "mtime_ns_before": 1}
    session.add(
        File(library_id=1, picture_id=picture.id, path=path, format="jpeg", width=1000, height=800, **values)
    )


def outlook_of(database: Database, keeper: Keeper, clock: Clock, seconds: float, leaves: float) -> Outlook:
    """What is said after so many seconds, when a treatment leaves this part of a file."""

    def measure(data: bytes, _recipe: Recipe, _megapixels: float) -> Measured:
        clock.now += 1
        return Measured(len(data), round(len(data) * leaves), round(len(data) * leaves / 2), 1.0)

    with database.begin() as session:
        library = session.get_one(Library, 1)
    settings = RecipeSettings()
    return forecasts.forecast(
        database, keeper, library, settings, number=1, seconds=seconds, measure=measure, at_a_time=1
    )


def test_two_files_of_sixty_tell_nothing_and_it_is_said(
    database: Database, keeper: Keeper, clock: Clock
) -> None:
    """Two that stay as they are do not mean that all do."""
    outlook = outlook_of(database, keeper, clock, 3.5, leaves=1.0)
    assert outlook.sampled_files == 2
    assert (outlook.bytes_after.low, outlook.bytes_after.high) == (0, outlook.bytes_before)
    assert outlook.wanted_seconds is not None
    assert outlook.wanted_seconds >= 60


def test_when_enough_was_looked_at_nothing_more_is_wanted(
    database: Database, keeper: Keeper, clock: Clock
) -> None:
    outlook = outlook_of(database, keeper, clock, 40.0, leaves=0.6)
    assert outlook.wanted_seconds is None
    assert outlook.sampled_files >= 8
    expected = round(outlook.bytes_before * 0.6)
    assert outlook.bytes_after.low <= expected <= outlook.bytes_after.high
    assert outlook.bytes_after.low > 0


def test_a_small_library_is_known_when_all_of_it_was_looked_at(
    database: Database, keeper: Keeper, clock: Clock
) -> None:
    with database.begin() as session:
        for file in session.query(File).filter(File.id > 3):
            session.delete(file)
    outlook = outlook_of(database, keeper, clock, 100.0, leaves=0.5)
    assert (outlook.files, outlook.sampled_files, outlook.wanted_seconds) == (3, 3, None)
    assert outlook.bytes_after.low == outlook.bytes_after.high

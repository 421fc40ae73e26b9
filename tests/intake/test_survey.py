"""Surveys: what is what, what belongs together, and what changed outside our hands."""

import os
import shutil
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

import pytest
from conftest import add_library, photograph, surveyed
from sqlalchemy import select
from walk import Walk

from plumcrate.contract.jobs import JobState
from plumcrate.contract.pictures import FileRole, FileState, Purpose
from plumcrate.intake.families import settle_families
from plumcrate.intake.headers import identified, no_treatment
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Item, Library, Picture
from plumcrate.storage.grouping import USUAL_PATTERNS
from plumcrate.storage.local import LocalStore
from plumcrate.storage.store import ListedFile


@pytest.fixture
def look(database: Database, library: Path, tmp_path: Path) -> Callable[[], SimpleNamespace]:
    add_library(database, library, USUAL_PATTERNS)

    return lambda: surveyed(database, keeper(database, library, tmp_path))


def keeper(database: Database, library: Path, tmp_path: Path) -> Keeper:
    with database.begin() as session:
        row = session.get_one(Library, 1)
    return Keeper.of(database, row, StateFolder(database, tmp_path / "state"))


def files(database: Database) -> dict[str, File]:
    with database.begin() as session:
        return {file.path: file for file in session.scalars(select(File))}


def test_the_demo_library(database: Database, library: Path, look: Callable[[], SimpleNamespace]) -> None:
    (library / "outside.jpg").symlink_to("/etc/hostname")
    first = look()
    assert first.state == JobState.FINISHED
    found = files(database)
    assert first.files_seen == first.files_new == len(found)
    assert found["2025/10/actually-a-png.jpg"].format == "png"
    assert found["2025/10/forty-thousand.png"].width == 40_000
    assert "not a picture format" in found["2025/10/error-page.jpg"].reason
    assert found["2025/10/empty.png"].state == FileState.UNREADABLE
    assert any("outside.jpg: a symbolic link" in note for note in first.notes)
    assert found["journal/visitor-leaflet.pdf"].format == "pdf"
    sideways = found["2025/07/sideways-from-a-phone.jpg"]
    assert sideways.width > sideways.height, "as shown, not as stored"
    assert found["charts/approaches-160w.png"].role == FileRole.RENDITION
    with database.begin() as session:
        logo = session.scalars(select(Picture).where(Picture.path == "brand/logo.png")).one()
        assert logo.files == 1 + len(list((library / "brand").glob("logo-[0-9]*w.png")))
        originals = sum(file.role == FileRole.ORIGINAL for file in found.values())
        assert first.pictures == originals == len(session.scalars(select(Picture)).all())


def test_a_repeated_survey_is_incremental(
    database: Database, library: Path, look: Callable[[], SimpleNamespace]
) -> None:
    look()
    assert (look().files_new, look().files_changed) == (0, 0)
    photograph(library / "2025/11/new.jpg")
    photograph(library / "2025/11/new-160w.jpg", 160, 120)
    os.remove(library / "charts/tides-autumn.png")
    (library / "charts/tides-spring.png").write_bytes((library / "charts/approaches.png").read_bytes())
    third = look()
    assert (third.files_new, third.files_changed, third.files_gone) == (2, 1, 1)
    found = files(database)
    assert found["2025/11/new.jpg"].picture_id == found["2025/11/new-160w.jpg"].picture_id
    assert found["charts/tides-autumn.png"].state == FileState.GONE
    assert found["charts/tides-autumn-160w.png"].role == FileRole.ORIGINAL, "its original is gone"


def test_our_own_changes_are_known_and_those_of_others_are_noticed(
    database: Database, library: Path, tmp_path: Path, look: Callable[[], SimpleNamespace]
) -> None:
    path = "charts/tides-spring.png"
    look()
    ours = keeper(database, library, tmp_path)
    file = files(database)[path]
    ours.replace(file, (library / path).read_bytes(), b"lighter", ChangeNote())
    ours.write_derived(files(database)[path], Beside(Purpose.COPY, "webp"), b"copy", ChangeNote())
    assert look().files_changed == 0
    os.utime(library / path)  # touched, but the bytes are ours: the hash decides
    assert look().files_changed == 0
    assert files(database)[path].state == FileState.LIGHTER
    photograph(library / "theirs.png")
    shutil.move(library / "theirs.png", library / path)
    assert look().files_changed == 1
    changed = files(database)[path]
    assert (changed.state, changed.before_sha256) == (FileState.NEW, None)
    assert not (library / f"{path}.webp").exists(), "a copy of the old picture must not be served"


def test_a_missing_or_empty_folder_loses_no_record(
    database: Database, library: Path, look: Callable[[], SimpleNamespace]
) -> None:
    look()
    library.rename(library.with_name("away"))
    failed = look()
    assert failed.state == JobState.FAILED
    assert "is not there" in failed.reason
    library.mkdir()
    assert "is it mounted" in look().reason
    assert all(file.state != FileState.GONE for file in files(database).values())


def test_a_file_that_is_found_twice_at_once_is_one_row(
    database: Database, library: Path, look: Callable[[], SimpleNamespace]
) -> None:
    look()
    found = files(database)
    folder_of = next(file.folder for file in found.values() if file.folder and file.format == "jpeg")
    some = [path for path, file in found.items() if file.folder == folder_of]
    folder = LocalStore(library)
    arrivals = []
    for path in some:
        facts = folder.facts(path)
        arrivals.append(no_treatment() | identified(folder, ListedFile(path, facts.size, facts.mtime_ns)))
    with database.begin() as session:
        settle_families(session, 1, list(USUAL_PATTERNS), {folder_of}, arrivals)
    assert {path: file.id for path, file in files(database).items()} == {
        path: file.id for path, file in found.items()
    }


def test_a_folder_that_was_away_comes_back_treated(
    database: Database, library: Path, look: Callable[[], SimpleNamespace], tmp_path: Path
) -> None:
    look()
    file = next(one for one in files(database).values() if one.format == "jpeg" and one.folder)
    folder = library / file.folder
    kept = keeper(database, library, tmp_path)
    original = kept.store.read(file.path)
    kept.replace(file, original, b"light bytes", ChangeNote())
    folder.rename(tmp_path / "away")
    assert look().files_gone > 0
    assert files(database)[file.path].state == FileState.GONE
    (tmp_path / "away").rename(folder)
    look()
    back = files(database)[file.path]
    assert (back.state, back.before_sha256 is not None) == (FileState.LIGHTER, True), (
        "it is not a new original"
    )
    kept.restore(back, ChangeNote())
    assert kept.store.read(file.path) == original


def test_a_survey_sends_off_just_what_arrived_and_at_first_nothing(
    database: Database, tmp_path: Path
) -> None:
    """What a first look finds was there before us, and waits for a schedule or a person."""
    walk = Walk(database, tmp_path)
    for name in ("old/a.jpg", "old/b.jpg"):
        photograph(walk.root / name)
    follow = SimpleNamespace(report=lambda _: None)

    def look() -> list[str]:
        with database.begin() as session:
            session.get_one(Library, 1).automation = {"new_files": "at-once"}
            library = session.get_one(Library, 1)
        walk.engine.job_kinds.survey(library, follow)  # type: ignore[arg-type]
        with database.begin() as session:
            return sorted(session.scalars(select(Item.path)))

    assert look() == []
    assert look() == []
    photograph(walk.root / "new/c.jpg")
    photograph(walk.root / "old/b.jpg", seed=9)
    assert look() == ["new/c.jpg", "old/b.jpg"], "a.jpg was never asked for"

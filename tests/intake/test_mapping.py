"""What a site says of its renditions goes before their names, whenever the files come."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from pathlib import Path

import pytest
from conftest import add_library, photograph, surveyed
from sqlalchemy import select

from plumcrate.contract.mapping import MappedRendition, MappingTaken
from plumcrate.contract.pictures import FileRole
from plumcrate.intake.mapping import mapping_view, note_renditions, take_mapping
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Library, Picture
from plumcrate.storage.grouping import USUAL_PATTERNS

ORIGINAL, CUT = "originals/kite.jpg", "images/k.2e16d0ba.jpg"


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "library"
    photograph(folder / ORIGINAL, 200, 150)
    photograph(folder / CUT, 100, 75)
    return folder


@pytest.fixture
def survey(database: Database, root: Path, tmp_path: Path) -> Callable[[], object]:
    add_library(database, root, USUAL_PATTERNS)
    (tmp_path / "state").mkdir()

    def carry_out() -> object:
        with database.begin() as session:
            library = session.get_one(Library, 1)
        return surveyed(database, Keeper.of(database, library, StateFolder(database, tmp_path / "state")))

    return carry_out


def said(*pairs: tuple[str, str]) -> Iterable[bytes]:
    return [json.dumps({"path": path, "original": original}).encode() for path, original in pairs]


def take(database: Database, lines: Iterable[bytes], *, anew: bool = False) -> MappingTaken:
    with database.begin() as session:
        library = session.get_one(Library, 1)
    return take_mapping(database, library, lines, anew=anew)


def pictures(database: Database) -> dict[str, tuple[str, str]]:
    """The picture and the role of every file."""
    with database.begin() as session:
        query = select(File.path, Picture.path, File.role).join(Picture, Picture.id == File.picture_id)
        return {path: (picture, role) for path, picture, role in session.execute(query)}


def test_a_file_goes_to_its_picture_when_the_site_says_so(
    database: Database, survey: Callable[[], object]
) -> None:
    survey()
    assert pictures(database)[CUT] == (CUT, FileRole.ORIGINAL), "its name tells nothing"
    taken = take(database, said((CUT, ORIGINAL)))
    assert (taken.taken, taken.refused, taken.renditions, taken.found) == (1, 0, 1, 1)
    assert pictures(database)[CUT] == (ORIGINAL, FileRole.RENDITION)
    survey()
    assert pictures(database)[CUT] == (ORIGINAL, FileRole.RENDITION), "and so it stays"
    take(database, [], anew=True)
    assert pictures(database)[CUT] == (CUT, FileRole.ORIGINAL), "until it says otherwise"


def test_what_is_said_before_files_come_counts_when_they_do(
    database: Database, root: Path, survey: Callable[[], object]
) -> None:
    late, cut = "originals/tower.jpg", "images/t.jpg"
    taken = take(database, said((CUT, ORIGINAL), (cut, late)))
    assert (taken.renditions, taken.found) == (2, 0)
    photograph(root / cut, 90, 60)
    survey()
    assert pictures(database)[CUT] == (ORIGINAL, FileRole.RENDITION)
    assert pictures(database)[cut] == (cut, FileRole.ORIGINAL), "its original is not there"
    photograph(root / late, 180, 120)
    survey()
    assert pictures(database)[cut] == (late, FileRole.RENDITION)


def test_the_site_goes_before_a_name(database: Database, root: Path, survey: Callable[[], object]) -> None:
    photograph(root / "kite.jpg", 300, 200)
    photograph(root / "kite-150x100.jpg", 150, 100)
    survey()
    assert pictures(database)["kite-150x100.jpg"][0] == "kite.jpg"
    take(database, said(("kite-150x100.jpg", ORIGINAL)))
    assert pictures(database)["kite-150x100.jpg"][0] == ORIGINAL


def test_circles_and_doubles_and_what_is_no_line(database: Database, survey: Callable[[], object]) -> None:
    survey()
    lines = [
        *said((CUT, ORIGINAL), (ORIGINAL, CUT), (CUT, CUT), ("../x.jpg", ORIGINAL), ("a\0.jpg", ORIGINAL)),
        b"not json",
        b'{"path": "a.jpg"}',
        b'{"path": "a.jpg", "original": "b.jpg", "more": 1}',
        b"",
        b"x" * 20_000,
    ]
    taken = take(database, lines)
    assert (taken.taken, taken.refused) == (2, 7)
    assert [fault.partition(":")[0] for fault in taken.faults] == [
        f"line {n}" for n in (3, 4, 5, 6, 7, 8, 10)
    ]
    assert pictures(database)[CUT][1] == pictures(database)[ORIGINAL][1] == FileRole.ORIGINAL, "a circle"
    take(database, said((CUT, "nowhere.jpg"), (CUT, ORIGINAL)), anew=True)
    assert pictures(database)[CUT][0] == ORIGINAL, "the latest word counts"


def test_what_a_site_says_with_a_message_counts_whenever_the_file_was_found(
    database: Database, root: Path, survey: Callable[[], object]
) -> None:
    survey()
    later, outside = "images/l.1f.jpg", "../out.jpg"
    with database.begin() as session:
        said_of = [MappedRendition(path=path, original=ORIGINAL) for path in (CUT, later, outside)]
        note_renditions(session, session.get_one(Library, 1), said_of)
    assert pictures(database)[CUT] == (ORIGINAL, FileRole.RENDITION), "it was found before"
    photograph(root / later, 50, 38)
    survey()
    assert pictures(database)[later] == (ORIGINAL, FileRole.RENDITION), "it comes after"
    with database.begin() as session:
        assert mapping_view(session, session.get_one(Library, 1)).renditions == 2, "no path leads outside"


def test_many_lines_cost_statements_by_thousands(database: Database, survey: Callable[[], object]) -> None:
    survey()
    lines = (
        json.dumps({"path": f"images/{number % 50}/{number}.jpg", "original": f"o/{number}.jpg"}).encode()
        for number in range(12_000)
    )
    taken = take(database, lines)
    assert (taken.taken, taken.renditions, taken.found) == (12_000, 12_000, 0)

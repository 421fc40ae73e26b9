"""What a page may show in place of a file: the same picture, no heavier than what the page names."""

from pathlib import Path

import pytest
from conftest import add_library

from plumcrate.records.database import Database
from plumcrate.records.queries.pages import page_files
from plumcrate.records.tables import File, Picture

TYPES = {"jpeg": "image/jpeg", "png": "image/png"}


def add(database: Database, path: str, width: int, height: int, **more: object) -> None:
    with database.begin() as session:
        session.add(
            File(
                library_id=1,
                picture_id=1,
                path=path,
                format=more.pop("format", "jpeg"),
                width=width,
                height=height,
                size_before=width * 100,
                size_now=width * 100,
                mtime_ns=1,
                mtime_ns_before=1,
                **more,
            )
        )


@pytest.fixture
def family(database: Database, tmp_path: Path) -> Database:
    (tmp_path / "l").mkdir()
    add_library(database, tmp_path / "l")
    with database.begin() as session:
        session.add(Picture(library_id=1, path="a.jpg", folder="", name="a.jpg"))
    add(database, "a.jpg", 1500, 1000)
    add(database, "a-750.jpg", 750, 500)
    add(database, "a-300.jpg", 300, 200)
    add(database, "a-cut.jpg", 300, 300)
    add(database, "a-300.png", 300, 200, format="png")
    add(database, "a-2x.jpg", 1200, 800, size_name="card", slot="2x")
    return database


@pytest.mark.parametrize(
    ("path", "sizes"),
    [
        ("a.jpg", ["a-300.jpg", "a-750.jpg", "a-2x.jpg"]),
        ("a-750.jpg", ["a-300.jpg", "a-2x.jpg"]),
        ("a-300.jpg", ["a-2x.jpg"]),
        ("a-cut.jpg", []),
    ],
)
def test_a_page_is_offered_no_wider_file_than_it_names_but_for_a_size_of_ours(
    family: Database, path: str, sizes: list[str]
) -> None:
    with family.begin() as session:
        _, file = page_files(session, 1, [path], TYPES)[path]
    assert [size.path for size in file.sizes] == sizes

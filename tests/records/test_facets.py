"""What a filter finds, what each further choice would find, and lists that are read to their end."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from conftest import add_library
from databases import Postgres
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import PictureFilter, PictureSort
from plumcrate.contract.runs import RunRequest, Scope
from plumcrate.records.database import Database
from plumcrate.records.queries import cursors
from plumcrate.records.queries.facets import facets
from plumcrate.records.queries.pictures import pictures_page
from plumcrate.records.queries.sums import refresh_pictures
from plumcrate.records.tables import File, Item, Library, Picture
from plumcrate.refusal import Refusal
from plumcrate.runs.runs import create_run

PICTURES = 60
FOLDERS = ["", "2024", "2024/01", "2024/02", "2024x", "brand"]
CLASS: dict[str, Callable[[Picture], str]] = {
    "state": lambda one: one.state,
    "format": lambda one: one.format or "",
    "weight": lambda one: _class(
        one.bytes_now, {"under-100kb": 1e5, "100kb-500kb": 5e5, "500kb-2mb": 2e6}, "over-2mb"
    ),
    "saving": lambda one: _saving(one.bytes_before, one.bytes_now),
    "score": lambda one: (
        "none"
        if one.score is None
        else _class(one.score, {"under-60": 60, "60-70": 70, "70-80": 80, "80-90": 90}, "over-90")
    ),
    "copied": lambda one: "yes" if one.bytes_lightest < one.bytes_now else "no",
    "rule": lambda one: one.override or "none",
}


def _class(value: float, bounds: dict[str, float], else_: str) -> str:
    return next((name for name, bound in bounds.items() if value < bound), else_)


def _saving(before: int, now: int) -> str:
    if now >= before:
        return "none"
    part = (before - now) / before
    return "to-25" if part < 0.25 else "25-50" if part < 0.5 else "over-50"


@pytest.fixture(scope="module")
def shelf(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Database]:
    """Pictures of every kind, drawn once."""
    with postgres.fresh() as url:
        database = Database(url)
        add_library(database, tmp_path_factory.mktemp("shelf"))
        _fill(database, random.Random(7))
        yield database
        database.close()


def _fill(database: Database, draw: random.Random) -> None:
    with database.begin() as session:
        for number in range(PICTURES):
            folder = draw.choice(FOLDERS)
            name = f"{draw.choice(['Gull', 'buoy_', 'sea%'])}{number}.jpg"
            before = draw.choice([0, 90_000, 400_000, 1_000_000, 3_000_000])
            now = round(before * draw.choice([0.3, 0.5, 0.6, 0.75, 0.9, 1.0]))
            session.add(
                Picture(
                    library_id=1,
                    path=f"{folder}/{name}".lstrip("/"),
                    folder=folder,
                    name=name,
                    format=draw.choice(["jpeg", "png", None]),
                    state=draw.choice(["new", "lighter", "lighter", "kept", "gone"]),
                    original_id=number + 1,
                    files=draw.randint(1, 4),
                    bytes_before=before,
                    bytes_now=now,
                    bytes_lightest=draw.choice([now, now // 2]),
                    score=draw.choice([None, 55.0, 60.0, 79.9, 80.0, 95.0]),
                    worst=draw.choice([None, None, 50.0, 50.0, 71.5]),
                    override=draw.choice([None, None, "leave", "exact"]),
                )
            )


def some(values: list[str]) -> st.SearchStrategy[list[str]]:
    return st.lists(st.sampled_from(values), max_size=2, unique=True)


filters = st.builds(
    PictureFilter,
    state=some(["new", "lighter", "gone"]),
    folder=st.sampled_from([None, "", "2024", "2024/01", "nowhere"]),
    search=st.sampled_from([None, "", "gull", "buoy_", "a%", "\\"]),
    format=some(["jpeg", "png", ""]),
    weight=some(["under-100kb", "500kb-2mb", "over-2mb"]),
    saving=some(["none", "to-25", "25-50", "over-50"]),
    score=some(["none", "under-60", "70-80", "80-90"]),
    copied=some(["yes", "no"]),
    rule=some(["none", "leave", "exact"]),
)


def fits(one: Picture, filter: PictureFilter, but: str = "") -> bool:
    if one.state == "gone" and (but == "state" or not filter.state):
        return False
    for name, class_of in CLASS.items():
        chosen = getattr(filter, name)
        if name != but and chosen and class_of(one) not in chosen:
            return False
    below = (filter.folder or "").strip("/")
    if below and not (one.folder == below or one.folder.startswith(below + "/")):
        return False
    return (filter.search or "").lower() in one.path.lower()


def _all(session: Session) -> tuple[Library, list[Picture]]:
    return session.get_one(Library, 1), list(session.query(Picture))


@given(filter=filters)
def test_every_choice_says_what_it_would_find(shelf: Database, filter: PictureFilter) -> None:
    with shelf.reading() as session:
        library, everything = _all(session)
        told = facets(session, library, filter)
    found = [one for one in everything if fits(one, filter)]
    assert told.pictures == len(found)
    assert told.bytes_now == sum(one.bytes_now for one in found)
    assert told.files == sum(one.files for one in found)
    for name, class_of in CLASS.items():
        expected = Counter(class_of(one) for one in everything if fits(one, filter, but=name))
        assert {value.name: value.pictures for value in told.facets[name]} == expected
        weights = [value.bytes_now for value in told.facets[name]]
        assert weights == sorted(weights, reverse=True)


@given(filter=filters, sort=st.sampled_from(list(PictureSort)), limit=st.integers(1, 25))
def test_a_list_read_by_cursor_is_the_list_read_at_once(
    shelf: Database, filter: PictureFilter, sort: PictureSort, limit: int
) -> None:
    with shelf.reading() as session:
        library, everything = _all(session)
        whole = pictures_page(session, library, filter, sort, limit=500)
        page = pictures_page(session, library, filter, sort, limit=limit)
        read = list(page.rows)
        while page.cursor is not None:
            page = pictures_page(session, library, filter, sort, limit=limit, after=page.cursor)
            assert page.rows, "a cursor leads to something"
            assert page.total == whole.total
            read += page.rows
    assert [one.id for one in read] == [one.id for one in whole.rows]
    assert {one.id for one in read} == {one.id for one in everything if fits(one, filter)}


def _cursor(sort: str, *values: object) -> str:
    return cursors.written(f"pictures of 1 by {sort}", values)


@pytest.mark.parametrize(
    ("sort", "cursor"),
    [
        ("size", ""),
        ("size", "x"),
        ("size", "é"),
        ("size", _cursor("size")),
        ("size", _cursor("size", 1, "a", "b")),
        ("size", _cursor("path", 1, "a")),
        ("size", _cursor("size", 1, 2**70, 1)),
        ("path", _cursor("path", 1, "a\0b")),
        ("path", _cursor("path", 1, "\ud800")),
        ("worst", _cursor("worst", 1, True, 1)),
        ("worst", _cursor("worst", 1, 10**400, 1)),
        ("worst", _cursor("worst", 1, float("nan"), 1)),
    ],
    ids=range(12),
)
def test_a_cursor_of_something_else_is_refused(shelf: Database, sort: str, cursor: str) -> None:
    with shelf.reading() as session:
        library = session.get_one(Library, 1)
        with pytest.raises(Refusal, match="begin with the first page"):
            pictures_page(session, library, PictureFilter(), PictureSort(sort), limit=5, after=cursor)


def test_a_cursor_holds_any_name_that_a_picture_can_have(database: Database, tmp_path: Path) -> None:
    add_library(database, tmp_path)
    names = ["a.jpg", "\u200dzwj.jpg", "no\u00a0break.jpg", "\u202eright.jpg", "\U0001f9d1\u200d.jpg"]
    with database.begin() as session:
        session.add_all(
            Picture(library_id=1, path=name, folder="", name=name, original_id=1) for name in names
        )
    with database.reading() as session:
        library = session.get_one(Library, 1)
        page = pictures_page(session, library, PictureFilter(), PictureSort.PATH, limit=1)
        read = [row.name for row in page.rows]
        while page.cursor is not None:
            page = pictures_page(
                session, library, PictureFilter(), PictureSort.PATH, limit=1, after=page.cursor
            )
            read += [row.name for row in page.rows]
    assert sorted(read) == sorted(names)


def test_folders_are_told_one_step_at_a_time(shelf: Database) -> None:
    with shelf.reading() as session:
        library, everything = _all(session)
        top = facets(session, library, PictureFilter()).facets["folder"]
        below = facets(session, library, PictureFilter(folder="2024")).facets["folder"]
    there = [one for one in everything if one.state != "gone"]
    expected = Counter(one.folder.partition("/")[0] for one in there if one.folder)
    assert {value.name: value.pictures for value in top} == expected
    assert {value.name for value in below} == {"2024/01", "2024/02"}


def test_a_run_over_a_filter_holds_just_what_it_finds(database: Database, tmp_path: Path) -> None:
    add_library(database, tmp_path)
    with database.begin() as session:
        library = session.get_one(Library, 1)
        for name, size in (("small", 50_000), ("large", 900_000), ("png", 900_000)):
            picture = Picture(library_id=1, path=f"{name}.jpg", folder="", name=name)
            session.add(picture)
            session.flush()
            session.add(
                File(
                    library_id=1,
                    picture_id=picture.id,
                    path=f"{name}.jpg",
                    format="png" if name == "png" else "jpeg",
                    width=10,
                    height=10,
                    size_before=size,
                    size_now=size,
                    mtime_ns=1,
                    mtime_ns_before=1,
                )
            )
            session.flush()
            refresh_pictures(session, [picture.id])
        which = PictureFilter(format=["jpeg"], weight=["500kb-2mb"])
        run = create_run(session, library, RunRequest(library="l", scope=Scope(which=which)))
        items = session.query(Item).filter_by(run_id=run.id).all()
    assert [item.path for item in items] == ["large.jpg"]
    assert run.scope == {"which": {"format": ["jpeg"], "weight": ["500kb-2mb"]}}

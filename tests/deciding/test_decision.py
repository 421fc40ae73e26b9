"""Which treatment a file gets: rules in order, overrides, sizes, and what a changed recipe would do."""

from pathlib import Path
from typing import Any

import pytest
from conftest import add_library
from pydantic import ValidationError
from sqlalchemy import select, update

from plumcrate.contract.common import Level
from plumcrate.contract.pictures import FileState
from plumcrate.contract.recipes import Effect, FilePlan, RecipeSettings
from plumcrate.contract.runs import RunKind, RunRequest, Scope
from plumcrate.deciding.decision import key_of
from plumcrate.deciding.planning import effect, plan
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Item, Library, Picture, RecipeVersion, Run
from plumcrate.runs.runs import create_run, recipe_of

#: path, format, width, height, bytes, transparent, animated
FILES = (
    ("2024/logo.png", "png", 400, 200, 9_000, True, False),
    ("2024/beam.gif", "gif", 300, 300, 90_000, False, True),
    ("2024/press/headland.jpg", "jpeg", 6000, 4000, 9_000_000, False, False),
    ("2024/press/headland-300x200.jpg", "jpeg", 300, 200, 20_000, False, False),
    ("2024/press_old/50%_off.jpg", "jpeg", 900, 600, 300_000, False, False),
)


@pytest.fixture
def filled(database: Database) -> Database:
    add_library(database, Path("/l"))
    with database.begin() as session:
        home = 0
        for number, (path, kind, width, height, size, transparent, animated) in enumerate(FILES, 1):
            folder, _, name = path.rpartition("/")
            rendition = "-300x200" in name
            if not rendition:
                session.add(Picture(library_id=1, path=path, folder=folder, name=name))
                session.flush()
                home += 1
            session.add(
                File(
                    library_id=1,
                    picture_id=home,
                    path=path,
                    folder=folder,
                    format=kind,
                    width=width,
                    height=height,
                    size_before=size,
                    size_now=size,
                    mtime_ns=1,
                    mtime_ns_before=1,
                    transparent=transparent,
                    animated=animated,
                    role="rendition" if rendition else "original",
                )
            )
            assert number
    return database


def settings(**values: Any) -> RecipeSettings:
    return RecipeSettings.model_validate(values)


def verdicts(database: Database, recipe: RecipeSettings) -> dict[str, FilePlan]:
    with database.begin() as session:
        library = session.get_one(Library, 1)
        ids = session.scalars(select(Picture.id))
        return {one.path: one for id in ids for one in plan(session, library, recipe, id)}


def the_effect(database: Database, recipe: RecipeSettings) -> Effect:
    with database.begin() as session:
        return effect(session, session.get_one(Library, 1), recipe)


@pytest.mark.parametrize(
    ("when", "about"),
    [
        ({"folder": "2024/press"}, {2, 3}),
        ({"folder": "/2024/"}, {0, 1, 2, 3, 4}),
        ({"name": "HEAD*.jpg"}, {2, 3}),
        ({"name": "50%_off.jp?"}, {4}),
        ({"name": "50%xoff.jpg"}, set()),
        ({"formats": ["png", "gif"]}, {0, 1}),
        ({"role": "rendition"}, {3}),
        ({"smaller_than": 20_000}, {0}),
        ({"larger_than": 20_000}, {1, 2, 4}),
        ({"longest_side_under": 401}, {0, 1, 3}),
        ({"longest_side_over": 5999}, {2}),
        ({"transparent": True}, {0}),
        ({"animated": True}, {1}),
        ({"transparent": False, "formats": ["jpeg"], "folder": "2024/press"}, {2, 3}),
    ],
)
def test_a_rule_is_about_what_it_says(filled: Database, when: dict[str, Any], about: set[int]) -> None:
    recipe = settings(rules=[{"name": "r", "when": when, "leave": True}])
    found = verdicts(filled, recipe)
    assert {path for path, one in found.items() if one.verdict == "leave"} == {FILES[i][0] for i in about}
    assert the_effect(filled, recipe).by_rule == {"r": len(about)}


def test_the_first_rule_that_fits_decides_and_an_override_goes_before(filled: Database) -> None:
    recipe = settings(
        level="everyday",
        rules=[
            {
                "name": "press",
                "when": {"folder": "2024/press"},
                "how": {"level": "gallery", "copies": ["avif"]},
            },
            {"name": "all JPEG", "when": {"formats": ["jpeg"]}, "how": {"level": "lean"}},
        ],
    )
    with filled.begin() as session:
        session.execute(update(Picture).where(Picture.path == FILES[4][0]).values(override="exact"))
        session.execute(update(Picture).where(Picture.path == FILES[0][0]).values(override="leave"))
    found = verdicts(filled, recipe)
    press = found["2024/press/headland.jpg"]
    assert (press.rule, press.level, press.copies) == ("press", Level.GALLERY, ["avif"])
    assert found["2024/press_old/50%_off.jpg"].level is Level.EXACT
    assert found["2024/logo.png"].verdict == "leave"
    assert "for ever" in found["2024/logo.png"].because
    assert found["2024/beam.gif"].level is Level.EVERYDAY


def test_originals_renditions_and_the_largest_size(filled: Database) -> None:
    only = verdicts(filled, settings(renditions="none"))
    assert [path for path, one in only.items() if one.verdict == "leave"] == [FILES[3][0]]
    chosen = verdicts(filled, settings(renditions="chosen", chosen_sizes=["300x200"], originals=False))
    assert [path for path, one in chosen.items() if one.verdict == "treat"] == [FILES[3][0]]
    largest = verdicts(filled, settings(largest={"width": 2560, "height": 2560}))
    assert largest[FILES[2][0]].largest == (2560, 2560)
    assert largest[FILES[3][0]].largest == (0, 0), "renditions keep their size"
    new_only = settings(largest={"width": 2560, "height": 0, "existing": False})
    assert verdicts(filled, new_only)[FILES[2][0]].largest == (0, 0)
    with filled.begin() as session:
        session.get_one(Library, 1).surveyed_at = session.get_one(File, 1).seen_at
        session.execute(update(File).where(File.id == 3).values(seen_at="2099-01-01"))
    assert verdicts(filled, new_only)[FILES[2][0]].largest == (2560, 0)


def test_a_changed_recipe_says_what_it_would_make_again(filled: Database) -> None:
    first = settings()
    with filled.begin() as session:
        library = session.get_one(Library, 1)
        run = create_run(session, library, RunRequest(library="l"))
        for item in session.scalars(select(Item)):
            file = session.get_one(File, item.file_id)
            recipe = recipe_of(session, run, item.variant)
            file.recipe, file.sha256, file.level = key_of(recipe), b"x", "everyday"
            file.treated_at = file.seen_at
            file.before_sha256 = None if file.id == 4 else b"y"
        run.state = "finished"
    same = the_effect(filled, first)
    assert (same.settled, same.new, same.again, same.without_backup) == (5, 0, 0, 0)
    assert the_effect(filled, settings(copies=["avif"])).again == 4
    assert the_effect(filled, settings(copies=["avif"])).without_backup == 1
    narrow = settings(rules=[{"name": "gif", "when": {"animated": True}, "how": {"level": "lean"}}])
    assert (the_effect(filled, narrow).again, the_effect(filled, narrow).settled) == (1, 4)
    with filled.begin() as session:
        session.add(
            RecipeVersion(library_id=1, version=2, settings=narrow.model_dump(mode="json"), by="a test")
        )
    with filled.begin() as session:
        run = create_run(session, session.get_one(Library, 1), RunRequest(library="l"))
        assert (run.files, run.already, run.recipe_version) == (1, 4, 2)
        assert session.scalars(select(Item.path).where(Item.run_id == run.id)).all() == ["2024/beam.gif"]


def test_what_is_left_out_says_so_and_a_bulk_run_leaves_files_to_the_run_that_has_them(
    filled: Database,
) -> None:
    leaving = settings(rules=[{"name": "keep logos", "when": {"transparent": True}, "leave": True}])
    with filled.begin() as session:
        session.add(
            RecipeVersion(library_id=1, version=2, settings=leaving.model_dump(mode="json"), by="a test")
        )
    with filled.begin() as session:
        library = session.get_one(Library, 1)
        bulk = create_run(session, library, RunRequest(library="l"), priority=0)
        assert (bulk.files, bulk.left_out) == (4, 1)
        logo = session.get_one(File, 1)
        session.refresh(logo)
        assert (logo.state, "keep logos" in (logo.reason or "")) == (FileState.LEFT_ALONE, True)
        again = create_run(session, library, RunRequest(library="l"), priority=0)
        assert (again.files, again.elsewhere, again.state) == (0, 4, "finished")
        picture = session.scalars(select(Picture.id).where(Picture.path == FILES[1][0])).one()
        small = create_run(
            session,
            library,
            RunRequest(library="l", scope=Scope(pictures=[picture]), kind=RunKind.TREAT),
        )
        session.refresh(bulk)
        assert (small.files, bulk.passed, small.priority > bulk.priority) == (1, 1, True)
        taken = session.scalars(select(Item).where(Item.run_id == bulk.id, Item.state == "passed")).one()
        assert (taken.code, str(small.id) in (taken.reason or "")) == ("taken-over", True)
        assert session.get_one(Run, bulk.id).megapixels_done == pytest.approx(0.09)


@pytest.mark.parametrize(
    "wrong",
    [
        {"rules": [{"name": "r", "when": {}, "leave": True}]},
        {"rules": [{"name": "r", "when": {"folder": "x"}}]},
        {"rules": [{"name": "r", "when": {"folder": "x"}, "leave": True, "how": {"level": "lean"}}]},
        {"chosen_sizes": ["300"]},
        {"levle": "lean"},
    ],
)
def test_a_recipe_that_makes_no_sense_is_refused(wrong: dict[str, Any]) -> None:
    with pytest.raises(ValidationError):
        RecipeSettings.model_validate(wrong)

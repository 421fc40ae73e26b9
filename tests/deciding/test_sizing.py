"""Sizes: made, kept in step, changed and removed by runs; just those files that had to be."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest
from conftest import photograph
from PIL import Image
from sized import Ledge
from sqlalchemy import select

from plumcrate.contract.common import Level
from plumcrate.contract.jobs import ProofReport
from plumcrate.contract.pictures import FileState
from plumcrate.contract.runs import ItemState, RunKind
from plumcrate.contract.sizes import Anchor, SizeSettings, Way
from plumcrate.jobs.maintenance import prove_hand_back
from plumcrate.records.database import Database
from plumcrate.records.tables import Item, Ledger, Picture, Run
from plumcrate.refusal import Refusal


@pytest.fixture
def ledge(database: Database, tmp_path: Path) -> Ledge:
    return Ledge(database, tmp_path)


def size_of(ledge: Ledge, path: str) -> tuple[int, int]:
    with Image.open(ledge.root / path) as image:
        return image.size


def test_a_size_is_made_of_every_picture_that_is_larger(ledge: Ledge) -> None:
    ledge.save("card", way=Way.FIT, width=200, anchor=Anchor.CENTRE)
    before = set(ledge.tree())
    items = ledge.run()
    assert {item.state for item in items} <= {ItemState.DONE, ItemState.PASSED}
    made = [file.path for file in ledge.made()]
    assert made == ["2026/a-card-200.jpg", "2026/b-card-200.jpeg", "2026/chart-card-200.png"]
    assert set(made) <= set(ledge.tree()) - before
    assert size_of(ledge, "2026/a-card-200.jpg") == (200, 133)
    assert size_of(ledge, "2026/b-card-200.jpeg") == (200, 267)
    assert [file.state for file in ledge.made()] == [FileState.LIGHTER] * 3
    assert all(file.size_before == file.size_now > 0 for file in ledge.made())
    assert all(file.before_sha256 is None for file in ledge.made())
    assert ledge.run() == [], "and then there is nothing to do"
    ledge.survey()
    assert [file.path for file in ledge.made()] == made, "a survey takes them for what they are"
    assert ledge.run() == []


def test_a_size_is_cut_where_it_says_and_never_larger_than_the_picture(ledge: Ledge) -> None:
    ledge.save("square", way=Way.FILL, width=250, height=250, anchor=Anchor.TOP, densities=[1, 2])
    ledge.run()
    made = {file.path: (file.width, file.height, file.slot) for file in ledge.made()}
    assert made == {
        "2026/a-square-250.jpg": (250, 250, "1x"),
        "2026/b-square-250.jpeg": (250, 250, "1x"),
        "2026/chart-square-200.png": (200, 200, "1x"),
    }, "twice as dense there are too few pixels, and the drawing is cut at its own size"
    original = np.asarray(Image.open(ledge.root / "2026/b.jpeg").convert("RGB")).astype(float)
    top = np.asarray(Image.open(ledge.root / "2026/b-square-250.jpeg").convert("RGB")).astype(float)
    whole = np.asarray(Image.fromarray(original[:300].astype(np.uint8)).resize((250, 250))).astype(float)
    assert np.abs(top - whole).mean() < 6
    assert (
        np.abs(top - np.asarray(Image.fromarray(original[100:].astype(np.uint8)).resize((250, 250)))).mean()
        > 8
    )


def test_only_what_changed_is_made_again(ledge: Ledge) -> None:
    ledge.save("card", width=200)
    ledge.save("small", width=90)
    ledge.run()
    before = ledge.tree()
    effect = ledge.effect("small", width=90, grey=True)
    assert (effect.make, effect.remake, effect.remove, effect.stay) == (0, 3, 0, 3)
    ledge.save("small", width=90, grey=True)
    assert {item.path for item in ledge.run()} == {file for file in before if "-small-" in file}
    after = ledge.tree()
    assert {path for path in before if before[path] != after[path]} == {
        "2026/a-small-90.jpg",
        "2026/b-small-90.jpeg",
        "2026/chart-small-90.png",
    }
    with Image.open(ledge.root / "2026/a-small-90.jpg") as image:
        assert image.mode == "L"
    assert set(after) == set(before)


def test_another_width_takes_the_former_files_away(ledge: Ledge) -> None:
    ledge.save("card", width=200)
    ledge.run()
    effect = ledge.effect("card", width=160)
    assert (effect.make, effect.remake, effect.remove, effect.stay) == (3, 0, 3, 0)
    ledge.save("card", width=160)
    ledge.run()
    assert [file.path for file in ledge.made()] == [
        "2026/a-card-160.jpg",
        "2026/b-card-160.jpeg",
        "2026/chart-card-160.png",
    ]
    assert not [path for path in ledge.tree() if "-200" in path]
    ledge.remove("card")
    ledge.run()
    assert ledge.made() == []
    assert not [path for path in ledge.tree() if "-card-" in path]
    with ledge.database.begin() as session:
        assert session.scalars(select(Ledger.action).order_by(Ledger.id.desc())).first() == "drop-size"
        assert session.scalars(select(Picture.files)).all() == [1, 1, 1]


def test_nothing_is_lost_when_a_size_is_given_back_before_the_run(ledge: Ledge) -> None:
    ledge.save("card", width=200)
    ledge.run()
    before = ledge.tree()
    ledge.remove("card")
    ledge.save("card", width=200)
    assert ledge.run() == []
    ledge.save("card", width=160)
    effect = ledge.effect("card", width=200)
    assert (effect.make, effect.remake, effect.remove, effect.stay) == (0, 0, 0, 3)
    ledge.save("card", width=200)
    assert ledge.run() == []
    assert ledge.tree() == before


def test_what_the_site_makes_itself_is_not_made_twice(ledge: Ledge) -> None:
    Image.open(ledge.root / "2026/a.jpg").resize((200, 133)).save(ledge.root / "2026/a-200x133.jpg")
    with ledge.database.begin() as session:
        ledge.library.patterns = ["{stem}-{width}x{height}{ext}"]
        session.merge(ledge.library)
    ledge.survey()
    effect = ledge.effect("card", width=200)
    assert (effect.make, effect.of_the_site) == (2, 1)
    ledge.save("card", width=200)
    ledge.run()
    assert [file.path for file in ledge.made()] == ["2026/b-card-200.jpeg", "2026/chart-card-200.png"]


def test_a_name_that_is_taken_costs_nobody_anything(ledge: Ledge) -> None:
    theirs = photograph(ledge.root / "2026/a-card-200.jpg", 60, 40)
    ledge.survey()
    effect = ledge.effect("card", width=200)
    assert (effect.make, effect.taken, effect.taken_paths) == (2, 1, ["2026/a-card-200.jpg"])
    ledge.save("card", width=200)
    photograph(ledge.root / "2026/chart-card-200.png", 50, 40)  # not on record yet
    stranger = (ledge.root / "2026/chart-card-200.png").read_bytes()
    items = {item.path: item for item in ledge.run(copies=[], level=Level.EXACT)}
    failed = items["2026/chart-card-200.png"]
    assert (failed.state, failed.code) == (ItemState.FAILED, "name-taken")
    assert (ledge.root / "2026/chart-card-200.png").read_bytes() == stranger
    with Image.open(ledge.root / "2026/a-card-200.jpg") as image:
        assert image.size == (60, 40)
    assert len(theirs) > 0


def test_two_pictures_never_get_one_name(ledge: Ledge) -> None:
    Image.open(ledge.root / "2026/a.jpg").save(ledge.root / "2026/a.png")
    ledge.survey()
    effect = ledge.effect("card", width=200, format="jpeg")
    assert (effect.make, effect.taken) == (3, 1)
    ledge.save("card", width=200, format="jpeg")
    ledge.run(copies=[], level=Level.EXACT)
    assert [file.path for file in ledge.made()] == [
        "2026/a-card-200.jpg",
        "2026/b-card-200.jpeg",
        "2026/chart-card-200.jpg",
    ]


def test_a_file_that_somebody_overwrote_becomes_theirs_and_stays(ledge: Ledge) -> None:
    ledge.save("card", width=200)
    ledge.run()
    theirs = photograph(ledge.root / "2026/a-card-200.jpg", 200, 133, seed=9)
    ledge.remove("card")
    items = {item.path: item for item in ledge.run()}
    assert items["2026/a-card-200.jpg"].state == ItemState.DONE
    assert (ledge.root / "2026/a-card-200.jpg").read_bytes() == theirs
    assert not (ledge.root / "2026/b-card-200.jpeg").exists()


def test_a_file_that_was_deleted_is_made_again_the_same(ledge: Ledge) -> None:
    ledge.save("card", width=200)
    ledge.run()
    before = ledge.tree()
    (ledge.root / "2026/a-card-200.jpg").unlink()
    ledge.survey()
    assert [item.path for item in ledge.run()] == ["2026/a-card-200.jpg"]
    assert ledge.tree() == before


def test_sizes_follow_their_original(ledge: Ledge) -> None:
    ledge.save("card", width=200)
    ledge.run()
    before = ledge.tree()
    photograph(ledge.root / "2026/a.jpg", 480, 320, seed=11)
    ledge.survey()
    items = ledge.run()
    after = ledge.tree()
    assert {item.path for item in items} == {"2026/a.jpg", "2026/a-card-200.jpg"}
    assert before["2026/a-card-200.jpg"] != after["2026/a-card-200.jpg"]
    assert before["2026/b-card-200.jpeg"] == after["2026/b-card-200.jpeg"]


def test_the_library_handed_back_holds_none_of_them(ledge: Ledge) -> None:
    before = ledge.tree()
    ledge.save("card", width=200, copies=["webp"], level="lean")
    ledge.run()
    assert any("-card-" in path for path in ledge.tree())
    ledge.run(kind=RunKind.RESTORE)
    assert any("-card-" in path for path in ledge.tree()), "put back are originals; sizes stay"
    ledge.run(kind=RunKind.HAND_BACK, confirm="l")
    assert ledge.tree() == before
    with ledge.database.begin() as session:
        assert not session.scalars(select(Item).where(Item.state == ItemState.FAILED)).all()


def handed_back(ledge: Ledge) -> ProofReport:
    """The proof at the end of a hand-back."""
    ledge.survey()
    items = ledge.run(kind=RunKind.HAND_BACK, confirm="l")
    assert [item.reason for item in items if item.state == ItemState.FAILED] == []
    with ledge.database.begin() as session:
        run = session.scalars(select(Run.id).order_by(Run.id.desc())).first()
    assert run is not None
    return prove_hand_back(ledge.database, run, ledge.keeper)


@pytest.mark.parametrize("removed", ["no", "before it is seen", "after it was seen", "and run"])
@pytest.mark.parametrize("alone", [True, False])
def test_what_was_made_is_known_wherever_somebody_moved_it(ledge: Ledge, removed: str, alone: bool) -> None:
    """A folder that was moved, or the file of a size alone; the size goes at another moment each time."""
    photograph(ledge.root / "kept/c.jpg", 150, 100)
    ledge.survey()
    before = ledge.tree()
    ledge.save("card", width=200, copies=["webp"], level="lean")
    ledge.run()
    if alone:
        (ledge.root / "2025").mkdir()
        (ledge.root / "2026/a-card-200.jpg").rename(ledge.root / "2025/b.jpg")
        moved = before
    else:
        (ledge.root / "2026").rename(ledge.root / "2025")
        moved = {path.replace("2026", "2025"): content for path, content in before.items()}
    if removed == "after it was seen":
        ledge.survey()
    if removed != "no":
        ledge.remove("card")
    if removed == "and run":
        ledge.run()
    assert handed_back(ledge).verdict == "complete"
    assert ledge.tree() == moved


def test_a_copy_that_somebody_made_of_a_size_goes_with_it_and_one_of_a_copy_stays(ledge: Ledge) -> None:
    before = ledge.tree()
    ledge.save("card", width=200, copies=["webp"], level="lean")
    ledge.run()
    shutil.copy(ledge.root / "2026/a-card-200.jpg", ledge.root / "2026/again.jpg")
    copy = next((ledge.root / "2026").glob("*.webp"))
    shutil.copy(copy, ledge.root / "2026/elsewhere.webp")
    proof = handed_back(ledge)
    assert (proof.verdict, proof.copies_used_elsewhere) == ("complete", 1)
    assert ledge.tree().keys() == before.keys() | {"2026/elsewhere.webp"}


def test_the_focal_point_moves_only_what_is_cut_around_it(ledge: Ledge) -> None:
    ledge.save("square", way=Way.FILL, width=150, height=150, anchor=Anchor.FOCUS)
    ledge.save("card", width=200)
    ledge.run()
    before = ledge.tree()
    with ledge.database.begin() as session:
        session.scalars(select(Picture).where(Picture.path == "2026/a.jpg")).one().focus = [0.95, 0.5]
    assert [item.path for item in ledge.run()] == ["2026/a-square-150.jpg"]
    after = ledge.tree()
    assert [path for path in before if before[path] != after[path]] == ["2026/a-square-150.jpg"]


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"width": 0}, "0 by 0"),
        ({"width": 100_000}, "16384"),
        ({"width": 9_000, "densities": [2]}, "16,384"),
        ({"way": "fill", "width": 200}, "both width and height"),
        ({"width": 200, "densities": [4]}, "densities are some of"),
        ({"widths": [200, 0]}, "no width of 0"),
        ({"widths": [200], "width": 300}, "only has widths"),
        ({"width": 200, "when": {"role": "rendition"}}, "of originals"),
    ],
)
def test_sizes_that_make_no_sense_are_refused_in_plain_words(settings: dict[str, object], words: str) -> None:
    with pytest.raises(ValueError, match=words):
        SizeSettings.model_validate(settings)


@pytest.mark.parametrize(
    ("pattern", "words"),
    [
        ("{stem}{ext}", "name of the picture itself"),
        ("{stem}-{nome}{ext}", "no field {nome}"),
        ("{stem}-{width}.jpg", "must end in"),
        ("{name}-{width}{ext}", "own name"),
        ("../{stem}-{width}{ext}", "inside the library"),
        ("/{stem}-{width}{ext}", "inside the library"),
        (".{stem}-{width}{ext}", "open one"),
        ("{stem}-{width{ext}", "brace"),
    ],
)
def test_patterns_that_make_no_names_are_refused(ledge: Ledge, pattern: str, words: str) -> None:
    with pytest.raises(Refusal, match=words):
        ledge.save("card", width=200, pattern=pattern)
    assert ledge.run(copies=[]) is not None
    assert ledge.made() == []


def test_sizes_that_would_give_the_same_names_are_refused(ledge: Ledge) -> None:
    ledge.save("card", width=200, pattern="{stem}-{width}{ext}")
    with pytest.raises(Refusal, match="the size card may give"):
        ledge.save("other", width=200, pattern="{stem}-{width}{ext}")
    with pytest.raises(Refusal, match="several files"):
        ledge.save("other", widths=[100, 200], pattern="{stem}-{name}{ext}")

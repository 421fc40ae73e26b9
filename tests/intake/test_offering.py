"""Folders that may be connected: only what is offered, nothing that leads elsewhere."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from conftest import add_library, photograph

from plumcrate.contract.folders import FolderView
from plumcrate.intake import offering
from plumcrate.records.database import Database
from plumcrate.refusal import Refusal


@pytest.fixture
def offered(tmp_path: Path) -> Path:
    root = tmp_path / "srv"
    for month in ("2025/11", "2026/01"):
        for number in range(3):
            photograph(root / f"site/uploads/{month}/tower-{number}.jpg")
            photograph(root / f"site/uploads/{month}/tower-{number}-45x30.jpg", 64, 48)
    (root / "site/wp-config.php").write_text("<?php")
    (root / "site/uploads/notes.txt").write_text("no picture")
    (root / ".secret").mkdir()
    (root / "site" / os.fsdecode(b"caf\xe9")).mkdir()
    photograph(root / "site/uploads" / os.fsdecode(b"caf\xe9.jpg"))
    (root / "site/.git").mkdir()
    (tmp_path / "elsewhere").mkdir()
    photograph(tmp_path / "elsewhere/other.jpg")
    (root / "site/link").symlink_to(tmp_path / "elsewhere")
    (root / "site/linked.jpg").symlink_to(tmp_path / "elsewhere/other.jpg")
    return root


def look(database: Database, root: Path, path: Path | None) -> FolderView:
    roots = [str(root), str(root / "absent")]
    with database.begin() as session:
        return offering.offered(session, roots, None if path is None else str(path), root.parent / "state")


def test_only_what_is_offered_and_there_is_shown_and_nothing_hidden_or_linked(
    database: Database, offered: Path
) -> None:
    assert [one.path for one in look(database, offered, None).folders] == [str(offered)]
    top = look(database, offered, offered)
    assert [one.name for one in top.folders] == ["site"]
    assert top.parent is None
    site = look(database, offered, offered / "site")
    assert [one.name for one in site.folders] == ["uploads"]
    assert site.parent == str(offered)
    assert "is the site itself" in (site.refusal or "")


def test_pictures_are_counted_shown_and_their_making_is_guessed(database: Database, offered: Path) -> None:
    view = look(database, offered, offered / "site/uploads")
    assert view.pictures == 12
    assert view.bytes == sum(path.stat().st_size for path in (offered / "site/uploads").rglob("tower*.jpg"))
    assert view.model_dump_json(), "every name can be said"
    assert (view.more, view.refusal) == (False, None)
    assert len(view.examples) == 6
    assert not any("45x30" in name for name in view.examples)
    assert "6 of these files are renditions" in (view.guess or "")


def test_a_look_ends_after_so_many_entries(
    database: Database, offered: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(offering, "_MOST_ENTRIES", 7)
    view = look(database, offered, offered / "site/uploads")
    assert view.more
    assert view.pictures < 12


def test_what_is_connected_already_says_so(database: Database, offered: Path) -> None:
    add_library(database, offered / "site/uploads")
    assert "share files" in (look(database, offered, offered / "site/uploads/2025").refusal or "")


@pytest.mark.parametrize(
    "path", ["..", "site/link", ".secret", "site/../../elsewhere", "site/uploads/../../.secret"]
)
def test_nothing_beyond_the_offered_folders_is_told(database: Database, offered: Path, path: str) -> None:
    with pytest.raises(Refusal) as refused:
        look(database, offered, offered / path)
    assert refused.value.code == "folder-missing"


def test_only_pictures_within_are_read(offered: Path) -> None:
    roots = [str(offered)]
    good = offered / "site/uploads/2025/11/tower-0.jpg"
    assert offering.example(roots, str(good), 10**6) == good.read_bytes()
    os.mkfifo(offered / "site/pipe.jpg")
    for name, code in (
        ("site/linked.jpg", "folder-missing"),
        ("site/wp-config.php", "not-a-picture"),
        ("site/pipe.jpg", "cannot-show"),
        ("site/absent.jpg", "cannot-show"),
    ):
        with pytest.raises(Refusal) as refused:
            offering.example(roots, str(offered / name), 10**6)
        assert refused.value.code == code
    with pytest.raises(Refusal):
        offering.example(roots, str(good), 10)


@pytest.mark.parametrize(
    ("names", "said"),
    [
        (["original_images/a.jpg", "images/a.width-300.jpg"], "Wagtail"),
        (["a.jpg", "styles/large/public/a.jpg"], "Drupal"),
        (["2026/01/a.jpg"], "year and month"),
        (["a.jpg", "b/c.png"], None),
        ([], None),
    ],
)
def test_a_guess_goes_by_the_folders(names: list[str], said: str | None) -> None:
    guess = offering._guess(names)
    assert (guess is None) if said is None else (said in (guess or ""))

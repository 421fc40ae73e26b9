"""The same picture twice: the second is made of what the first became, and only when that is surely right."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import photograph
from sqlalchemy import update
from walk import Walk

from plumcrate.contract.common import Level
from plumcrate.contract.runs import ItemState, RunKind
from plumcrate.imaging.version import core_version
from plumcrate.intake.survey import survey
from plumcrate.records.database import Database
from plumcrate.records.tables import File


class Twice(Walk):
    """A library with the same JPEG under two names; runs are carried out at once."""

    def __init__(self, database: Database, tmp_path: Path) -> None:
        super().__init__(database, tmp_path)
        for name in ("2024/a.jpg", "2025/b.jpg"):
            (self.root / name).parent.mkdir()
            (self.root / name).write_bytes(self.data)
        survey(database, self.keeper, self.library, lambda *_: None)

    def files(self) -> dict[str, bytes]:
        return {str(p.relative_to(self.root)): p.read_bytes() for p in self.root.rglob("*.jpg*")}


@pytest.fixture
def twice(database: Database, tmp_path: Path) -> Twice:
    return Twice(database, tmp_path)


def test_the_second_is_made_of_what_the_first_became(twice: Twice) -> None:
    items = twice.run()
    assert [item.state for item in items] == [ItemState.DONE] * 2
    assert len(twice.box.asked) == 1, "one treatment for both"
    files = twice.files()
    for ending in ("", ".webp", ".avif"):
        assert files[f"2024/a.jpg{ending}"] == files[f"2025/b.jpg{ending}"]
    first, second = twice.named("2024/a.jpg"), twice.named("2025/b.jpg")
    for name in (
        "score",
        "worst",
        "worst_place",
        "how",
        "recipe",
        "sha256",
        "before_sha256",
        "size_now",
        "level",
    ):
        assert getattr(first, name) == getattr(second, name), name
    of = [
        [(one.format, one.sha256, one.score, one.how, one.width) for one in f.derived]
        for f in (first, second)
    ]
    assert of[0] == of[1]
    assert items[0].bytes_lightest == items[1].bytes_lightest


def test_either_goes_its_own_way_afterwards(twice: Twice) -> None:
    twice.run()
    twice.run(folder="2024", kind=RunKind.RESTORE)
    files = twice.files()
    assert files["2024/a.jpg"] == twice.data
    assert "2024/a.jpg.webp" not in files
    assert len(files["2025/b.jpg"]) < len(twice.data)
    assert "2025/b.jpg.webp" in files
    twice.run(folder="2025", kind=RunKind.RESTORE)
    assert twice.files() == {"2024/a.jpg": twice.data, "2025/b.jpg": twice.data}


def _touched(twice: Twice, monkeypatch: pytest.MonkeyPatch) -> None:
    (twice.root / "2024/a.jpg").write_bytes(photograph(twice.root.parent / "other.jpg", 480, 320, seed=5))


def _rotten_copy(twice: Twice, monkeypatch: pytest.MonkeyPatch) -> None:
    (twice.root / "2024/a.jpg.webp").write_bytes(b"RIFF, and nothing that was recorded")


def _lost_copy(twice: Twice, monkeypatch: pytest.MonkeyPatch) -> None:
    (twice.root / "2024/a.jpg.avif").unlink()


def _other_core(twice: Twice, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("plumcrate.runs.duplicates.core_version", lambda: "another")


def _put_back(twice: Twice, monkeypatch: pytest.MonkeyPatch) -> None:
    twice.run(folder="2024", kind=RunKind.RESTORE)


def _never_told(twice: Twice, monkeypatch: pytest.MonkeyPatch) -> None:
    with twice.database.begin() as session:
        session.execute(update(File).where(File.path == "2024/a.jpg").values(recipe={"level": "lean"}))


@pytest.mark.parametrize(
    "deed",
    [_touched, _rotten_copy, _lost_copy, _other_core, _put_back, _never_told],
    ids=lambda one: one.__name__,
)
def test_a_twin_that_is_not_as_recorded_is_not_taken(
    twice: Twice, deed: Callable[[Twice, pytest.MonkeyPatch], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    twice.run(folder="2024")
    before = twice.files()
    deed(twice, monkeypatch)
    (item,) = twice.run(folder="2025")
    assert item.state == ItemState.DONE
    assert len(twice.box.asked) == 2, "it was treated for itself"
    after = twice.files()
    assert after["2025/b.jpg"] == before["2024/a.jpg"], "and came out the same"
    assert after["2025/b.jpg.webp"] == before["2024/a.jpg.webp"]


def test_other_settings_are_another_treatment(twice: Twice) -> None:
    twice.run(folder="2024", level=Level.EVERYDAY)
    twice.run(folder="2025", level=Level.LEAN)
    assert [len(copies) for _, copies, _ in twice.box.asked] == [2, 2]
    files = twice.files()
    assert len(files["2025/b.jpg"]) < len(files["2024/a.jpg"])


def test_another_picture_of_the_same_size_is_treated(twice: Twice) -> None:
    other = photograph(twice.root / "2025/c.jpg", 480, 320, seed=9)
    survey(twice.database, twice.keeper, twice.library, lambda *_: None)
    twice.run()
    assert sorted(data == twice.data for data, _, _ in twice.box.asked) == [False, True]
    assert other != twice.data


def test_the_core_knows_itself_by_its_own_code() -> None:
    assert len(core_version()) == 16
    assert core_version() == core_version()
    int(core_version(), 16)

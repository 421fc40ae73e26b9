"""Files that are made for sizes: killed at every step, overwritten, never in somebody's name."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from place import OLD, Place
from sqlalchemy import select

from plumcrate.contract.pictures import FileRole, FileState
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.steps import Step
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Journal, Ledger, Result
from plumcrate.storage.errors import StorageError
from plumcrate.storage.names import STAGED_PREFIX

MADE, OTHER = b"made for a place", b"made otherwise"


class Sized(Place):
    """A place whose picture has a file to be made for a size, in a folder that is not there yet."""

    def __init__(self, database: Database, tmp_path: Path) -> None:
        super().__init__(database, tmp_path)
        with database.begin() as session:
            session.add(
                File(
                    library_id=1,
                    picture_id=1,
                    path="sizes/a-card.jpg",
                    folder="sizes",
                    role=FileRole.RENDITION,
                    state=FileState.GONE,
                    format="jpeg",
                    width=10,
                    height=10,
                    size_before=0,
                    size_now=0,
                    mtime_ns=0,
                    mtime_ns_before=0,
                    size_name="card",
                    slot="1x",
                )
            )

    @property
    def made(self) -> File:
        with self.database.begin() as session:
            return session.get_one(File, 2)

    @property
    def place(self) -> Path:
        return self.root / "sizes/a-card.jpg"

    def put(self, data: bytes = MADE) -> None:
        self.keeper.put_sized(self.made, data, bytes(32), "a.jpg", ChangeNote())

    def agrees(self) -> None:
        """Disk and records say the same, nothing lies about, and the original is as it was."""
        made = self.made
        if self.place.exists():
            assert made.state == FileState.LIGHTER
            assert self.place.read_bytes() in (MADE, OTHER)
            assert made.size_now == made.size_before == self.place.stat().st_size or made.sha256 is not None
        else:
            assert made.state == FileState.GONE
        folder = self.root / "sizes"
        names = os.listdir(folder) if folder.exists() else []
        assert not [name for name in names if name.startswith(STAGED_PREFIX)]
        assert self.bytes() == OLD
        with self.database.begin() as session:
            assert not session.scalars(select(Journal.id)).all()


@pytest.fixture
def sized(database: Database, tmp_path: Path) -> Sized:
    return Sized(database, tmp_path)


@pytest.mark.parametrize("step", [Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.RECORDED])
def test_killed_while_making_a_size(sized: Sized, step: Step) -> None:
    sized.killed_at("make a size", step)
    recover(sized.keeper)
    sized.agrees()
    sized.put()
    sized.agrees()
    assert sized.place.read_bytes() == MADE


@pytest.mark.parametrize("step", [Step.JOURNALLED, Step.EXCHANGED, Step.CHECKED, Step.RECORDED, Step.CLEANED])
def test_killed_while_dropping_a_size(sized: Sized, step: Step) -> None:
    sized.put()
    sized.killed_at("drop a size", step)
    recover(sized.keeper)
    sized.keeper.drop_sized(sized.made, ChangeNote())
    sized.agrees()
    assert not sized.place.exists()


def test_made_again_otherwise_and_the_same(sized: Sized) -> None:
    sized.put()
    first = sized.place.stat().st_mtime_ns
    sized.put()
    assert sized.place.stat().st_mtime_ns == first, "what is the same already is not written"
    sized.put(OTHER)
    assert sized.place.read_bytes() == OTHER
    sized.agrees()
    with sized.database.begin() as session:
        assert session.scalars(select(Ledger.action).order_by(Ledger.id)).all() == ["size", "replace"]
        results = session.scalars(select(Result)).all()
        assert {row.purpose for row in results} == {"size"}
        assert {row.original_sha256 for row in results} == {bytes(32)}
    assert sized.made.before_sha256 is None, "it needs no backup: it can be made again"


def test_it_never_takes_somebody_elses_name(sized: Sized) -> None:
    sized.place.parent.mkdir()
    sized.place.write_bytes(b"theirs")
    with pytest.raises(StorageError) as caught:
        sized.put()
    assert caught.value.code == "name-taken"
    assert sized.place.read_bytes() == b"theirs"


def test_what_somebody_wrote_over_it_stays(sized: Sized) -> None:
    sized.put()
    sized.place.write_bytes(b"theirs now")
    with pytest.raises(StorageError):
        sized.put(OTHER)
    assert sized.place.read_bytes() == b"theirs now"
    sized.keeper.drop_sized(sized.made, ChangeNote())
    assert sized.place.read_bytes() == b"theirs now"


def test_it_has_the_mode_of_its_original(sized: Sized) -> None:
    (sized.root / "a.jpg").chmod(0o640)
    sized.put()
    assert sized.place.stat().st_mode & 0o777 == 0o640


def test_a_size_that_was_never_made_is_dropped_without_a_word(sized: Sized) -> None:
    sized.keeper.drop_sized(sized.made, ChangeNote())
    sized.agrees()

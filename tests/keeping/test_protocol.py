"""The change protocol under a power cut at every step, a full disk, and somebody else writing.

Promise: after recovery a file holds its old or its new bytes, whole; the backup is in the store
whenever the new ones are in place; records and disk agree; nothing of ours lies about.
"""

import errno
import hashlib
import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import add_library
from sqlalchemy import func, select

from plumcrate.keeping import keeper as keeper_module
from plumcrate.keeping import steps
from plumcrate.keeping.backups import BackupStore
from plumcrate.keeping.journal import Note
from plumcrate.keeping.keeper import Keeper, Overtaken
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.steps import Step
from plumcrate.records.database import Database
from plumcrate.records.tables import Copy, File, Journal, Ledger, Picture
from plumcrate.storage.folder import STAGED_PREFIX, Folder, StorageError

OLD, NEW, COPY = b"the old bytes, long and heavy", b"new bytes", b"a copy"
KILLED = """
import os, signal, sys
from pathlib import Path
from plumcrate.keeping import steps
from plumcrate.keeping.backups import BackupStore
from plumcrate.keeping.journal import Note
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.database import Database
from plumcrate.records.tables import File
from plumcrate.storage.folder import Folder
url, root, store, what, step = sys.argv[1:]
database = Database(url)
keeper = Keeper(database, 1, Folder(root), BackupStore(Path(store)))
def observe(passed):
    if passed == step:
        os.kill(os.getpid(), signal.SIGKILL)
steps.observer = observe
with database.begin() as session:
    file = session.get_one(File, 1)
if what == "replace":
    keeper.replace(file, b"the old bytes, long and heavy", b"new bytes", Note())
elif what == "copy":
    keeper.write_copy(file, "webp", b"a copy", "made for a test", Note())
else:
    keeper.restore(file, Note())
print("lived")
"""


class Place:
    """One library with one file, and a keeper for it."""

    def __init__(self, database: Database, tmp_path: Path) -> None:
        self.database = database
        self.root, self.store = tmp_path / "library", tmp_path / "backups"
        self.root.mkdir()
        (self.root / "a.jpg").write_bytes(OLD)
        os.utime(self.root / "a.jpg", ns=(10**18, 10**18))
        add_library(database, self.root)
        with database.begin() as session:
            session.add(Picture(library_id=1, path="a.jpg", folder="", name="a.jpg"))
            session.flush()
            session.add(
                File(
                    library_id=1, picture_id=1, path="a.jpg", size_before=len(OLD), size_now=len(OLD),
                    mtime_ns=10**18, mtime_ns_before=10**18,
                )
            )  # fmt: skip
        self.keeper = Keeper(database, 1, Folder(self.root), BackupStore(self.store))

    @property
    def file(self) -> File:
        with self.database.begin() as session:
            return session.get_one(File, 1)

    def bytes(self) -> bytes:
        return (self.root / "a.jpg").read_bytes()

    def killed_at(self, what: str, step: Step) -> None:
        arguments = [self.database.url, str(self.root), str(self.store), what, step]
        done = subprocess.run(
            [sys.executable, "-c", KILLED, *arguments], capture_output=True, text=True, check=False
        )
        assert done.returncode == -signal.SIGKILL or "lived" in done.stdout, done.stderr

    def check(self) -> None:
        """Disk and records agree, and nothing is left lying about."""
        now, file = self.bytes(), self.file
        assert now in (OLD, NEW)
        if now == NEW:
            assert self.keeper.backups.get(hashlib.sha256(OLD).digest()) == OLD
            assert file.sha256 == hashlib.sha256(NEW).digest()
            assert file.before_sha256 == hashlib.sha256(OLD).digest()
        else:
            assert file.sha256 != hashlib.sha256(NEW).digest()
        assert file.size_now == len(now)
        assert not [name for name in os.listdir(self.root) if name.startswith(STAGED_PREFIX)]
        with self.database.begin() as session:
            assert session.scalar(select(func.count()).select_from(Journal)) == 0
            copies = set(session.scalars(select(Copy.path)))
        assert copies == {name for name in os.listdir(self.root) if name.endswith(".webp")}


@pytest.fixture
def place(database: Database, tmp_path: Path) -> Place:
    return Place(database, tmp_path)


@pytest.mark.parametrize("step", list(Step))
def test_killed_while_replacing(place: Place, step: Step) -> None:
    place.killed_at("replace", step)
    recover(place.keeper)
    place.check()
    if place.bytes() == OLD:
        place.keeper.replace(place.file, OLD, NEW, Note())
    place.check()
    place.keeper.restore(place.file, Note())
    assert place.bytes() == OLD


@pytest.mark.parametrize("step", [Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.RECORDED])
def test_killed_while_writing_a_copy(place: Place, step: Step) -> None:
    place.killed_at("copy", step)
    recover(place.keeper)
    place.check()
    place.keeper.write_copy(place.file, "webp", COPY, "", Note())
    place.check()
    assert (place.root / "a.jpg.webp").read_bytes() == COPY


@pytest.mark.parametrize(
    "step", [Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.CHECKED, Step.RECORDED, Step.CLEANED]
)
def test_killed_while_restoring(place: Place, step: Step) -> None:
    place.keeper.replace(place.file, OLD, NEW, Note())
    place.keeper.write_copy(place.file, "webp", COPY, "", Note())
    place.killed_at("restore", step)
    recover(place.keeper)
    place.check()
    place.keeper.restore(place.file, Note())
    place.check()
    assert place.bytes() == OLD
    assert os.listdir(place.root) == ["a.jpg"]
    assert (place.root / "a.jpg").stat().st_mtime_ns == 10**18


def test_somebody_writes_in_between(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    def meddle(step: Step) -> None:
        if step is Step.STAGED:
            (place.root / "a.jpg").write_bytes(b"from somebody else")

    monkeypatch.setattr(steps, "observer", meddle)
    with pytest.raises(Overtaken, match="somebody else"):
        place.keeper.replace(place.file, OLD, NEW, Note())
    assert place.bytes() == b"from somebody else"
    assert os.listdir(place.root) == ["a.jpg"]
    assert place.keeper.backups.get(hashlib.sha256(OLD).digest()) == OLD


def test_somebody_changed_a_treated_file_so_restore_leaves_it(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, Note())
    (place.root / "a.jpg").write_bytes(b"an editor's new version")
    with pytest.raises(Overtaken):
        place.keeper.restore(place.file, Note())
    assert place.bytes() == b"an editor's new version"


#: What the calls of fsync are for, in order, when a first file is replaced.
SYNCS = ("backup folder", "backup file", "backup name", "staged file", "library folder")


@pytest.mark.parametrize("moment", SYNCS)
def test_a_full_disk_leaves_disk_and_records_agreed(
    place: Place, monkeypatch: pytest.MonkeyPatch, moment: str
) -> None:
    real, calls = os.fsync, 0

    def fsync(descriptor: int) -> None:
        nonlocal calls
        calls += 1
        if calls == SYNCS.index(moment) + 1:
            raise OSError(errno.ENOSPC, "No space left on device")
        real(descriptor)

    monkeypatch.setattr(os, "fsync", fsync)
    if moment == "library folder":  # the exchange has happened, and is kept
        place.keeper.replace(place.file, OLD, NEW, Note())
        assert place.bytes() == NEW
    else:
        with pytest.raises(StorageError) as caught:
            place.keeper.replace(place.file, OLD, NEW, Note())
        assert caught.value.code == "disk-full"
        assert place.bytes() == OLD
    assert calls >= SYNCS.index(moment) + 1
    monkeypatch.undo()
    place.check()


def test_a_copy_never_takes_somebody_elses_name(place: Place) -> None:
    (place.root / "a.jpg.webp").write_bytes(b"theirs")
    with pytest.raises(StorageError) as caught:
        place.keeper.write_copy(place.file, "webp", COPY, "", Note())
    assert caught.value.code == "name-taken"
    assert (place.root / "a.jpg.webp").read_bytes() == b"theirs"


def test_a_copy_that_somebody_changed_is_left_when_ours_are_dropped(place: Place) -> None:
    place.keeper.write_copy(place.file, "webp", COPY, "", Note())
    (place.root / "a.jpg.webp").write_bytes(b"theirs now")
    place.keeper.drop_copies(place.file, Note())
    assert (place.root / "a.jpg.webp").read_bytes() == b"theirs now"
    assert not place.file.copies


def test_a_damaged_backup_is_never_put_in_place(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, Note())
    place.keeper.backups.place(hashlib.sha256(OLD).digest()).write_bytes(b"bit rot")
    with pytest.raises(StorageError, match="damaged"):
        place.keeper.restore(place.file, Note())
    assert place.bytes() == NEW


def test_the_ledger_tells_the_story(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, Note(score=81.0))
    place.keeper.write_copy(place.file, "webp", COPY, "", Note())
    place.keeper.restore(place.file, Note())
    with place.database.begin() as session:
        actions = list(session.scalars(select(Ledger.action).order_by(Ledger.id)))
    assert actions == [
        keeper_module.REPLACE,
        keeper_module.COPY,
        keeper_module.RESTORE,
        keeper_module.DROP_COPY,
    ]

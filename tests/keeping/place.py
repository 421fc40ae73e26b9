"""A library with one file on a disk, a keeper for it, and ways to be killed in the middle of a change."""

from __future__ import annotations

import hashlib
import io
import os
import signal
import traceback
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

from conftest import add_library, surveyed
from sqlalchemy import func, select, true

from plumcrate.contract.pictures import Purpose
from plumcrate.keeping import steps
from plumcrate.keeping.backups import BackupStore
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import Which, prune
from plumcrate.keeping.state import StateFolder
from plumcrate.keeping.steps import Step
from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, Derived, File, Journal, Library, Picture
from plumcrate.storage.local import LocalStore
from plumcrate.storage.names import IDENTITY_NAME, STAGED_PREFIX

OLD, NEW, COPY = b"the old bytes, long and heavy", b"new bytes", b"a copy"
SENT = b"another picture that somebody sent"


def _die() -> None:
    os.kill(os.getpid(), signal.SIGKILL)


def sha(data: bytes) -> bytes:
    return hashlib.sha256(data).digest()


class Place:
    """``a.jpg``, or another path, in a library that was just connected."""

    def __init__(self, database: Database, tmp_path: Path, path: str = "a.jpg") -> None:
        self.database, self.path = database, path
        self.root, self.state = tmp_path / "library", tmp_path / "state"
        self.store = self.state / "backups/l"
        (self.root / path).parent.mkdir(parents=True)
        (self.root / path).write_bytes(OLD)
        os.utime(self.root / path, ns=(10**18, 10**18))
        add_library(database, self.root)
        folder, _, name = path.rpartition("/")
        with database.begin() as session:
            session.add(Picture(library_id=1, path=path, folder=folder, name=name))
            session.flush()
            session.add(
                File(
                    library_id=1,
                    picture_id=1,
                    path=path,
                    folder=folder,
                    size_before=len(OLD),
                    size_now=len(OLD),
                    mtime_ns=10**18,
                    mtime_ns_before=10**18,
                )
            )
        self.keeper = Keeper(database, 1, LocalStore(self.root), BackupStore(self.store))

    def fresh_keeper(self, **options: bool) -> Keeper:
        """As a process makes it that has just started."""
        with self.database.begin() as session:
            library = session.get_one(Library, 1)
        state = StateFolder(self.database, self.state)
        store = LocalStore(self.root, library.identity if library.identified_at else None, **options)
        return Keeper(self.database, 1, store, BackupStore(self.store, state.check))

    @property
    def file(self) -> File:
        with self.database.begin() as session:
            return session.get_one(File, 1)

    def names(self) -> list[str]:
        return sorted(set(os.listdir(self.root)) - {IDENTITY_NAME})

    def bytes(self) -> bytes:
        return (self.root / self.path).read_bytes()

    def killed_at(self, what: str, step: Step | str, *, exchanges: bool = True) -> None:
        """Does something in a process of its own, which is killed when it comes to a step."""
        pid = os.fork()
        if pid == 0:
            code = 1
            try:
                self._do_until(what, step, exchanges)
                code = 0
            except BaseException:
                traceback.print_exc()
            finally:
                os._exit(code)
        _, ended = os.waitpid(pid, 0)
        assert os.waitstatus_to_exitcode(ended) in (0, -signal.SIGKILL)

    def _do_until(self, what: str, step: Step | str, exchanges: bool) -> None:
        database = Database(self.database.url)
        keeper = Keeper(database, 1, LocalStore(self.root, exchanges=exchanges), BackupStore(self.store))
        steps.observer = lambda passed: _die() if passed == step else None
        rename = os.rename
        if step == "half-swapped":
            setattr(os, "rename", lambda *names, **where: (rename(*names, **where), _die()))  # noqa: B010
        if step == "linked":
            setattr(os, "rename", lambda *names, **where: _die())  # noqa: B010
        with database.begin() as session:
            file = session.get_one(File, 1)
            made = session.get(File, 2)
        if what == "replace":
            keeper.replace(file, OLD, NEW, ChangeNote())
        elif what == "copy":
            keeper.write_derived(
                file, Beside(Purpose.COPY, "webp", how="made for a test"), COPY, ChangeNote()
            )
        elif what == "withdraw":
            keeper.withdraw(file, OLD, ChangeNote())
        elif what == "upload":
            keeper.upload("new.jpg", b"sent by somebody", ChangeNote())
        elif what == "supersede":
            keeper.supersede(file, io.BytesIO(SENT), ChangeNote())
        elif what == "make a size":
            assert made is not None
            keeper.put_sized(made, b"made for a place", bytes(32), "a.jpg", ChangeNote())
        elif what == "drop a size":
            assert made is not None
            keeper.drop_sized(made, ChangeNote())
        elif what == "prune":
            prune(keeper, Which(true(), orphans=True, needed=True), note="a test")
        else:
            keeper.restore(file, ChangeNote())

    def check(self) -> None:
        """Disk and records agree, and nothing is left lying about."""
        now, file = self.bytes(), self.file
        assert now in (OLD, NEW)
        if now == NEW:
            assert self.keeper.backups.get(sha(OLD)) == OLD
            assert file.sha256 == sha(NEW)
            assert file.before_sha256 == sha(OLD)
        else:
            assert file.sha256 != sha(NEW)
        assert file.size_now == len(now)
        assert not [name for name in os.listdir(self.root) if name.startswith(STAGED_PREFIX)]
        assert self.open_changes() == 0
        with self.database.begin() as session:
            copies = set(session.scalars(select(Derived.path)))
        assert copies == {name for name in os.listdir(self.root) if name.endswith(".webp")}

    def open_changes(self) -> int:
        with self.database.begin() as session:
            return session.scalar(select(func.count()).select_from(Journal)) or 0

    def backups(self) -> set[bytes]:
        with self.database.begin() as session:
            return set(session.scalars(select(Backup.sha256)))

    def survey(self) -> SimpleNamespace:
        return surveyed(self.database, self.fresh_keeper())

    def files(self) -> dict[str, File]:
        with self.database.begin() as session:
            return {file.path: file for file in session.scalars(select(File))}

    def unmounted(self, deed: Callable[[], object]) -> None:
        """Does something while an empty folder stands where the library was."""
        self.root.rename(self.root.with_name("volume"))
        self.root.mkdir()
        try:
            deed()
        finally:
            assert os.listdir(self.root) == [], "something was written to the empty mount point"
            self.root.rmdir()
            self.root.with_name("volume").rename(self.root)

"""A small world in memory: a library, a keeper, strangers who meddle, power cuts and volumes that go away.

One schedule is a random run of deeds. After each deed every original must still be had: byte for byte in the
library or whole in the backup store. At the end the volume is back, everybody has finished, the library is
handed back, and each file must hold what a person last wrote there.
"""

from __future__ import annotations

import hashlib
import random
import shutil
import tempfile
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from sqlalchemy import delete, func, select, true

from plumcrate.contract.pictures import FileState, Purpose
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.intake.reconciling import Reconciler
from plumcrate.keeping import steps
from plumcrate.keeping.backups import BackupStore
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import Which, finish_pruning, orphaned, prune
from plumcrate.keeping.reattaching import reattach_library
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.verify import sweep, verify
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.tables import Backup, Derived, File, Journal, Library
from plumcrate.storage.errors import StorageError
from plumcrate.storage.memory import MemoryStore, Node
from plumcrate.storage.names import IDENTITY_NAME

FILES = ("a/one.png", "a/two.png", "b/three.png", "four.png")
_KILL_WITHIN = 40


class Killed(BaseException):
    """The process ends here, whatever it was about to do."""


def sha(data: bytes) -> bytes:
    return hashlib.sha256(data).digest()


class World:
    """``expected``: what a person last wrote, by path. ``precious``: originals that must never be lost."""

    def __init__(self, database: Database, seed: int) -> None:
        self.database = database
        self.chance = random.Random(seed)
        self.folder = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
        self.store = MemoryStore()
        self.store.exchanges = self.chance.random() < 0.7
        self.store.leases = self.chance.random() < 0.7
        self.expected: dict[str, bytes] = {}
        self.written: set[bytes] = set()
        self.treated: set[bytes] = set()  # hashes of originals of which we made something
        self.anywhere: set[bytes] = set()  # written by somebody, wherever it is
        self.rivals: dict[str, set[bytes]] = {}  # what may stand in a name instead of what is expected
        self.writers: list[tuple[str, Node]] = []
        self.said: list[str] = []
        for path in FILES:
            self._person_writes(path)
        with database.begin() as session:
            library = new_library(session, f"w{seed}", "W", f"/w/{seed}", [], RecipeSettings(), "world")
            self.library_id = library.id
        self.reconcile()

    def close(self) -> None:
        shutil.rmtree(self.folder, ignore_errors=True)
        with self.database.begin() as session:
            session.execute(delete(Library).where(Library.id == self.library_id))

    # -- us ------------------------------------------------------------------------------------

    def keeper(self) -> Keeper:
        with self.database.begin() as session:
            library = session.get_one(Library, self.library_id)
        self.store.identity = library.identity if library.identified_at else None
        return Keeper(self.database, self.library_id, self.store, BackupStore(self.folder), grace=0)

    def files(self, *, gone: bool = False) -> list[File]:
        with self.database.begin() as session:
            query = select(File).where(File.library_id == self.library_id).order_by(File.id)
            if not gone:
                query = query.where(File.state != FileState.GONE)
            return list(session.scalars(query))

    def reconcile(self) -> None:
        """A survey: what stands there against what is known."""
        keeper = self.keeper()
        with self.database.begin() as session:
            library = session.get_one(Library, self.library_id)
        reconciler = Reconciler(self.database, keeper, library)
        with keeper.store.visit():
            listings = list(keeper.store.walk())
            sightings = {entry.path: entry for _, listing in listings for entry in listing.files}
            if library.identified_at is None and not sightings:
                return  # as a survey does with an empty folder that never bore an identity file
            known = {file.path for file in self.files()}
            reconciler.look(sightings | dict.fromkeys(known - sightings.keys()))

    def replace(self) -> None:
        keeper, file = self.keeper(), self._some_file()
        if file is None:
            return
        recover(keeper, file.id)
        with self.database.begin() as session:
            file = session.get_one(File, file.id)
        current = keeper.store.read(file.path)
        source = self._source_of(keeper, file, current)
        if source is None:
            return
        light = b"light " + sha(source + bytes([self.chance.randrange(4)]))[:5]
        self.treated.add(sha(source))
        if light != current:
            note = ChangeNote(made={"level": "lean", "recipe": {"level": "lean"}, "how": "x", "score": 70.0})
            keeper.replace(file, current, light, note)

    def _source_of(self, keeper: Keeper, file: File, current: bytes) -> bytes | None:
        content = sha(current)
        if file.before_sha256 is not None:
            if content == file.before_sha256:
                return current
            return keeper.backups.get(file.before_sha256) if content == file.sha256 else None
        return current if file.sha256 is None else None

    def copy(self) -> None:
        keeper, file = self.keeper(), self._some_file()
        if file is not None:
            keeper.write_derived(
                file, Beside(Purpose.COPY, "webp"), b"copy " + sha(file.path.encode())[:6], ChangeNote()
            )

    def convert(self) -> None:
        keeper, file = self.keeper(), self._some_file()
        if file is None or not file.path.endswith(".png"):
            return
        current = keeper.store.read(file.path)
        if self._source_of(keeper, file, current) is None:
            return
        keeper.write_derived(
            file, Beside(Purpose.CONVERSION, "jpeg", ".jpg"), b"converted " + sha(current)[:6], ChangeNote()
        )
        self.treated.add(sha(self._source_of(keeper, file, current) or b""))
        with self.database.begin() as session:
            file = session.get_one(File, file.id)
        keeper.withdraw(file, current, ChangeNote())

    def restore(self) -> None:
        keeper, file = self.keeper(), self._some_file()
        if file is not None:
            keeper.restore(file, ChangeNote())

    def prune(self) -> None:
        prune(self.keeper(), Which(true()), note="world")

    def mend(self) -> None:
        for _ in verify(self.keeper(), mend=True):
            pass

    def recover(self) -> None:
        keeper = self.keeper()
        recover(keeper)
        finish_pruning(keeper)

    def _some_file(self) -> File | None:
        files = self.files()
        return self.chance.choice(files) if files else None

    # -- strangers -----------------------------------------------------------------------------

    def _visible(self) -> list[str]:
        return [
            path
            for path, node in self.store.nodes.items()
            if node.kind == "file" and path in self.expected and not path.rpartition("/")[2].startswith(".")
        ]

    def _person_writes(self, path: str, data: bytes | None = None) -> None:
        data = data or b"original " + self.chance.randbytes(self.chance.randrange(3, 9))
        self.store.nodes[path] = Node(data)
        self.expected[path] = data
        self.written.add(sha(data))

    def overwrite(self) -> None:
        if paths := self._visible():
            self._person_writes(self.chance.choice(paths))

    def upload(self) -> None:
        self._person_writes(f"{self.chance.choice(['a', 'b', 'c'])}/new{self.chance.randrange(5)}.png")

    def delete(self) -> None:
        if paths := self._visible():
            path = self.chance.choice(paths)
            del self.store.nodes[path], self.expected[path]

    def move(self) -> None:
        if paths := self._visible():
            path, to = self.chance.choice(paths), f"m/{self.chance.randrange(100)}.png"
            if to not in self.store.nodes:
                self.store.nodes[to] = self.store.nodes.pop(path)
                self.expected[to] = self.expected.pop(path)
                # Who writes to what lies aside, while its name goes elsewhere, writes a file of its own.
                moved = self.store.nodes[to]
                self.writers = [
                    (name if name != path else to if node is moved else "", node)
                    for name, node in self.writers
                ]

    def move_folder(self) -> None:
        folder, to = self.chance.choice([("a", "z"), ("b", "y"), ("z", "a"), ("y", "b")])
        if any(path.startswith(f"{to}/") for path in self.store.nodes):
            return
        self.store.move_folder(folder, to)
        for path in [path for path in self.expected if path.startswith(f"{folder}/")]:
            self.expected[to + path.removeprefix(folder)] = self.expected.pop(path)
        self.writers = [
            (to + name.removeprefix(folder) if name.startswith(f"{folder}/") else name, node)
            for name, node in self.writers
        ]

    def duplicate(self) -> None:
        if paths := self._visible():
            path, to = self.chance.choice(paths), f"d/{self.chance.randrange(100)}.png"
            if to not in self.store.nodes:
                self.store.nodes[to] = Node(self.store.nodes[path].data)
                self.expected[to] = self.expected[path]

    def link(self) -> None:
        """A folder or a link in a file's place, for a moment."""
        if paths := self._visible():
            path = self.chance.choice(paths)
            del self.expected[path]
            self.store.nodes[path] = Node(kind=self.chance.choice(["folder", "link"]))

    def open_for_writing(self) -> None:
        if paths := self._visible():
            path = self.chance.choice(paths)
            node = self.store.nodes[path]
            node.writers += 1
            self.writers.append((path, node))

    def write_in_place(self) -> None:
        """Who has a file open writes to it and closes it, wherever the file has gone meanwhile."""
        if not self.writers:
            return
        path, node = self.writers.pop()
        node.writers -= 1
        homes = [name for name, other in self.store.nodes.items() if other is node]
        if not homes:
            return  # deleted meanwhile: whoever writes to a deleted file knows that it is
        data = b"edited " + self.chance.randbytes(5)
        node.write(data)
        self.written.add(sha(data))
        for name in homes:
            if name in self.expected:
                self.expected[name] = data
            elif name.rpartition("/")[2].startswith("."):
                here = self.store.nodes.get(path)
                if path in self.expected and not (here and sha(here.data) in self.written):
                    self.expected[path] = data  # aside for a moment: it must win its name back
                else:
                    # Somebody's bytes have the name meanwhile: these are kept among the backups, or win it
                    # back where we had put the others there. Both are had.
                    self.anywhere.add(data)
                    if path in self.expected:
                        self.anywhere.add(self.expected[path])
                        self.rivals.setdefault(path, set()).add(data)

    def unmount(self) -> None:
        if not self.store.visits:
            self.store.mounted = False

    def mount(self) -> None:
        self.store.mounted = True

    def damage(self) -> None:
        """A backup rots whose original stands in the library."""
        standing = {sha(node.data) for path, node in self.store.nodes.items() if path in self.expected}
        # Not one that a treated file, or a duplicate of one, relies on: that loss would be the disk's.
        standing -= {file.before_sha256 for file in self.files(gone=True) if file.sha256 is not None}
        # Nor one of which somebody copied the light form, which nobody has seen yet.
        standing -= {
            sha(data)
            for path, data in self.expected.items()
            if (node := self.store.nodes.get(path)) is None or node.data != data
        }
        for place in self.folder.glob("*/*"):
            if len(place.name) == 64 and bytes.fromhex(place.name) in standing:
                place.write_bytes(b"x" * place.stat().st_size)

    # -- schedules -----------------------------------------------------------------------------

    OURS = (
        "replace",
        "replace",
        "replace",
        "copy",
        "convert",
        "restore",
        "prune",
        "mend",
        "reconcile",
        "recover",
    )
    THEIRS = (
        "overwrite",
        "upload",
        "delete",
        "move",
        "move_folder",
        "duplicate",
        "link",
        "open_for_writing",
        "write_in_place",
        "unmount",
        "mount",
        "mount",
        "damage",
    )

    def go(self, deeds: int) -> None:
        """One schedule; raises AssertionError with all that was done when something is lost."""
        try:
            for _ in range(deeds):
                if self.chance.random() < 0.62:
                    self.work(self.chance.choice(self.OURS))
                else:
                    self.meddle()
                self.check()
            self.settle()
        except AssertionError as error:
            raise AssertionError(f"{error}\nafter: {', '.join(self.said)}") from None

    def meddle(self, *, within: bool = False) -> None:
        deed = self.chance.choice(self.THEIRS)
        if not self.store.mounted and deed != "mount":
            return
        if within and deed == "damage":
            return  # a disk that rots in the moment after it was read is beyond anybody
        self.said.append(deed)
        getattr(self, deed)()

    def work(self, deed: str) -> None:
        """One of our deeds: as a rule undisturbed, at times cut off, or with somebody in between."""
        fate = self.chance.random()
        moment = self.chance.randrange(1, _KILL_WITHIN)
        self.said.append(deed)
        count = 0

        def between(step: str) -> None:
            nonlocal count
            count += 1
            if count != moment:
                return
            if fate < 0.35:
                self.said.append(f"killed at {step}")
                raise Killed
            if fate < 0.6:
                self.said.append(f"at {step}:")
                self.meddle(within=True)
            elif fate < 0.66:
                self.said.append(f"full disk at {step}")
                raise StorageError("disk-full", "the disk is full")

        def observe(step: steps.Step) -> None:
            if fate < 0.6:
                between(str(step))

        self.store.between, steps.observer = between, observe
        try:
            with suppress(Killed, StorageError):
                getattr(self, deed)()
        finally:
            self.store.between, steps.observer = lambda _: None, lambda _: None

    # -- what must hold ------------------------------------------------------------------------

    def check(self) -> None:
        """Every original that a person has not replaced can be had, byte for byte."""
        standing = {sha(node.data) for node in self.store.nodes.values() if node.kind == "file"}
        for path, data in [*self.expected.items(), *(("somebody", data) for data in self.anywhere)]:
            content = sha(data)
            if content not in standing:
                assert BackupStore(self.folder).sound(content), f"what {path} should hold is lost"

    def settle(self) -> None:
        """Everything comes to rest; then the library is handed back."""
        self.store.mounted = True
        while self.writers:
            self.write_in_place()
        self.check()
        for _ in range(3):
            self._quietly(self.recover)
            self._quietly(self.reconcile)
        self.check()
        # What was cut off in a folder that is gone for good waits for a person, who says so now.
        reattach_library(self.keeper())
        self._quietly(self.reconcile)
        keeper = self.keeper()
        for file in self.files():
            recover(keeper, file.id)
            with self.database.begin() as session:
                file = session.get_one(File, file.id)
            if file.before_sha256 is not None or file.derived:
                keeper.restore(file, ChangeNote())
        self._quietly(self.recover)
        sweep(self.keeper())
        self._compare()

    def _quietly(self, deed: Callable[[], None]) -> None:
        with suppress(StorageError):
            deed()

    def _compare(self) -> None:
        here = {path: node for path, node in self.store.nodes.items() if node.kind == "file"}
        for path, data in self.expected.items():
            assert path in here, f"{path} is missing"
            fit = {data} | self.rivals.get(path, set())
            assert here[path].data in fit, f"{path} holds {here[path].data!r} instead of {data!r}"
        hidden = [path for path in here if path.rpartition("/")[2].startswith(".") and path != IDENTITY_NAME]
        with self.database.begin() as session:
            entries = session.scalar(select(func.count()).where(Journal.library_id == self.library_id))
            copies = set(session.scalars(select(Derived.path).where(Derived.library_id == self.library_id)))
            orphans = set(
                session.scalars(select(Backup.sha256).where(Backup.library_id == self.library_id, orphaned()))
            )
        if not entries:
            assert not hidden, f"left over: {hidden}"
        assert not copies & here.keys(), f"copies of ours are left: {copies}"
        # What was treated and then deleted or overwritten by a person is kept among the orphans.
        standing = {sha(node.data) for node in here.values()}
        for original in self.treated & self.written - standing:
            known = original in orphans or BackupStore(self.folder).sound(original)
            assert known or not self._was_changed(original), "a deleted file's original is gone"

    def _was_changed(self, original: bytes) -> bool:
        """Whether we ever took the original's place."""
        from plumcrate.records.tables import Ledger

        with self.database.begin() as session:
            query = select(Ledger.id).where(
                Ledger.library_id == self.library_id,
                Ledger.before_sha256 == original,
                Ledger.action.in_(["replace", "withdraw"]),
            )
            put_back = select(Ledger.id).where(
                Ledger.library_id == self.library_id,
                Ledger.after_sha256 == original,
                Ledger.action.in_(["restore", "put-back"]),
            )
            return session.scalar(query.limit(1)) is not None and session.scalar(put_back.limit(1)) is None


def schedules(database: Database, seeds: range, deeds: int = 12) -> Counter[str]:
    """Goes through one schedule for each seed; counts the deeds."""
    done: Counter[str] = Counter()
    for seed in seeds:
        world = World(database, seed)
        try:
            world.go(deeds)
            done.update(world.said)
        except AssertionError as error:
            raise AssertionError(f"seed {seed}: {error}") from None
        finally:
            world.close()
    return done

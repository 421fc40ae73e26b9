"""Kills at random points of every change, and proves afterwards that nothing was lost or torn.

``script/bench faults [KILLS]``. A child replaces, copies, converts, restores and prunes the files of a
small library, as fast as it can, while somebody else now and then writes new versions; it is killed at a
random named step or at a random moment. Then recovery runs and everything is compared.
"""

from __future__ import annotations

import hashlib
import os
import random
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory

from rich.console import Console
from rich.table import Table
from sqlalchemy import func, select, text, true

from plumcrate.contract.pictures import FileState, Purpose
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.intake.reconciling import Reconciler
from plumcrate.keeping import steps
from plumcrate.keeping.backups import BackupStore
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import Which, finish_pruning, prune
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.steps import Step
from plumcrate.records.database import Database
from plumcrate.records.private import PrivatePostgres
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.tables import Derived, File, Journal, Library, Picture
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.local import LocalStore
from plumcrate.storage.names import IDENTITY_NAME

_FILES = 8
_ACTIONS = ("replace", "copy", "convert", "restore", "prune", "hand back")


class Place:
    """A library of small files, and what must never be lost of it."""

    def __init__(self, home: Path, database: Database, *, store: Path | None = None) -> None:
        self.root = home / "library"
        self.root.mkdir()
        self.database = database
        self.store = store or home / "backups"
        with database.begin() as session:
            library = new_library(
                session, home.name.lower(), "L", str(self.root), [], RecipeSettings(), "bench"
            )
            self.library_id = library.id
            for number in range(_FILES):
                data = f"original {number} ".encode() * 400
                (self.root / f"{number}.jpg").write_bytes(data)
                picture = Picture(
                    library_id=library.id, path=f"{number}.jpg", folder="", name=f"{number}.jpg"
                )
                session.add(picture)
                session.flush()
                session.add(
                    File(
                        library_id=library.id,
                        picture_id=picture.id,
                        path=f"{number}.jpg",
                        size_before=len(data),
                        size_now=len(data),
                        mtime_ns=1,
                        mtime_ns_before=1,
                    )
                )
        #: The latest version that somebody else wrote, by path; it must stand or be in the store.
        self.precious = {path.name: path.read_bytes() for path in self.root.iterdir()}

    def keeper(self) -> Keeper:
        with self.database.begin() as session:
            library = session.get_one(Library, self.library_id)
        store = LocalStore(self.root, library.identity if library.identified_at else None)
        return Keeper(self.database, self.library_id, store, BackupStore(self.store))

    def files(self) -> list[File]:
        with self.database.begin() as session:
            return list(
                session.scalars(select(File).where(File.library_id == self.library_id).order_by(File.id))
            )

    def meddle(self, chance: random.Random) -> str:
        """Somebody else writes: a new version put in a file's place, or into the file as it stands open.

        Or the whole folder is called something else for a moment, and an empty one stands in its place.
        """
        path = self.root / chance.choice(sorted(self.precious))
        data = os.urandom(chance.randrange(200, 9000))
        what = chance.choice(("put in its place", "written in place", "renamed"))
        if what == "renamed":
            self.root.rename(self.root.with_name("elsewhere"))
            self.root.mkdir()
            time.sleep(chance.uniform(0, 0.02))
            assert os.listdir(self.root) == [], "something was written into the empty folder"
            self.root.rmdir()
            self.root.with_name("elsewhere").rename(self.root)
            return what
        if what == "written in place":
            try:
                file = path.open("r+b")
            except FileNotFoundError:
                return "nothing"  # made way for its conversion
            with file:
                time.sleep(chance.uniform(0, 0.02))
                file.truncate(0)
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
        else:
            fresh = self.root / f"upload-{chance.random()}"
            fresh.write_bytes(data)
            os.replace(fresh, path)
        self.precious[path.name] = data
        return what

    def damage(self) -> int:
        """Backups rot whose original stands in the library, and nowhere else is needed."""
        standing = {
            hashlib.sha256(path.read_bytes()).digest() for path in self.root.iterdir() if path.is_file()
        }
        needed = {file.before_sha256 for file in self.files() if file.sha256 is not None}
        count = 0
        for place in self.store.glob("*/*"):
            if len(place.name) == 64 and bytes.fromhex(place.name) in standing - needed:
                place.write_bytes(b"x" * place.stat().st_size)
                count += 1
        return count

    def unmount(self, deed: Callable[[], object]) -> None:
        """While an empty folder stands where the library was, nothing is concluded and nothing written."""
        self.root.rename(self.root.with_name("volume"))
        self.root.mkdir()
        try:
            with suppress(NotThere):
                deed()
        finally:
            assert os.listdir(self.root) == []
            self.root.rmdir()
            self.root.with_name("volume").rename(self.root)

    def note_changes(self) -> None:
        """A survey."""
        keeper = self.keeper()
        with self.database.begin() as session:
            library = session.get_one(Library, self.library_id)
        Reconciler(self.database, keeper, library).look(
            {entry.path: entry for entry in keeper.store.list().files}, [""]
        )

    def wrong(self) -> list[str]:
        """What is lost, torn, left over, or not as the records say."""
        keeper, found = self.keeper(), []
        with self.database.begin() as session:
            if session.scalar(select(func.count()).where(Journal.library_id == self.library_id)):
                found.append("the journal is not empty")
            copies = dict(
                session.execute(
                    select(Derived.path, Derived.sha256).where(Derived.library_id == self.library_id)
                ).all()
            )
        ours = {path.name for path in self.root.iterdir()} - set(self.precious) - {IDENTITY_NAME}
        found += [f"left over: {name}" for name in ours if name not in copies]
        for path, sha in copies.items():
            if keeper.store.sha256(path) != sha:
                found.append(f"the copy {path} is not as recorded")
        for file in self.files():
            data = self.precious[file.path]
            sha = hashlib.sha256(data).digest()
            current = keeper.store.sha256(file.path)
            if current != sha and not keeper.backups.has(sha):
                found.append(f"{file.path} is lost")
            if current is None and file.state != FileState.REMOVED:
                found.append(f"{file.path} is missing")
            if current is not None and current != sha and current != file.sha256:
                found.append(f"{file.path} is torn")
            if current != sha and file.before_sha256 != sha:
                found.append(f"the ledger does not know the original of {file.path}")
        return found

    def hand_back(self) -> list[str]:
        keeper = self.keeper()
        for file in self.files():
            if file.before_sha256 is not None:
                keeper.restore(file, ChangeNote())
            else:
                keeper.drop_all_derived(file, ChangeNote())
        here = {path.name: path.read_bytes() for path in self.root.iterdir() if path.name != IDENTITY_NAME}
        return [] if here == self.precious else ["handing back did not bring every original back"]


def work(place: Place, chance: random.Random) -> None:
    """Changes files until killed."""
    keeper = place.keeper()
    while True:
        action = chance.choice(_ACTIONS)
        if action == "prune":
            prune(keeper, Which(true()), note="bench")
            continue
        for file in place.files() if action == "hand back" else [chance.choice(place.files())]:
            with suppress(StorageError):  # overtaken by somebody else, or nothing to restore
                _act(keeper, file, action, chance)


def _act(keeper: Keeper, file: File, action: str, chance: random.Random) -> None:
    recover(keeper, file.id)
    with keeper.database.begin() as session:
        file = session.get_one(File, file.id)
    if action in ("restore", "hand back"):
        if file.before_sha256 is not None:
            keeper.restore(file, ChangeNote())
        return
    current = keeper.store.read(file.path)
    sha = hashlib.sha256(current).digest()
    if sha not in (file.sha256, file.before_sha256) and file.sha256 is not None:
        return  # changed outside: a survey's affair
    if action == "replace":
        keeper.replace(file, current, b"light " * chance.randrange(20, 90), ChangeNote())
    elif action == "copy":
        keeper.write_derived(
            file, Beside(Purpose.COPY, chance.choice(["webp", "avif"])), os.urandom(300), ChangeNote()
        )
    else:
        keeper.write_derived(file, Beside(Purpose.CONVERSION, "png", ".png"), os.urandom(400), ChangeNote())
        keeper.withdraw(file, current, ChangeNote())


def killed(place: Place, chance: random.Random) -> tuple[str, list[str]]:
    """Lets a child work and kills it; says where, and what strangers did meanwhile."""
    meddled: list[str] = []
    by_step = chance.random() < 0.5
    step, count = chance.choice(list(Step)[1:]), chance.randrange(1, 12)
    seed = chance.random()
    place.database.engine.dispose()
    child = os.fork()
    if child == 0:
        try:
            seen = Counter[Step]()

            def observe(passed: Step) -> None:
                seen[passed] += 1
                if by_step and passed is step and seen[passed] == count:
                    os.kill(os.getpid(), signal.SIGKILL)

            steps.observer = observe
            place.database = Database(place.database.url, pool_size=1)
            work(place, random.Random(seed))
        finally:
            os._exit(1)
    deadline = time.monotonic() + (5.0 if by_step else chance.uniform(0.005, 0.25))
    while time.monotonic() < deadline:
        if os.waitpid(child, os.WNOHANG)[0]:
            return f"at the step {step}" if by_step else "by itself", meddled
        if chance.random() < 0.02:
            meddled.append(place.meddle(chance))
        time.sleep(0.002)
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    return "at a random moment", meddled


def kills(place: Place, count: int, table: Table) -> None:
    chance = random.Random(20261123)
    where: Counter[str] = Counter()
    wrong: list[str] = []
    for number in range(count):
        how, meddled = killed(place, chance)
        where[how] += 1
        where.update(meddled)
        _wait_until_alone(place.database)
        if number % 3 == 0:
            where["unmounted after the kill"] += 1
            place.unmount(lambda: recover(place.keeper()))
            place.unmount(place.note_changes)
            place.unmount(lambda: prune(place.keeper(), Which(true()), note="bench"))
        keeper = place.keeper()
        recover(keeper)
        finish_pruning(keeper)
        place.note_changes()
        wrong += place.wrong()
        if number % 5 == 4:
            where["backups damaged"] += place.damage()
        if number % 10 == 9:
            wrong += place.hand_back() + place.wrong()
        for problem in wrong[:10]:
            print(number, problem, file=sys.stderr, flush=True)
        if wrong:
            break
    assert not where.pop("by itself", 0), "the child failed instead of being killed"
    named = sum(count for name, count in where.items() if name.startswith("at the step"))
    table.add_row("killed at a named step", f"{named:,}", _verdict(wrong))
    table.add_row("killed at a random moment", f"{where['at a random moment']:,}", _verdict(wrong))
    for what in (
        "put in its place",
        "written in place",
        "renamed",
        "unmounted after the kill",
        "backups damaged",
    ):
        table.add_row(f"with it: {what}", f"{where[what]:,}", _verdict(wrong))


def _wait_until_alone(database: Database) -> None:
    """The server may still be busy with the last statement of a client that is dead."""
    others = (
        "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
    )
    while True:
        with database.begin() as session:
            if not session.execute(text(others)).scalar_one():
                return
        time.sleep(0.02)


def full_disk(home: Path, database: Database, table: Table) -> None:
    """A library and a store on disks that are full, where the system lets small disks be mounted."""
    for name, size in (("library", "128k"), ("store", "24k")):
        (home / f"small-{name}").mkdir()
        disk = home / f"small-{name}"
        mount = ["mount", "-t", "tmpfs", "-o", f"size={size}", "tmpfs", str(disk)]
        if subprocess.run(mount, capture_output=True, check=False).returncode:
            table.add_row(f"the {name}'s disk fills", "not tried: no right to mount", "")
            continue
        try:
            base = home / f"full-{name}"
            base.mkdir()
            place = (
                Place(disk, database) if name == "library" else Place(base, database, store=disk / "backups")
            )
            refused = 0
            keeper = place.keeper()
            for turn in range(40):
                for file in place.files():
                    current = keeper.store.read(file.path)
                    try:
                        keeper.replace(file, current, os.urandom(2000 + 300 * turn), ChangeNote())
                        keeper.write_derived(
                            place.files()[0],
                            Beside(Purpose.COPY, "webp"),
                            os.urandom(8000 + 900 * turn),
                            ChangeNote(),
                        )
                    except StorageError as error:
                        if error.code != "disk-full":
                            raise
                        refused += 1
            table.add_row(f"the {name}'s disk fills", f"{refused:,} refusals", _verdict(place.wrong()))
        finally:
            database.engine.dispose()
            subprocess.run(["umount", str(disk)], check=True)


def cut_connection(home: Path, server: PrivatePostgres, database: Database, table: Table) -> None:
    """The database is stopped dead in the middle of changes, and comes back."""
    base = home / "cut"
    base.mkdir()
    place = Place(base, database)
    wrong: list[str] = []
    chance = random.Random(7)
    for _ in range(6):
        place.database.engine.dispose()
        child = os.fork()
        if child == 0:
            with suppress(BaseException):
                place.database = Database(place.database.url, pool_size=1)
                work(place, random.Random(chance.random()))
            os._exit(0)
        time.sleep(chance.uniform(0.1, 0.4))
        server.stop(dead=True)
        os.waitpid(child, 0)
        server.start()
        keeper = place.keeper()
        recover(keeper)
        finish_pruning(keeper)
        wrong += place.wrong()
    table.add_row("the database stops dead", "6", _verdict(wrong))


def vanished_folder(home: Path, database: Database, table: Table) -> None:
    base = home / "vanished"
    base.mkdir()
    place = Place(base, database)
    keeper = place.keeper()
    before = {path.name: path.read_bytes() for path in place.root.iterdir()}
    refused = 0
    for number, step in enumerate(
        (Step.BACKED_UP, Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.CHECKED)
    ):

        def vanish(passed: Step, step: Step = step) -> None:
            if passed is step:
                place.root.rename(base / "away")

        steps.observer = vanish
        file = place.files()[number]
        try:
            keeper.replace(file, before[file.path], b"light", ChangeNote())
        except StorageError:
            refused += 1
        steps.observer = lambda _: None
        if (base / "away").exists():
            (base / "away").rename(place.root)
        recover(keeper)
    table.add_row("the folder vanishes at five steps", f"{refused} refusals", _verdict(place.wrong()))


def _verdict(wrong: list[str]) -> str:
    return "0 lost, 0 torn, disk and ledger agree" if not wrong else f"{len(wrong)} WRONG: {wrong[0]}"


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 600
    table = Table("fault", "how often", "after recovery", title="Faults")
    with TemporaryDirectory() as folder:
        home = Path(folder)
        home.chmod(0o755)
        server = PrivatePostgres(home / "postgres", elsewhere=True)
        database = Database(server.start(), pool_size=2)
        database.migrate()
        (home / "kills").mkdir()
        try:
            kills(Place(home / "kills", database), count, table)
            full_disk(home, database, table)
            vanished_folder(home, database, table)
            cut_connection(home, server, database, table)
        finally:
            database.close()
            server.remove()
    Console(width=110).print(table)


if __name__ == "__main__":
    main()

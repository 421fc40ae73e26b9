"""A library with one new JPEG and an engine without a worker: rounds are taken one by one."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from conftest import add_library, photograph
from sqlalchemy import select

from plumcrate.contract.automation import NewFiles
from plumcrate.contract.runs import ItemState, RunOrigin, RunRequest, Scope
from plumcrate.imaging import Limits, Recipe, treat
from plumcrate.imaging.outcome import Former, Treatment
from plumcrate.imaging.shaping.watermarking import check_watermark, missing_letters
from plumcrate.intake.arrivals import take_in_now
from plumcrate.keeping.changes import ChangeNote
from plumcrate.queue.tasks import BULK, Queue
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Item, Ledger, Library
from plumcrate.runs.runs import create_run
from plumcrate.sandbox.children import Sandboxes
from plumcrate.settings import Settings
from plumcrate.worker.engine import Engine
from plumcrate.worker.feeding import feed


@cache
def treated(data: bytes, recipe: Recipe, limits: Limits, former: Former | None) -> Treatment:
    """A treatment, made once in each test process: the same bytes and recipe always come to the same."""
    return treat(data, recipe, limits, former=former)


class Box:
    """Treats here, and remembers what it was asked."""

    def __init__(self, most_pixels: int = 200_000_000) -> None:
        self.limits = Limits(most_pixels)
        self.asked: list[tuple[bytes, frozenset[str], Former | None]] = []
        self.answers: list[Treatment] = []

    def treat(
        self, data: bytes, recipe: Recipe, megapixels: float, former: Former | None = None
    ) -> Treatment:
        self.asked.append((data, recipe.copies, former))
        self.answers.append(treated(data, recipe, self.limits, former))
        return self.answers[-1]

    def check_watermark(self, data: bytes) -> tuple[int, int]:
        return check_watermark(data)

    def missing_letters(self, words: str) -> str:
        return missing_letters(words)

    def ready(self) -> dict[str, bool]:
        return {}


def pools(box: object) -> Sandboxes:
    """One stand-in for every pool."""
    return Sandboxes(box, box, box)  # type: ignore[arg-type]


class Walk:
    """A library with one new JPEG, an engine without a worker, taken through its stages by hand."""

    def __init__(self, database: Database, tmp_path: Path) -> None:
        self.database, self.box = database, Box()
        (tmp_path / "library").mkdir()
        add_library(database, tmp_path / "library")
        settings = Settings(database_url=database.url, state_dir=tmp_path / "state")
        self.engine = Engine(settings, database, pools(self.box))
        with database.begin() as session:
            self.library = session.get_one(Library, 1)
        self.keeper = self.engine.keeper(self.library)
        self.root = tmp_path / "library"
        self.data = photograph(tmp_path / "sent.jpg", 480, 320, seed=2)

    def arrive(self) -> None:
        self.keeper.upload("a.jpg", self.data, ChangeNote(detail={"by": "tests"}))
        take_in_now(self.database, self.keeper, self.library, "a.jpg", NewFiles.AT_ONCE)

    def item(self) -> Item:
        with self.database.begin() as session:
            return session.scalars(select(Item)).one()

    def turn(self) -> Item:
        """One round of the feeder, and what a worker then does."""
        with self.database.begin() as session:
            feed(session, Queue(self.database.url), 1)
        item = self.item()
        if item.state == ItemState.QUEUED:
            self.engine.treat_picture(item.run_id, item.picture_id)
        return self.item()

    def file(self) -> File:
        with self.database.begin() as session:
            return session.scalars(select(File)).one()

    def ledger(self) -> list[str]:
        with self.database.begin() as session:
            return list(session.scalars(select(Ledger.action).order_by(Ledger.id)))

    def run(self, folder: str | None = None, **request: object) -> list[Item]:
        """A run of a person over the library, or a folder, carried out at once; its items."""
        scope = Scope(folder=folder) if folder else Scope()
        with self.database.begin() as session:
            wanted = RunRequest(library=self.library.slug, scope=scope, **request)  # type: ignore[arg-type]
            run = create_run(session, self.library, wanted, RunOrigin.PERSON, BULK)
        for _ in range(6):
            with self.database.begin() as session:
                feed(session, Queue(self.database.url), 1)
                queued = session.scalars(select(Item).where(Item.state == ItemState.QUEUED)).all()
            for item in queued:
                self.engine.treat_picture(item.run_id, item.picture_id)
        with self.database.begin() as session:
            return list(session.scalars(select(Item).where(Item.run_id == run.id).order_by(Item.path)))

    def named(self, path: str) -> File:
        with self.database.begin() as session:
            return session.scalars(select(File).where(File.path == path)).one()

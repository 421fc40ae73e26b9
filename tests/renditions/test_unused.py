"""Files of sizes that nobody asked for: told apart, removed, and brought back when somebody asks."""

from __future__ import annotations

import asyncio
from pathlib import Path

import httpx
import pytest
from conftest import photograph
from sized import Ledge
from sqlalchemy import select, text

from plumcrate.contract.sizes import RemoveUnused, UnusedFiles, UnusedSize
from plumcrate.delivery.counting import SentCounter
from plumcrate.delivery.finding import Finder
from plumcrate.delivery.serving import PictureServer
from plumcrate.records.database import Database
from plumcrate.records.queries.asked import note_asked, note_asked_paths
from plumcrate.records.queries.sizes import unused_sizes
from plumcrate.records.tables import File
from plumcrate.refusal import Refusal
from plumcrate.renditions.unused import bring_back, remove_unused

A, B, CHART = "2026/a-card-200.jpg", "2026/b-card-200.jpeg", "2026/chart-card-200.png"


class Shore(Ledge):
    """The library with its size made, some days ago by the records."""

    def __init__(self, database: Database, tmp_path: Path) -> None:
        super().__init__(database, tmp_path)
        self.save("card", width=200)
        self.run()

    def age(self, days: int) -> None:
        """All was made, and the first visitor came, so many days ago."""
        with self.database.begin() as session:
            session.execute(
                text("UPDATE files SET treated_at = now() - make_interval(days => :days)"), {"days": days}
            )
            session.execute(
                text(
                    "INSERT INTO sent_bytes SELECT 1, current_date - CAST(:days AS int), min(id), 'jpeg', "
                    "false, 1, 9, 9 FROM pictures ON CONFLICT DO NOTHING"
                ),
                {"days": days},
            )

    def asked(self, path: str, days_ago: int = 0) -> None:
        with self.database.begin() as session:
            note_asked_paths(session, 1, [path])
            session.execute(
                text(
                    "UPDATE asked_files SET day = current_date - CAST(:days AS int) "
                    "FROM files WHERE files.id = file_id AND path = :path"
                ),
                {"days": days_ago, "path": path},
            )

    def unused(self, days: int = 30) -> list[UnusedSize]:
        with self.database.begin() as session:
            return unused_sizes(session, 1, days).sizes

    def remove_unused(self, days: int = 30, size: str | None = None) -> UnusedFiles:
        with self.database.begin() as session:
            return remove_unused(session, self.library, RemoveUnused(days=days, size=size))

    def bring_back(self, size: str | None = None) -> UnusedFiles:
        with self.database.begin() as session:
            return bring_back(session, self.library, size)

    def row(self, path: str) -> File | None:
        with self.database.begin() as session:
            return session.scalars(select(File).where(File.path == path)).one_or_none()

    def paths(self) -> list[str]:
        return [file.path for file in self.made()]


@pytest.fixture
def shore(database: Database, tmp_path: Path) -> Shore:
    return Shore(database, tmp_path)


def test_what_nobody_asked_for_goes_and_stays_away(shore: Shore) -> None:
    shore.age(40)
    shore.asked(A)
    shore.asked(B, days_ago=35)
    before = shore.tree()
    (told,) = shore.unused()
    assert (told.name, told.files, told.young, told.asked_for, told.removed_unused) == ("card", 2, 0, 1, 0)
    assert [one.files for one in shore.unused(days=36)] == [1], "one was asked for 35 days ago"
    gone = shore.remove_unused()
    assert (gone.files, gone.bytes) == (2, told.bytes)
    assert shore.remove_unused().files == 0, "they are removed once"
    assert shore.tree() == before, "nothing goes before the run"
    assert {item.path for item in shore.run()} == {B, CHART}
    assert {path: before[path] for path in before if path not in (B, CHART)} == shore.tree()
    shore.survey()
    shore.save("card", width=200)
    effect = shore.effect("card", width=200)
    assert (effect.make, effect.stay, effect.removed_unused) == (0, 1, 2)
    assert shore.run() == []
    assert shore.paths() == [A], "neither a survey nor saving the size makes them again"
    (told,) = shore.unused()
    assert (told.files, told.asked_for, told.removed_unused) == (0, 1, 2)


def test_what_is_asked_for_comes_back_as_it_was(shore: Shore) -> None:
    shore.age(40)
    before = shore.tree()
    assert shore.remove_unused().files == 3
    shore.run()
    assert shore.paths() == []
    shore.asked(CHART)
    assert [item.path for item in shore.run()] == [CHART]
    assert shore.paths() == [CHART]
    assert shore.bring_back().files == 2
    assert {item.path for item in shore.run()} == {A, B}
    assert shore.tree() == before


def test_what_is_asked_for_before_the_run_never_leaves(shore: Shore) -> None:
    shore.age(40)
    before = shore.tree()
    shore.remove_unused()
    shore.asked(A)
    assert shore.bring_back("card").files == 2
    assert shore.run() == []
    assert shore.tree() == before


def test_what_is_new_is_not_judged_yet(shore: Shore) -> None:
    shore.age(40)
    photograph(shore.root / "2026/new.jpg", 480, 320, seed=9)
    shore.survey()
    shore.run()
    (told,) = shore.unused()
    assert (told.files, told.young) == (4, 1)
    assert shore.remove_unused().files == 3
    shore.run()
    assert shore.paths() == ["2026/new-card-200.jpg"]


def test_too_short_a_count_tells_nothing(shore: Shore) -> None:
    assert shore.unused() == []
    with pytest.raises(Refusal, match="nothing was counted yet") as refused:
        shore.remove_unused()
    assert refused.value.code == "not-counted"
    shore.age(12)
    with pytest.raises(Refusal, match=r"12 days: that does not tell what was asked for in 30 days"):
        shore.remove_unused()
    assert shore.remove_unused(days=10).files == 3


def test_one_size_alone_is_removed(shore: Shore) -> None:
    shore.save("small", width=90)
    shore.run()
    shore.age(40)
    assert shore.remove_unused(size="small").files == 3
    shore.run()
    assert shore.paths() == [A, B, CHART]
    assert shore.bring_back("card").files == 0
    assert shore.bring_back("small").files == 3
    for name in ("nothing", "smal"):
        with pytest.raises(Refusal, match=f"there is no size called {name}"):
            shore.remove_unused(size=name)
        with pytest.raises(Refusal, match=f"there is no size called {name}"):
            shore.bring_back(name)


def test_a_size_that_is_removed_or_changed_forgets_what_it_removed(shore: Shore) -> None:
    shore.age(40)
    shore.remove_unused()
    shore.run()
    shore.save("card", width=160)
    assert shore.row(A) is None
    shore.run()
    assert len(shore.paths()) == 3, "under other names they were never judged"
    shore.age(40)
    shore.remove_unused()
    shore.run()
    shore.remove("card")
    assert shore.row("2026/a-card-160.jpg") is None
    assert shore.run() == []


def test_a_file_that_somebody_puts_there_is_theirs(shore: Shore) -> None:
    shore.age(40)
    shore.remove_unused()
    shore.run()
    theirs = photograph(shore.root / A, 200, 133, seed=77)
    shore.survey()
    row = shore.row(A)
    assert row is not None
    assert (row.size_name, row.unwanted, row.removed_unused) == (None, False, False)
    shore.run()
    assert shore.remove_unused().files == 0
    assert (shore.root / A).exists()
    assert len((shore.root / A).read_bytes()) <= len(theirs)


@pytest.mark.parametrize(("agent", "back"), [("Mozilla/5.0", 1), ("Examplebot/2.1 (crawler)", 0)])
def test_whoever_asks_is_sent_the_picture_and_only_people_bring_it_back(
    shore: Shore, agent: str, back: int
) -> None:
    shore.age(40)
    shore.remove_unused()
    shore.run()
    with shore.database.begin() as session:
        session.execute(text("""UPDATE libraries SET delivery = delivery || '{"public": true}'"""))
    counter = SentCounter(shore.database)
    server = PictureServer(Finder(shore.database), lambda _: None, counter)

    async def fetch() -> httpx.Response:
        transport = httpx.ASGITransport(server)
        async with httpx.AsyncClient(transport=transport, base_url="http://site") as client:
            return await client.get(f"/l/{A}?v=1", headers={"user-agent": agent})

    answer = asyncio.run(fetch())
    assert answer.status_code == 302
    assert answer.headers["location"] == "/l/2026/a.jpg?v=1"
    assert answer.headers["cache-control"] == "no-cache"
    counter.note()
    assert [item.path for item in shore.run()] == [A][:back]
    assert len(shore.paths()) == back


def test_noting_what_is_no_file_of_a_size_changes_nothing(shore: Shore) -> None:
    with shore.database.begin() as session:
        note_asked(session, [10_000, *session.scalars(select(File.id).where(File.size_name.is_(None)))])
        assert session.execute(text("SELECT count(*) FROM asked_files")).scalar_one() == 0

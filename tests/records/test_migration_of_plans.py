"""Runs as version 0008 left them, brought up to date: what was begun goes on whatever is allowed."""

import psycopg
import pytest
from psycopg.types.json import Jsonb
from sqlalchemy import select
from test_database import migrate

from plumcrate.contract.allowance import AllowanceSettings
from plumcrate.contract.runs import ItemState
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database
from plumcrate.records.tables import Item, Library, Run
from plumcrate.worker.feeding import feed

#: State, attempts, stage, finished.
ITEMS = (
    ("done", 1, 0, True),
    ("working", 1, 0, False),
    ("queued", 0, 0, False),
    ("waiting", 2, 0, False),
    ("waiting", 1, 1, False),
    ("waiting", 0, 0, False),
)


@pytest.fixture
def old(empty_database_url: str) -> str:
    migrate(empty_database_url, "0008")
    with psycopg.connect(empty_database_url, autocommit=True) as session:
        session.execute(
            "INSERT INTO libraries (slug, name, root, patterns, upkeep, delivery, at_rest, days_seen)"
            " VALUES ('l', 'l', '/l', %s, '{}', '{}', false, 0)",
            [Jsonb([])],
        )
        session.execute(
            "INSERT INTO recipes (library_id, version, settings, by) VALUES (1, 1, %s, 'x')", [Jsonb({})]
        )
        session.execute(
            "INSERT INTO runs (library_id, kind, origin, state, scope, variants, force, overwrite, priority,"
            " files, done, passed, failed, already, left_out, elsewhere, bytes_before, bytes_after,"
            " bytes_lightest, megapixels, megapixels_done) VALUES (1, 'treat', 'person', 'running', '{}',"
            " '[]', false, false, 0, 6, 1, 0, 0, 0, 0, 0, 0, 0, 0, 6, 1)"
        )
        for number, (state, attempts, stage, finished) in enumerate(ITEMS, 1):
            session.execute(
                "INSERT INTO pictures (library_id, path, folder, name, width, height, state, files,"
                " bytes_before, bytes_now, bytes_lightest) VALUES (1, %s, '', '', 1, 1, 'new', 1, 1, 1, 1)",
                [f"{number}.jpg"],
            )
            session.execute(
                "INSERT INTO run_items (run_id, picture_id, file_id, path, state, attempts, stage, tries,"
                " variant, megapixels, outputs, finished_at) VALUES (1, %s, %s, %s, %s, %s, %s, 0, 0, 1,"
                " '[]', CASE WHEN %s THEN now() END)",
                [number, number, f"{number}.jpg", state, attempts, stage, finished],
            )
    return empty_database_url


def test_what_was_begun_goes_on_though_nothing_is_allowed(old: str) -> None:
    database = Database(old)
    database.migrate()
    assert database.up_to_date()
    with database.begin() as session:
        library = session.get_one(Library, 1)
        library.allowance = AllowanceSettings(unit="files", amount=1).model_dump(mode="json")
        items = session.scalars(select(Item).order_by(Item.id)).all()
        assert [item.admitted for item in items] == [False, True, True, True, True, False]
    for _ in range(2):
        with database.begin() as session:
            feed(session, Queue(old), 4)
    with database.begin() as session:
        items = session.scalars(select(Item).order_by(Item.id)).all()
        # The last one is new work: it fits, since what was begun before there was an allowance costs nothing.
        assert [item.state for item in items] == [ItemState.DONE, *[ItemState.QUEUED] * 5]
        assert session.get_one(Run, 1).waits_for is None
    database.close()

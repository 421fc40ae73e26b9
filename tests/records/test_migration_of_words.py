"""Tables as version 0014 left them, in the words of today: rows and JSON are the same but for their names."""

from __future__ import annotations

import psycopg
import pytest
from alembic import command
from psycopg.types.json import Jsonb
from sqlalchemy import create_engine, inspect, select, text
from test_database import migrate

from plumcrate.records.database import Database, sqlalchemy_url
from plumcrate.records.tables import Base, File, Item, Library, Picture, Result, Run, WatermarkRow, Weighing

KEY = {"level": "lean", "mark": {"words": "Ledge"}}


@pytest.fixture
def old(empty_database_url: str) -> str:
    migrate(empty_database_url, "0014")
    with psycopg.connect(empty_database_url, autocommit=True) as session:
        session.execute(
            "INSERT INTO libraries (slug, name, root, patterns, upkeep, delivery, at_rest, days_seen, mark)"
            " VALUES ('l', 'l', '/l', '[]', %s, '{}', true, 0, 'the-mark')",
            [Jsonb({"share": 50})],
        )
        session.execute(
            "INSERT INTO pictures (library_id, path, folder, name, width, height, state, files, own,"
            " bytes_before, bytes_now, bytes_lightest)"
            " VALUES (1, 'a.jpg', '', '', 1, 1, 'new', 1, 'lean', 1, 1, 1)"
        )
        session.execute(
            "INSERT INTO files (library_id, picture_id, path, folder, role, state, width, height,"
            " transparent, animated, size_before, size_now, mtime_ns, mtime_ns_before, held, slot, unwanted,"
            " size, spot, recipe, let_go)"
            " VALUES (1, 1, 'a.jpg', '', 'original', 'new', 1, 1, false, false, 1, 1, 1, 1,"
            " false, '1x', false, 'card', %s, %s, true)",
            [Jsonb({"score": 70}), Jsonb(KEY)],
        )
        session.execute(
            "INSERT INTO results (library_id, sha256, size, made, purpose) VALUES (1, %s, 1, %s, 'file')",
            [b"x" * 32, Jsonb({"recipe": KEY})],
        )
        session.execute(
            "INSERT INTO runs (library_id, kind, origin, state, scope, variants, force, overwrite, priority,"
            " files, done, passed, failed, already, left_out, elsewhere, bytes_before, bytes_after,"
            " bytes_lightest, megapixels, megapixels_done) VALUES (1, 'treat', 'person', 'running', '{}',"
            " %s, false, false, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0)",
            [Jsonb([KEY | {"mark": None}])],
        )
        session.execute(
            "INSERT INTO run_items (run_id, picture_id, file_id, path, state, attempts, stage, tries,"
            " variant, megapixels, outputs) VALUES (1, 1, 1, 'a.jpg', 'waiting', 0, 1, 0, 0, 1, %s)",
            [Jsonb([{"role": "file", "spot": None}])],
        )
        session.execute("INSERT INTO marks (library_id, name, settings) VALUES (1, 'stamp', %s)", [Jsonb({})])
    return empty_database_url


def test_what_was_there_is_there_in_other_words(old: str) -> None:
    database = Database(old)
    database.migrate()
    new_key = {"level": "lean", "watermark": {"words": "Ledge"}}
    with database.begin() as session:
        library = session.get_one(Library, 1)
        assert (library.dormant, library.automation, library.identity) == (True, {"share": 50}, "the-mark")
        assert session.get_one(Picture, 1).override == "lean"
        file = session.get_one(File, 1)
        assert (file.size_name, file.worst_place, file.removed_unused) == ("card", {"score": 70}, True)
        assert file.recipe == new_key
        assert session.scalars(select(Result.made)).all() == [{"recipe": new_key}]
        assert session.scalars(select(Run.variants)).one() == [new_key | {"watermark": None}]
        assert session.scalars(select(Item.outputs)).one() == [{"role": "file", "worst_place": None}]
        assert session.scalars(select(WatermarkRow.name)).all() == ["stamp"]
        session.execute(text("INSERT INTO watermarks (library_id, name, settings) VALUES (1, 'two', '{}')"))
        assert session.scalars(select(Weighing)).all() == []
    database.close()


def test_tables_are_as_they_are_declared_and_the_way_back_works(old: str) -> None:
    Database(old).migrate()
    engine = create_engine(sqlalchemy_url(old))
    found = inspect(engine)
    for table in Base.metadata.sorted_tables:
        assert {one["name"] for one in found.get_columns(table.name)} == {one.name for one in table.columns}
        assert {one["name"] for one in found.get_indexes(table.name)} >= {one.name for one in table.indexes}
    migrate(old, "0014", command.downgrade)
    with engine.connect() as connection:
        row = connection.execute(text("SELECT size, spot, let_go, recipe FROM files")).one()
        assert tuple(row) == ("card", {"score": 70}, True, KEY)
        assert connection.execute(text("SELECT name FROM marks")).scalars().all() == ["stamp"]
    engine.dispose()

"""Errors of data are told from errors of connection; tables are brought up to date with what they hold."""

import json
from collections.abc import Callable
from pathlib import Path

import psycopg
import pytest
from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine, select, text
from sqlalchemy.exc import DBAPIError

import plumcrate.records
from plumcrate.records.database import (
    Database,
    conflicted,
    lost_connection,
    notify,
    sqlalchemy_url,
    sqlstate,
)
from plumcrate.records.tables import Backup, File, Journal, Library, Result


def error_of(database: Database, statement: str) -> DBAPIError:
    with pytest.raises(DBAPIError) as caught, database.begin() as session:
        session.execute(text(statement))
    return caught.value


@pytest.mark.parametrize(
    ("statement", "state"),
    [
        ("SELECT 1/0", "22012"),
        ("SELECT 99999999999999999999::bigint", "22003"),
        ("INSERT INTO tallies (library_id, noun, state) VALUES (99, 'x', 'y')", "23503"),
        ("INSERT INTO hook_deliveries (library_id, hook_id) SELECT 1, repeat('x', 9000000)", "54000"),
        ("SELECT pg_sleep(3)", "57014"),
        ("SELEKT", "42601"),
    ],
)
def test_what_the_server_refuses_is_no_lost_connection(database_url: str, statement: str, state: str) -> None:
    database = Database(database_url, seconds=1)
    if state == "54000":  # too large for an index: random text, since what repeats is compressed
        statement = (
            "INSERT INTO arrivals (library_id, path, mode) "
            "SELECT 1, string_agg(md5(n::text), '') , 'x' FROM generate_series(1, 2000) n"
        )
    error = error_of(database, statement)
    assert sqlstate(error) == state
    assert not lost_connection(error)
    assert not conflicted(error)
    database.close()


def test_a_server_that_is_away_is_one(database_url: str) -> None:
    nowhere = Database("postgresql://x@127.0.0.1:9/x")
    with pytest.raises(DBAPIError) as caught, nowhere.begin() as session:
        session.execute(text("SELECT 1"))
    assert lost_connection(caught.value)
    database = Database(database_url)
    with pytest.raises(DBAPIError) as ended:
        _cut_off(database)
    assert lost_connection(ended.value)
    assert not lost_connection(ValueError("x"))
    database.close()


def _cut_off(database: Database) -> None:
    with database.begin() as session:
        number = session.execute(text("SELECT pg_backend_pid()")).scalar_one()
        with psycopg.connect(database.url, autocommit=True) as other:
            other.execute("SELECT pg_terminate_backend(%s)", [number])
        session.execute(text("SELECT 1"))


def test_a_notice_is_small_whatever_a_path_is(database: Database) -> None:
    with psycopg.connect(database.url, autocommit=True) as listener:
        listener.execute("LISTEN plumcrate")
        with database.begin() as session:
            notify(session, run=2**62, item=2**62)
        (notice,) = listener.notifies(timeout=5, stop_after=1)
    assert json.loads(notice.payload) == {"run": 2**62, "item": 2**62}


def migrate(url: str, revision: str, step: Callable[[Config, str], None] = command.upgrade) -> None:
    """Brings tables to a revision: up, or with ``command.downgrade`` down."""
    config = Config()
    folder = Path(plumcrate.records.__file__).parent / "migrations"
    config.set_main_option("script_location", str(folder))
    with create_engine(sqlalchemy_url(url)).begin() as connection:
        config.attributes["connection"] = connection
        step(config, revision)


def test_tables_with_data_are_brought_up_to_date(empty_database_url: str) -> None:
    """A library as the former version left it: treated, with a copy, one put back, one change under way."""
    migrate(empty_database_url, "0002")
    old, new, copy, spare = (bytes([number]) * 32 for number in range(4))
    with psycopg.connect(empty_database_url, autocommit=True) as connection:
        connection.execute("INSERT INTO libraries (slug, name, root, patterns) VALUES ('l', 'L', '/l', '[]')")
        connection.execute(
            "INSERT INTO pictures (library_id, path, folder, name, state, files, bytes_before, bytes_now, "
            "bytes_lightest, width, height) VALUES (1, 'a.jpg', '', 'a.jpg', 'lighter', 1, 9, 5, 4, 1, 1)"
        )
        connection.execute(
            "INSERT INTO files (library_id, picture_id, path, role, state, width, height, size_before, "
            "size_now, mtime_ns, mtime_ns_before, sha256, before_sha256, level) "
            "VALUES (1, 1, 'a.jpg', 'original', 'lighter', 1, 1, 9, 5, 1, 1, %s, %s, 'lean')",
            [new, old],
        )
        connection.execute(
            "INSERT INTO copies (library_id, file_id, kind, path, size, sha256, how) "
            "VALUES (1, 1, 'webp', 'a.jpg.webp', 4, %s, '')",
            [copy],
        )
        for sha in (old, spare):
            connection.execute("INSERT INTO backups (library_id, sha256, size) VALUES (1, %s, 9)", [sha])
        connection.execute(
            "INSERT INTO ledger (library_id, picture_id, file_id, action, path, after_sha256, detail) "
            "VALUES (1, 1, 1, 'restore', 'b.jpg', %s, '{}')",
            [spare],
        )
        for action, path, staged, before, after in (
            ("drop-copy", "a.jpg.webp", "", copy, b""),
            ("withdraw", "a.jpg", ".plumcrate-1", old, b""),
            ("replace", "a.jpg", ".plumcrate-2", old, new),
        ):
            connection.execute(
                "INSERT INTO journal (library_id, file_id, action, path, staged, before_sha256, "
                "after_sha256, detail) VALUES (1, 1, %s, %s, %s, %s, %s, '{\"run_id\": null}')",
                [action, path, staged, before, after],
            )
        connection.execute(
            "INSERT INTO checks (library_id, state, findings) "
            "VALUES (1, 'running', '[]'), (1, 'waiting', '[]')"
        )
    database = Database(empty_database_url)
    database.migrate()
    with database.begin() as session:
        library = session.scalars(select(Library)).one()
        assert (len(library.identity), library.identified_at, library.dormant) == (36, None, False)
        kinds = {
            row.sha256: (row.purpose, row.format, row.original_sha256)
            for row in session.scalars(select(Result))
        }
        assert kinds == {new: ("file", None, old), copy: ("copy", "webp", old)}
        seen = {row.sha256: row.seen_at is not None for row in session.scalars(select(Backup))}
        assert seen == {old: False, spare: True}
        assert session.scalars(select(Backup.path).where(Backup.sha256 == old)).one() == "a.jpg"
        assert session.scalars(select(File.held)).one() is False
        entries = session.scalars(select(Journal).order_by(Journal.id)).all()
        known = [(entry.action, entry.after_sha256, entry.due_at) for entry in entries]
        assert known == [("withdraw", None, None), ("replace", new, None)]
        assert (
            session.execute(
                text("SELECT count(*) FROM jobs WHERE kind = 'check' AND state = 'failed'")
            ).scalar_one()
            == 2
        )
    database.migrate()
    database.close()

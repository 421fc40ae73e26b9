"""A library's one webhook as version 0024 left it becomes one of several, and can go back."""

import psycopg
import pytest
from alembic import command
from psycopg.types.json import Jsonb
from test_database import migrate

SEALED = b"gAAAAA-sealed"


@pytest.fixture
def old(empty_database_url: str) -> str:
    migrate(empty_database_url, "0024")
    webhooks = (
        {"address": "https://a.example/in", "events": ["files.changed"]},
        {},
        {"address": "https://c.example/"},
    )
    with psycopg.connect(empty_database_url, autocommit=True) as session:
        for number, webhook in enumerate(webhooks, 1):
            session.execute(
                "INSERT INTO libraries"
                " (slug, name, root, patterns, automation, delivery, webhook, webhook_secret, hook_secret)"
                " VALUES (%(l)s, %(l)s, %(l)s, '[]', '{}', '{}', %(webhook)s, %(sealed)s, 'whsec_plain')",
                {"l": f"l{number}", "webhook": Jsonb(webhook), "sealed": SEALED},
            )
            session.execute(
                "INSERT INTO outgoing_messages (library_id, message_id, type, data)"
                " VALUES (%s, %s, 'report.ready', '{}')",
                [number, f"msg_{number}"],
            )
    return empty_database_url


def test_it_is_told_on_and_changed_files_are_noted_for_it(old: str) -> None:
    migrate(old, "0025")
    with psycopg.connect(old, autocommit=True) as session:
        rows = session.execute(
            "SELECT library_id, address, events, secret FROM webhooks ORDER BY id"
        ).fetchall()
        assert [(row[0], row[1], len(row[2]), row[3]) for row in rows] == [
            (1, "https://a.example/in", 1, SEALED),
            (3, "https://c.example/", 3, SEALED),
        ]
        messages = session.execute(
            "SELECT webhook_id, message_id FROM outgoing_messages ORDER BY id"
        ).fetchall()
        assert messages == [(1, "msg_1"), (2, "msg_3")]
        for library in (1, 2, 3):
            session.execute("SELECT note_purge(%s, 'a.jpg', NULL)", [library])
        assert session.execute("SELECT library_id FROM purges").fetchall() == [(1,)]
        assert session.execute("SELECT DISTINCT hook_secret FROM libraries").fetchall() == [(b"whsec_plain",)]


def test_it_can_go_back(old: str) -> None:
    migrate(old, "0025")
    with psycopg.connect(old, autocommit=True) as session:
        session.execute(
            "INSERT INTO webhooks (library_id, address, events) VALUES (1, 'https://b.example/', '[]')"
        )
        session.execute(
            "INSERT INTO outgoing_messages (webhook_id, message_id, type, data)"
            " VALUES (3, 'msg_1', 'report.ready', '{}')"
        )
        session.execute("UPDATE libraries SET hook_secret = %s WHERE id = 2", [SEALED])
    migrate(old, "0024", command.downgrade)
    with psycopg.connect(old) as session:
        rows = session.execute(
            "SELECT webhook ->> 'address', webhook_secret, hook_secret FROM libraries ORDER BY id"
        )
        assert rows.fetchall() == [
            ("https://a.example/in", SEALED, "whsec_plain"),
            (None, None, None),
            ("https://c.example/", SEALED, "whsec_plain"),
        ]
        assert session.execute("SELECT library_id FROM outgoing_messages ORDER BY id").fetchall() == [
            (1,),
            (3,),
        ]
    migrate(old, "head")

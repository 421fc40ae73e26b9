"""People and keys as version 0007 left them, brought up to date: everybody may do what they could."""

import hashlib

import psycopg
import pytest
from psycopg.types.json import Jsonb
from test_database import migrate

from plumcrate.contract.people import Ability
from plumcrate.people.actor import by_key, of_person
from plumcrate.records.database import Database
from plumcrate.records.tables import Person

SECRETS = {"look": "pc_of-a-report", "treat": "pc_of-a-build", "administer": "pc_of-the-demonstration"}


@pytest.fixture
def old(empty_database_url: str) -> str:
    migrate(empty_database_url, "0007")
    with psycopg.connect(empty_database_url, autocommit=True) as session:
        for slug in ("ledge", "harbour"):
            session.execute(
                "INSERT INTO libraries (slug, name, root, patterns, upkeep, delivery, at_rest, days_seen)"
                " VALUES (%s, %s, %s, %s, '{}', '{}', false, 0)",
                [slug, slug, f"/{slug}", Jsonb([])],
            )
        for role, secret in SECRETS.items():
            session.execute(
                "INSERT INTO people (email, name, role, password_hash) VALUES (%s, %s, %s, 'hash')",
                [f"{role}@ledge.example", role, role],
            )
            session.execute(
                "INSERT INTO keys (name, role, secret_sha256) VALUES (%s, %s, %s)",
                [role, role, hashlib.sha256(secret.encode()).digest()],
            )
        session.execute(
            "INSERT INTO sessions (token_sha256, person_id, expires_at)"
            " SELECT 'x', id, now() + interval '1 day' FROM people LIMIT 1"
        )
    return empty_database_url


def test_everybody_may_do_what_they_could(old: str) -> None:
    database = Database(old)
    assert not database.up_to_date()
    database.migrate()
    assert database.up_to_date()
    with database.begin() as session:
        people = {row.name: of_person(session, row) for row in session.query(Person)}
        assert {name: actor.service for name, actor in people.items()} == {
            "look": False,
            "treat": False,
            "administer": True,
        }
        for number in (1, 2):
            assert people["look"].in_library(number) == {Ability.LOOK}
            assert Ability.TREAT in people["treat"].in_library(number)
            assert Ability.ADMINISTER not in people["treat"].in_library(number)
            assert people["administer"].in_library(number) == set(Ability)
        keys = {role: by_key(session, secret, "127.0.0.1") for role, secret in SECRETS.items()}
        for role, actor in keys.items():
            assert actor is not None, f"the key of {role} goes on working"
            assert actor.service == (role == "administer")
            assert actor.everywhere == people[role].in_library(1)
        assert by_key(session, "pc_of-nobody", "127.0.0.1") is None
        assert session.connection().exec_driver_sql("SELECT count(*) FROM sessions").scalar() == 0
    database.close()

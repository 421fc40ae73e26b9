"""A request with an Idempotency-Key is done once, however often it is sent."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest
from conftest import Service, photograph, running_service
from databases import Postgres
from sqlalchemy import func, select, text, update

from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import KeyRequest, LibraryKeyRequest
from plumcrate.records.database import Database
from plumcrate.records.queries.kept_answers import forget_answers
from plumcrate.records.tables import AuditRow, KeptAnswer, Key, Run

KEY = "8e03978e-40d5-43dd-bc93-6894a57f9324"


@pytest.fixture(scope="module")
def service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("once")
    photograph(home / "site/a.jpg")
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site")))
        yield running


@pytest.fixture
def records(service: Service) -> Iterator[Database]:
    database = Database(service.database_url)
    yield database
    database.close()


Post = Callable[..., httpx.Response]


@pytest.fixture
def post(service: Service) -> Post:
    def send(address: str, json: object, key: str | None, secret: str | None = None) -> httpx.Response:
        headers = {"Authorization": f"Bearer {secret or service.key}"}
        if key is not None:
            headers["Idempotency-Key"] = key
        return httpx.post(f"{service.url}/api/v1{address}", json=json, headers=headers, timeout=60)

    return send


def runs(records: Database) -> int:
    with records.begin() as session:
        return session.scalar(select(func.count()).select_from(Run)) or 0


def test_a_run_is_started_once(post: Post, records: Database) -> None:
    body, before = {"library": "ledge", "kind": "restore"}, runs(records)
    first = post("/runs", body, "start-one")
    again = post("/runs", body, "start-one")
    assert first.status_code == again.status_code == 202
    assert first.headers["location"] == again.headers["location"] == f"/api/v1/runs/{first.json()['id']}"
    assert (first.headers.get("idempotency-replayed"), again.headers["idempotency-replayed"]) == (
        None,
        "true",
    )
    assert first.content == again.content
    assert runs(records) == before + 1
    assert post("/runs", body, None).json()["id"] != first.json()["id"], "without a key it is another one"


def test_a_replay_is_no_act_of_its_own(post: Post, records: Database) -> None:
    for _ in range(3):
        post("/libraries/ledge/hook-secret", {}, "one-secret")
    with records.begin() as session:
        acts = session.scalar(
            select(func.count())
            .select_from(AuditRow)
            .where(AuditRow.target == "POST /libraries/ledge/hook-secret")
        )
    assert acts == 1


def test_a_secret_is_the_same_and_not_readable_in_the_records(post: Post, records: Database) -> None:
    asked = {"name": "deploy", "abilities": ["look"]}
    first = post("/libraries/ledge/keys", asked, KEY)
    again = post("/libraries/ledge/keys", asked, KEY)
    secret = first.json()["secret"]
    assert again.json()["secret"] == secret
    with records.begin() as session:
        kept = session.scalars(select(KeptAnswer).where(KeptAnswer.key == KEY)).one()
        assert secret.encode() not in kept.body
        assert session.scalar(select(func.count()).select_from(Key).where(Key.name == "deploy")) == 1


def test_a_key_belongs_to_one_request_of_one_asker(service: Service, post: Post) -> None:
    made = post("/libraries/ledge/keys", {"name": "one"}, "mine")
    other_body = post("/libraries/ledge/keys", {"name": "two"}, "mine")
    other_place = post("/runs", {"library": "ledge", "kind": "restore"}, "mine")
    for answer in (other_body, other_place):
        assert answer.status_code == 422
        assert answer.json()["type"].endswith("key-used")
    somebody = service.client.keys.make(KeyRequest(name="somebody", service=True)).secret
    theirs = post("/libraries/ledge/keys", {"name": "one"}, "mine", somebody)
    assert theirs.status_code == 201
    assert theirs.json()["secret"] != made.json()["secret"]


def test_who_lost_the_right_is_told_nothing(service: Service, post: Post) -> None:
    key = service.client.keys.make_for_library(
        "ledge", LibraryKeyRequest(name="lent", abilities=["look", "administer"])
    )
    assert post("/libraries/ledge/keys", {"name": "x"}, "lent-1", key.secret).status_code == 201
    with Database(service.database_url).begin() as session:
        session.execute(update(Key).where(Key.id == key.id).values(abilities=["look"]))
    assert post("/libraries/ledge/keys", {"name": "x"}, "lent-1", key.secret).status_code == 403


def test_a_refusal_is_not_kept(post: Post) -> None:
    assert post("/runs", {"library": "nowhere"}, "twice").status_code == 404
    assert post("/runs", {"library": "ledge", "kind": "restore"}, "twice").status_code == 202


@pytest.mark.parametrize("key", ["", "k" * 256, "k" * 10_000, "lämp".encode().decode("latin-1"), "a\tb"])
def test_a_key_that_cannot_be_one_is_refused(post: Post, records: Database, key: str) -> None:
    before = runs(records)
    try:
        answer = post("/runs", {"library": "ledge", "kind": "restore"}, key)
    except (UnicodeEncodeError, httpx.LocalProtocolError):
        return  # cannot even be sent
    assert answer.status_code in (400, 422), answer.text
    assert runs(records) == before


def test_a_request_that_is_being_answered_is_not_begun_again(post: Post, records: Database) -> None:
    """While the first one waits for a row that somebody else holds."""
    answers: list[httpx.Response] = []
    body = {"library": "ledge", "kind": "restore"}
    with records.begin() as session:
        session.execute(text("LOCK TABLE runs IN ACCESS EXCLUSIVE MODE"))
        first = threading.Thread(target=lambda: answers.append(post("/runs", body, "slow")))
        first.start()
        while not session.scalar(
            text("SELECT 1 FROM pg_locks WHERE NOT granted AND relation = 'runs'::regclass")
        ):
            pass
        second = post("/runs", body, "slow")
        assert second.status_code == 409
        assert second.json()["type"].endswith("request-under-way")
    first.join()
    assert answers[0].status_code == 202
    assert post("/runs", body, "slow").content == answers[0].content


def test_after_a_day_an_answer_is_forgotten(post: Post, records: Database) -> None:
    body = {"library": "ledge", "kind": "restore"}
    first = post("/runs", body, "of-yesterday").json()["id"]
    with records.begin() as session:
        yesterday = func.now() - text("interval '25 hours'")
        session.execute(
            update(KeptAnswer).where(KeptAnswer.key == "of-yesterday").values(created_at=yesterday)
        )
    assert post("/runs", body, "of-yesterday").json()["id"] != first
    with records.begin() as session:
        session.execute(update(KeptAnswer).values(created_at=yesterday))
        assert forget_answers(session) > 0
        assert session.scalar(select(func.count()).select_from(KeptAnswer)) == 0


def test_without_its_state_folder_nothing_is_done(service: Service, post: Post, records: Database) -> None:
    """An answer that could not be kept would be given twice."""
    state: Path = service.state
    away = state.with_name("away")
    before = runs(records)
    state.rename(away)
    try:
        answer = post("/runs", {"library": "ledge", "kind": "restore"}, "unmounted")
        assert answer.status_code == 503, answer.text
    finally:
        away.rename(state)
    assert runs(records) == before

"""The audit log: what is put on record, in the act's own transaction, and never changed."""

import csv
import io
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
import psycopg
import pytest
from conftest import EMAIL, PASSWORD, Service, photograph, running_service
from databases import Postgres

from plumcrate.client import Client, ProblemError
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.people import Ability, ActOutcome, AuditEntry, KeyRequest, MemberInvitation, Role
from plumcrate.contract.runs import RunKind, RunRequest


@pytest.fixture(scope="module")
def service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("audited")
    photograph(home / "site/a.jpg")
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site"), slug="ledge"))
        yield running


def latest(service: Service, library: str | None = None) -> AuditEntry:
    return service.client.audit.page(library, limit=1).rows[0]


def test_every_act_says_who_what_where_and_from_where(service: Service) -> None:
    first = service.client.audit.page("ledge").rows[-1]
    assert (first.act, first.actor, first.kind, first.library) == (
        "Connect a library",
        "tests",
        "key",
        "ledge",
    )
    service.client.libraries.change("ledge", LibraryChange(name="The ledge"))
    entry = latest(service)
    assert (entry.act, entry.target) == ("Change a library's settings", "PATCH /libraries/ledge")
    assert (entry.library, entry.address, entry.outcome) == ("ledge", "127.0.0.1", ActOutcome.DONE)
    run = service.client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE))
    entry = latest(service)
    assert (entry.act, entry.library) == ("Start a run", "ledge")
    assert "restore" in entry.detail
    service.client.runs.items(run.id)
    service.client.libraries.all()
    assert latest(service) == entry, "what only tells is no act"


def test_people_sign_in_and_out_on_record_and_fail_on_record(service: Service) -> None:
    browser = httpx.Client(base_url=f"{service.url}/api/v1")
    browser.post("/session", json={"email": EMAIL, "password": PASSWORD})
    assert (latest(service).act, latest(service).actor) == ("Sign in", "The keeper")
    browser.delete("/session")
    assert (latest(service).act, latest(service).actor) == ("Sign out", "The keeper")
    browser.post("/session", json={"email": "guess@x.example", "password": "hunter2"})
    entry = latest(service)
    assert (entry.kind, entry.email, entry.outcome) == ("stranger", "guess@x.example", ActOutcome.REFUSED)
    assert entry.detail == "wrong-sign-in"
    httpx.get(f"{service.url}/api/v1/libraries", headers={"Authorization": "Bearer plumkey-x"})
    assert (latest(service).kind, latest(service).detail) == ("stranger", "not-signed-in")
    known = latest(service).id
    httpx.get(f"{service.url}/api/v1/libraries")
    assert latest(service).id == known, "who comes with nothing has tried nothing"
    with psycopg.connect(service.database_url) as session:
        text = str(session.execute("SELECT * FROM audit").fetchall())
    for secret in (PASSWORD, "hunter2", service.key, "plumkey-x"):
        assert secret not in text


def test_refusals_to_those_who_are_known(service: Service) -> None:
    made = service.client.keys.make(
        KeyRequest(name="a looker", libraries=["ledge"], abilities=[Ability.LOOK])
    )
    with Client(service.url, made.secret) as looker:
        with pytest.raises(ProblemError):
            looker.jobs.survey("ledge")
        entry = latest(service, "ledge")
        assert (entry.actor, entry.act, entry.outcome) == ("a looker", "Start a survey", ActOutcome.REFUSED)
        assert entry.detail == "not-allowed"
        with pytest.raises(ProblemError):
            looker.audit.page()
        with pytest.raises(ProblemError):
            looker.audit.page("ledge")


def test_an_act_that_was_undone_is_not_recorded_as_done(service: Service) -> None:
    with pytest.raises(ProblemError):
        service.client.libraries.connect(LibraryRequest(name="Ledge", root="/nowhere/at/all", slug="ledge"))
    entry = latest(service)
    assert (entry.act, entry.outcome, entry.detail) == (
        "Connect a library",
        ActOutcome.REFUSED,
        "folder-missing",
    )


def test_looked_through_and_exported(service: Service) -> None:
    client = service.client
    client.invitations.invite_member(
        "ledge", MemberInvitation(email="=cmd|'/c'!calc@x.example", role=Role.LOOK)
    )
    found = client.audit.page(search="calc invite", outcome=ActOutcome.DONE).rows
    assert [entry.act for entry in found] == ["Invite somebody to a library"]
    now = datetime.now(UTC)
    assert client.audit.page(since=now + timedelta(minutes=1)).total == 0
    assert client.audit.page(until=now - timedelta(days=1)).total == 0
    page = client.audit.page(limit=1)
    assert page.cursor is not None
    rest = client.audit.page(after=page.cursor, limit=500)
    assert page.total == 1 + len(rest.rows)
    rows = list(csv.DictReader(io.StringIO(client.audit.export().decode())))
    assert len(rows) == page.total
    assert rows[0]["act"] == "Connect a library"
    cells = [cell for row in rows for cell in row.values()]
    assert any("calc" in cell for cell in cells)
    assert not [cell for cell in cells if cell[:1] in ("=", "+", "-", "@")], "no cell is a formula"
    assert len(client.audit.export("ledge")) < len(client.audit.export())


def test_a_library_sees_nothing_of_one_that_had_its_name_before(service: Service, tmp_path: Path) -> None:
    client = service.client
    for turn in ("first", "second"):
        photograph(tmp_path / turn / "a.jpg")
        client.libraries.connect(LibraryRequest(name=turn, root=str(tmp_path / turn), slug="again"))
        client.libraries.change("again", LibraryChange(name=f"{turn} name"))
        if turn == "first":
            client.libraries.disconnect("again")
    acts = [entry.act for entry in client.audit.page("again", since=datetime(2020, 1, 1, tzinfo=UTC)).rows]
    assert acts == ["Change a library's settings", "Connect a library"]
    assert len(client.audit.export("again").splitlines()) == 3
    assert client.audit.page(search="again").total == 5, "the whole log has both"


def test_nobody_changes_what_is_on_record(service: Service) -> None:
    before = service.client.audit.export()
    with psycopg.connect(service.database_url, autocommit=True) as session:
        for attack in ("UPDATE audit SET actor = 'nobody'", "DELETE FROM audit", "TRUNCATE audit"):
            with pytest.raises(psycopg.errors.RaiseException, match="only added to"):
                session.execute(attack)
    for method in ("PUT", "DELETE", "PATCH", "POST"):
        answer = httpx.request(
            method, f"{service.url}/api/v1/audit", headers={"Authorization": f"Bearer {service.key}"}
        )
        assert answer.status_code == 405
    assert service.client.audit.export().startswith(before[:-2])


def test_names_that_would_draw_on_a_terminal_are_plain(service: Service) -> None:
    answer = httpx.post(f"{service.url}/api/v1/session", json={"email": "a‮b@x.example", "password": "x" * 12})
    assert answer.status_code == 401
    entry = latest(service)
    assert "‮" not in (entry.email or "")

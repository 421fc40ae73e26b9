"""people, invite, keys, make-key, rotate-key, revoke-key, audit on a real service, as whole and half
administrators."""

import json
import os
import signal
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest
from conftest import Service, photograph, running_service
from databases import Postgres
from forks import forker

from plumcrate.cli.main import main
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import Ability, LibraryKeyRequest
from plumcrate.operate.index import INDEX
from plumcrate.people.actor import by_key
from plumcrate.records.database import Database

Run = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture(scope="module")
def service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("doors")
    photograph(home / "site/a.jpg")
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site"), slug="ledge"))
        yield running


def run(
    service: Service, *arguments: str, key: str | None = None, code: int = 0
) -> subprocess.CompletedProcess[str]:
    environment = os.environ | {"PLUMCRATE_URL": service.url, "PLUMCRATE_KEY": key or service.key}
    done = forker.run("plumcrate", arguments, environment=environment)
    assert done.returncode == code, done.stdout + done.stderr
    return done


def test_somebody_is_invited_and_listed(service: Service) -> None:
    told = run(service, "invite", "mate@ledge.example", "--name", "The mate", "--to", "ledge=treat").stdout
    link = told.splitlines()[0]
    assert link.startswith(f"{service.url}/join#")
    assert "shown only once" in told
    waiting = run(service, "people").stdout
    assert "Invitations that wait" in waiting
    assert "treat ledge" in waiting
    joining = {"token": link.partition("#")[2], "password": "the tide is out at noon"}
    assert httpx.post(f"{service.url}/api/v1/joining", json=joining).status_code == 201
    listed = run(service, "people").stdout
    assert "Invitations that wait" not in listed
    assert "administer the service" in listed
    here = json.loads(run(service, "people", "ledge", "--json").stdout)
    assert [(one["email"], one["role"]) for one in here["people"]] == [("mate@ledge.example", "treat")]


def test_wrong_words_are_named(service: Service) -> None:
    assert "LIBRARY=ROLE" in run(service, "invite", "x@y.example", "--to", "ledge", code=2).stderr
    assert "LIBRARY=ROLE" in run(service, "invite", "x@y.example", "--to", "ledge=king", code=2).stderr
    assert "name the libraries" in run(service, "invite", "x@y.example", code=4).stderr
    assert "no library called nowhere" in run(service, "people", "nowhere", code=4).stderr


def test_keys_from_making_to_revoking(service: Service) -> None:
    made = run(service, "make-key", "the site", "--library", "ledge", "--ability", "upload", "--days", "30")
    secret = made.stdout.splitlines()[0]
    assert secret.startswith("plumkey-")
    assert "look, upload in ledge" in made.stdout
    keys = json.loads(run(service, "keys", "ledge", "--json").stdout)["rows"]
    number = str(next(key["id"] for key in keys if key["name"] == "the site"))
    assert "refused" not in run(service, "libraries", key=secret).stdout
    fresh = run(service, "rotate-key", number, "--overlap", "1").stdout
    assert f"Key {number} goes on working for 1 h." in fresh
    newer = fresh.splitlines()[0]
    run(service, "libraries", key=newer)
    run(service, "libraries", key=secret)
    run(service, "revoke-key", number)
    refused = run(service, "libraries", key=secret, code=4)
    assert "unknown, was revoked or has expired" in refused.stderr
    table = run(service, "keys").stdout
    assert f"…{newer[-4:]}" in table
    assert newer not in table


def test_who_administers_one_library_does_it_there(service: Service) -> None:
    made = service.client.keys.make_for_library(
        "ledge", LibraryKeyRequest(name="head", abilities=[Ability.ADMINISTER])
    )
    head = made.secret
    run(service, "invite", "under@ledge.example", "--to", "ledge=look", key=head)
    run(service, "make-key", "theirs", "--library", "ledge", key=head)
    assert "theirs" in run(service, "keys", "ledge", key=head).stdout
    assert "under@ledge.example" in run(service, "people", "ledge", key=head).stdout
    for arguments in (["people"], ["keys"], ["audit"], ["invite", "x@y.example", "--service"]):
        assert "administrator of the whole service" in run(service, *arguments, key=head, code=4).stderr
    assert "Invite somebody to a library" in run(service, "audit", "ledge", key=head).stdout


def test_what_was_done_is_told_and_written_down(service: Service, tmp_path: Path) -> None:
    run(service, "libraries", key="plumkey-wrong", code=4)
    told = run(service, "audit", "--outcome", "refused").stdout
    assert "a stranger" in told
    assert "not-signed-in" in told
    assert "Connect a library" in run(service, "audit", "ledge", "--search", "connect").stdout
    assert "0 of 0" in run(service, "audit", "--since", "2099-01-01").stdout
    page = json.loads(run(service, "audit", "--json", "--limit", "3").stdout)
    assert len(page["rows"]) == 3
    file = tmp_path / "audit.csv"
    run(service, "audit", "--csv", str(file))
    assert file.read_text().startswith('"at","actor","kind"')
    assert len(file.read_text().splitlines()) > 5


def test_the_first_key_is_made_without_a_browser(
    database_url: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("PLUMCRATE_DATABASE_URL", database_url)
    monkeypatch.setenv("PLUMCRATE_STATE_DIR", str(tmp_path / "state"))
    words = ["administrator", "first@ledge.example", "--print", "--key", "the command line", "--json"]
    monkeypatch.setattr(signal, "signal", lambda *_: None)  # the tests' own stays
    assert main(words, INDEX) == 0
    made = json.loads(capsys.readouterr().out)
    database = Database(database_url)
    with database.begin() as session:
        who = by_key(session, made["key"], "127.0.0.1")
        assert who is not None
        assert who.service
    database.close()

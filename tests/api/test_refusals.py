"""What the service refuses, in RFC 9457 problems with stable types, and that a refusal changes nothing."""

import os
from pathlib import Path

import httpx
import pytest
from conftest import EMAIL, PASSWORD, Service, photograph
from pydantic import ValidationError

from plumcrate.api.problem_types import TYPES
from plumcrate.client import Client, ProblemError, UnreachableError
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import KeyRequest
from plumcrate.contract.runs import RunRequest, Scope
from plumcrate.intake import connecting
from plumcrate.records.database import Database
from plumcrate.refusal import Refusal
from plumcrate.settings import Settings


def refused(code: str, call: object, *arguments: object) -> str:
    with pytest.raises(ProblemError) as caught:
        call(*arguments)  # type: ignore[operator]
    problem = caught.value.problem
    assert problem.type == f"urn:plumcrate:problem:{code}"
    assert (problem.title, problem.status) == (TYPES[code].title, TYPES[code].status)
    return problem.detail


def test_connecting(service: Service, tmp_path: Path) -> None:
    root = tmp_path / "site/uploads"
    photograph(root / "a.jpg")
    client = service.client

    def connect(folder: object, **more: object) -> object:
        return client.libraries.connect(LibraryRequest(name="Ledge", root=str(folder), **more))

    refused("folder-missing", connect, tmp_path / "nowhere")
    refused("folder-missing", connect, root / "a.jpg")
    with pytest.raises(ValidationError, match="pattern"):
        connect("site/uploads")
    assert "{colour}" in refused("invalid-request", lambda: connect(root, patterns=["{stem}-{colour}{ext}"]))
    refused("library-overlaps", connect, service.state)
    connect(root)
    assert "one library only" in refused("library-overlaps", connect, root)
    (root / "inside").mkdir()
    refused("library-overlaps", connect, root / "inside")
    refused("library-overlaps", connect, root.parent)
    (tmp_path / "link").symlink_to(root)
    refused("library-overlaps", connect, tmp_path / "link")
    (tmp_path / "whole-site/media").mkdir(parents=True)
    (tmp_path / "whole-site/wp-config.php").write_text("<?php")
    assert "wp-config.php" in refused("site-root", connect, tmp_path / "whole-site")
    (tmp_path / "other").mkdir()
    refused("slug-taken", connect, tmp_path / "other")
    assert [library.slug for library in client.libraries.all()] == ["ledge"]


@pytest.mark.parametrize(("lacking", "code"), [(os.R_OK, "folder-unreadable"), (os.W_OK, "folder-read-only")])
def test_folders_without_permission(
    database: Database, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, lacking: int, code: str
) -> None:
    """Asked of the check itself, since root, as whom tests may run, is refused nothing."""
    settings = Settings(database_url=database.url, state_dir=tmp_path / "state")
    (tmp_path / "site").mkdir()
    monkeypatch.setattr(os, "access", lambda _, mode: not mode & lacking)
    with database.begin() as session, pytest.raises(Refusal) as caught:
        connecting.checked_root(session, str(tmp_path / "site"), settings.state_dir)
    assert caught.value.code == code
    assert "owner and mode" in str(caught.value)


def test_runs_and_surveys(service: Service, library: Path) -> None:
    client = service.client
    client.libraries.connect(LibraryRequest(name="Ledge", root=str(library)))
    survey = client.jobs.survey("ledge")
    assert str(survey.id) in refused("job-open", client.jobs.survey, "ledge")
    service.start_worker()
    assert client.jobs.wait(survey.id).survey.files_new > 50
    service.kill("worker")
    run = client.runs.start(RunRequest(library="ledge"))
    second = client.runs.start(RunRequest(library="ledge"))
    assert (second.files, second.elsewhere) == (0, run.files), "what one run has, another leaves to it"
    client.runs.pause(run.id)
    client.runs.stop(run.id)
    refused("run-ended", client.runs.resume, run.id)
    refused("not-found", client.runs.get, 999)
    refused("not-found", client.runs.start, RunRequest(library="elsewhere"))
    with httpx.Client(base_url=service.url, headers={"Authorization": f"Bearer {service.key}"}) as plain:
        answer = plain.post("/api/v1/runs", json={"library": "ledge", "level": "softest"})
        assert answer.status_code == 422
        assert answer.headers["content-type"] == "application/problem+json"
        assert answer.json()["errors"][0]["where"] == "body.level"
        assert plain.post("/api/v1/runs", json={"library": "ledge", "lvel": "lean"}).status_code == 422
        assert plain.get("/api/v1/nothing").json()["type"].endswith("not-found")
    with pytest.raises(ValueError, match="give one of"):
        RunRequest(library="ledge", scope=Scope(run=1, pictures=[1]))


def test_roles_keys_and_sessions(service: Service, tmp_path: Path) -> None:
    client = service.client
    looking = client.keys.make(KeyRequest(name="the client's report"))
    with Client(service.url, looking.secret) as looker:
        assert looker.libraries.all() == []
        refused("not-allowed", looker.libraries.connect, LibraryRequest(name="x", root=str(tmp_path)))
        refused("not-allowed", looker.keys.make, KeyRequest(name="more"))
    with Client(service.url, "plumkey-wrong") as stranger:
        refused("not-signed-in", stranger.libraries.all)
    with (
        Client("http://127.0.0.1:9", "pc") as nobody,
        pytest.raises(UnreachableError, match="does not answer"),
    ):
        nobody.health()
    with httpx.Client(base_url=f"{service.url}/api/v1") as browser:
        assert browser.get("/libraries").status_code == 401
        wrong = browser.post("/session", json={"email": EMAIL, "password": "guess"})
        assert wrong.json()["type"].endswith("wrong-sign-in")
        signed = browser.post("/session", json={"email": EMAIL.upper(), "password": PASSWORD})
        assert signed.json()["service"] is True
        cookie = signed.headers["set-cookie"].lower()
        assert "httponly" in cookie
        assert "samesite=strict" in cookie
        assert browser.get("/session").json()["email"] == EMAIL
        foreign = browser.post("/keys", json={"name": "x"}, headers={"Origin": "http://evil.example"})
        assert foreign.json()["type"].endswith("foreign-origin")
        assert browser.delete("/session").status_code == 204
        assert browser.get("/session").json() is None
        for _ in range(12):
            last = browser.post("/session", json={"email": EMAIL, "password": "guess"})
        assert last.status_code == 429


def test_the_console_and_its_safety(service: Service) -> None:
    with httpx.Client(base_url=service.url) as browser:
        page = browser.get("/l/anything/review")
        assert page.status_code == 200
        assert '<div id="root">' in page.text
        assert "default-src 'self'" in page.headers["content-security-policy"]
        outside = browser.get("/..%2f..%2fpyproject.toml")
        assert (outside.status_code, outside.json()["status"]) == (404, 404)
        assert browser.get("/api/v1/health").json()["database"] is True


def test_a_watermark_of_a_few_megabytes_gets_as_far_as_its_own_check(service: Service, library: Path) -> None:
    service.client.libraries.connect(LibraryRequest(name="Ledge", root=str(library)))
    with httpx.Client(
        base_url=f"{service.url}/api/v1/libraries/ledge/watermarks",
        headers={"Authorization": f"Bearer {service.key}"},
    ) as plain:
        for size, status in ((4_900_000, 422), (5_500_000, 413), (7_000_000, 413)):
            assert plain.put("/name", json={"originals": True}).status_code == 200
            answer = plain.put("/name/picture", content=b"\x89PNG\r\n\x1a\n" + bytes(size))
            assert answer.status_code == status, answer.text

"""Programs of others: with the made-up service, which answers as the real one, and a generated client."""

from __future__ import annotations

import asyncio
import io
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import Service, photograph, running_service
from databases import Postgres

from plumcrate.api.openapi import PLACE
from plumcrate.client import Client, ProblemError
from plumcrate.contract.automation import NewFiles
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.runs import RunKind, RunRequest, RunState, Scope
from plumcrate.testing import FakeService, Unanswered


@pytest.fixture(scope="module")
def pictures(tmp_path_factory: pytest.TempPathFactory) -> list[bytes]:
    home = tmp_path_factory.mktemp("pictures")
    return [photograph(home / f"{number}.jpg", 160, 120, seed=number) for number in range(3)]


@pytest.fixture(scope="module")
def real(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("told-alike")
    (home / "site").mkdir()
    (home / "other").mkdir()
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.start_worker()
        for name, folder in (("Ledge", "site"), ("Other", "other")):
            running.client.libraries.connect(LibraryRequest(name=name, root=str(home / folder)))
        yield running


def script(client: Client, pictures: list[bytes]) -> list[object]:
    """What a program of others may do, and what it is told."""
    told: list[object] = []

    def refused(what: object, *arguments: object, **named: object) -> None:
        with pytest.raises(ProblemError) as error:
            what(*arguments, **named)  # type: ignore[operator]
        told.append((error.value.code, error.value.status))

    first, second, third = pictures
    send = client.pictures.upload
    sent = send("ledge", "in/a.jpg", first, NewFiles.BY_HAND)
    told += [sent.state, sent.size_before == len(first), sent.size_now == len(first)]
    told.append(send("ledge", "in/a.jpg", first, NewFiles.BY_HAND).file_id == sent.file_id)
    refused(send, "ledge", "in/a.jpg", second, NewFiles.BY_HAND)
    refused(send, "nowhere", "in/a.jpg", second, NewFiles.BY_HAND)
    refused(send, "ledge", "in/none.jpg", second, NewFiles.BY_HAND, replaces="*")
    known = client.pictures.get(sent.picture_id).all_files[0].original_version
    send("ledge", "in/a.jpg", second, NewFiles.BY_HAND, replaces=known)
    refused(send, "ledge", "in/a.jpg", third, NewFiles.BY_HAND, replaces=known)
    by_pieces = client.pictures.upload_file("ledge", "in/b.jpg", io.BytesIO(third), treat=NewFiles.BY_HAND)
    told.append(by_pieces.path)
    run = client.runs.wait(client.runs.start(RunRequest(library="ledge")).id)
    told += [run.state is RunState.FINISHED, run.kind, run.files, run.done, run.failed]
    told += [[one.path, one.state, one.format] for one in client.pictures.each("ledge", limit=1)]
    found = client.pictures.page("ledge", path="in/a.jpg").rows[0]
    told += [found.id == sent.picture_id, client.pictures.page("ledge", search="b.jp").total]
    file = client.pictures.get(found.id).all_files[0]
    told += [file.role, file.state, file.has_backup, {one.format for one in file.derived} <= {"webp", "avif"}]
    told.append(len(client.pictures.content(file.id)) == file.size_now < len(second))
    told.append(client.pictures.content(file.id, "before") == second)
    refused(client.pictures.content, file.id, "gif")
    scope = Scope(pictures=[found.id])
    back = client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE, scope=scope))
    told += [client.runs.wait(back.id).state, client.pictures.content(file.id) == second]
    refused(client.pictures.get, 4_711)
    refused(client.runs.get, 4_711)
    survey = client.jobs.wait(client.jobs.survey("ledge").id)
    told += [survey.state, survey.survey is not None and survey.survey.pictures]
    ledge = client.libraries.get("ledge")
    told += [ledge.slug, ledge.pictures, ledge.files_treated, ledge.bytes_before > ledge.bytes_now]
    return told


def test_a_generated_client_works(real: Service, tmp_path: Path, pictures: list[bytes]) -> None:
    """Made by a common generator from the interface's description: it uploads, lists, and reads a problem."""
    (tmp_path / "how.yaml").write_text("post_hooks: []")
    generate = [sys.executable, "-m", "openapi_python_client", "generate", "--meta", "none"]
    places = ["--path", str(PLACE), "--output-path", str(tmp_path / "generated")]
    made = subprocess.run(
        [*generate, *places, "--config", str(tmp_path / "how.yaml")], capture_output=True, text=True
    )
    assert made.returncode == 0, made.stderr
    said = " ".join((made.stdout + made.stderr).split())
    assert "Unable to" not in said, "every schema can be generated"
    assert set(re.findall(r"parsing (\S+ \S+) within \S+ Endpoint will not be generated", said)) == {
        "PATCH /api/v1/libraries/{slug}/uploads/{upload}",  # of types of their own
        "POST /api/v1/libraries/{slug}/page",
    }
    program = """
import io, sys
from generated import AuthenticatedClient
from generated.api.intake import intake_upload
from generated.api.pictures import pictures_pictures
from generated.api.runs import runs_run
from generated.models import Problem, NewFiles
from generated.types import File

client = AuthenticatedClient(sys.argv[1], token=sys.argv[2])
sent = intake_upload.sync(
    "other", "made/by.jpg", client=client, body=File(io.BytesIO(open(sys.argv[3], "rb").read())),
    treat=NewFiles.BY_HAND,
)
page = pictures_pictures.sync("other", client=client, folder="made")
absent = runs_run.sync(4711, client=client)
print(sent.state, [row.path for row in page.rows], page.total, absent.status, absent.type_)
"""
    (tmp_path / "program.py").write_text(program)
    (tmp_path / "kite.jpg").write_bytes(pictures[0])
    ran = subprocess.run(
        [sys.executable, str(tmp_path / "program.py"), real.url, real.key, str(tmp_path / "kite.jpg")],
        capture_output=True,
        text=True,
    )
    expected = "not-treated ['made/by.jpg'] 1 404 urn:plumcrate:problem:not-found"
    assert ran.stdout.strip() == expected, ran.stderr


def test_the_same_script_is_told_the_same(real: Service, pictures: list[bytes]) -> None:
    with FakeService("ledge").client() as made_up:
        told = script(made_up, pictures)
    assert told == script(real.client, pictures)


def test_answers_and_refusals_can_be_given(tmp_path: Path) -> None:
    fake = FakeService("ledge")
    fake.refuse("POST", "/runs", "too-many", status=429, detail="not now")
    fake.answer("GET", "/libraries/ledge/backups", b"{}")
    with fake.client(patience=0) as client:
        with pytest.raises(ProblemError, match="not now") as refused:
            client.runs.start(RunRequest(library="ledge"))
        assert (refused.value.code, refused.value.status) == ("too-many", 429)
        assert client.runs.start(RunRequest(library="ledge")).state is RunState.FINISHED
        with pytest.raises(Unanswered, match="GET /libraries/ledge/recipe"):
            client.recipes.get("ledge")
    assert fake.asked == [("POST", "/runs"), ("POST", "/runs"), ("GET", "/libraries/ledge/recipe")]


def test_the_made_up_service_is_awaited_too(tmp_path: Path) -> None:
    fake = FakeService("ledge")
    file = tmp_path / "kite.jpg"
    file.write_bytes(b"a picture, for all it knows")

    async def program() -> list[str]:
        client = fake.async_client()
        uploaded = [path async for path, _ in client.pictures.upload_files("ledge", [("kite.jpg", file)])]
        run = await client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE))
        await client.runs.wait(run.id)
        pictures = [picture.path async for picture in client.pictures.each("ledge")]
        await client.aclose()
        return uploaded + pictures

    assert asyncio.run(program()) == ["kite.jpg", "kite.jpg"]

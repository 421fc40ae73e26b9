"""Many scripts at once against a service that is killed and started again and again: each thing that they ask
for is done once, and each script ends right."""

from __future__ import annotations

import io
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from conftest import Service, photograph, running_service
from databases import Postgres
from sqlalchemy import func, select

from plumcrate.client import Client
from plumcrate.contract.automation import NewFiles
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import LibraryKeyRequest
from plumcrate.contract.runs import RunKind, RunRequest
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Key, Run


@pytest.fixture(scope="module")
def service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("killed")
    photograph(home / "site/a.jpg")
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site")))
        yield running


def test_each_is_done_once(service: Service, whole: bool, tmp_path: Path) -> None:
    scripts, kills = (50, 10) if whole else (16, 3)
    ended = threading.Event()
    picture = photograph(tmp_path / "picture.jpg")

    def script(number: int) -> list[int]:
        """Starts a run, makes a key and uploads two pictures, patiently."""
        with Client(service.url, service.key, patience=120) as client:
            run = client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE))
            key = client.keys.make_for_library("ledge", LibraryKeyRequest(name=f"script {number}"))
            one = client.pictures.upload("ledge", f"in/{number}.jpg", picture, NewFiles.BY_HAND)
            other = client.pictures.upload_file(
                "ledge", f"in/{number}-pieces.jpg", io.BytesIO(picture), treat=NewFiles.BY_HAND
            )
            return [run.id, key.id, one.file_id, other.file_id]

    def kill_again_and_again() -> None:
        for _ in range(kills):
            if ended.wait(0.7):
                return
            service.kill("service")
            time.sleep(0.2)
            service.start_service()

    database = Database(service.database_url)
    with ThreadPoolExecutor(scripts + 1) as pool:
        killing = pool.submit(kill_again_and_again)
        told = list(pool.map(script, range(scripts)))
        ended.set()
        killing.result()
    for numbers in zip(*told, strict=True):
        assert len(set(numbers)) == scripts, "each script has its own"
    with database.begin() as session:
        count = lambda table, *where: session.scalar(select(func.count()).select_from(table).where(*where))  # noqa: E731
        assert count(Run, Run.kind == "restore") == scripts
        assert count(Key, Key.name.startswith("script ")) == scripts
        assert count(File, File.path.startswith("in/")) == 2 * scripts
    database.close()
    root = Path(service.client.libraries.get("ledge").root)
    files = [file for file in root.rglob("*") if file.is_file() and file.name != "a.jpg"]
    assert sorted(file.name for file in files if file.suffix == ".jpg") == sorted(
        name for number in range(scripts) for name in (f"{number}.jpg", f"{number}-pieces.jpg")
    )
    assert {file.read_bytes() for file in files if file.suffix == ".jpg"} == {picture}

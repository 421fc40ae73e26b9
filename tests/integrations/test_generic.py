"""What any site needs, with a shell, curl and openssl; and a page written in PHP."""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import pytest
from conftest import Service, photograph, running_service, wait_for
from databases import Postgres

from plumcrate.contract.automation import Automation, NewFiles
from plumcrate.contract.delivery import Delivery
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.runs import RunRequest
from plumcrate.records.private import free_port

HERE = Path(__file__).parents[2] / "integrations/generic"
ODD = 'uploads/a "kite", o\'er \\the ledge.jpg'


@pytest.fixture(scope="module")
def site(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Service, Path]]:
    home = tmp_path_factory.mktemp("generic")
    photograph(home / "media/uploads/kite.jpg", 300, 200)
    photograph(home / "media/cache/k1.jpg", 150, 100)
    with postgres.fresh() as url, running_service(url, home / "state") as service:
        service.start_worker()
        client = service.client
        client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "media"), slug="ledge"))
        automation = Automation(new_files=NewFiles.BY_HAND, settle_seconds=0.2)
        delivery = Delivery(address="https://ledge.example/media/", public=True)
        client.libraries.change("ledge", LibraryChange(automation=automation, delivery=delivery))
        client.jobs.wait(client.jobs.survey("ledge").id)
        client.runs.wait(client.runs.start(RunRequest(library="ledge", copies=["webp"])).id)
        yield service, home


def environment(service: Service) -> dict[str, str]:
    return os.environ | {
        "PLUMCRATE_URL": service.url,
        "PLUMCRATE_LIBRARY": "ledge",
        "PLUMCRATE_KEY": service.key,
    }


def done(service: Service, *command: str, **more: str) -> subprocess.CompletedProcess[str]:
    variables = environment(service) | more
    return subprocess.run(command, env=variables, cwd=HERE, capture_output=True, text=True, timeout=120)


def test_a_mapping_is_told(site: tuple[Service, Path]) -> None:
    service, home = site
    lines = home / "renditions.jsonl"
    lines.write_text(json.dumps({"path": "cache/k1.jpg", "original": "uploads/kite.jpg"}) + "\n{}\n")
    told = done(service, "./map.sh", str(lines))
    assert json.loads(told.stdout)["found"] == 1, told.stderr
    assert json.loads(told.stdout)["refused"] == 1
    assert [one.files for one in service.client.pictures.page("ledge").rows] == [2]
    refused = done(service, "./map.sh", str(lines), PLUMCRATE_KEY="plumkey")
    assert refused.returncode != 0


def test_a_file_with_an_odd_name_is_told_of(site: tuple[Service, Path]) -> None:
    service, home = site
    secret = service.client.webhooks.make_incoming_secret("ledge").secret
    photograph(home / "media" / ODD, 90, 60)
    told = done(service, "./notify.sh", ODD, "uploads/never-there.jpg", PLUMCRATE_HOOK_SECRET=secret)
    assert json.loads(told.stdout) == {"taken": 2, "repeated": False}, told.stderr
    wait_for(lambda: service.client.pictures.page("ledge", path=ODD).rows)
    wrong = "whsec_" + "A" * 43 + "="
    refused = done(service, "./notify.sh", ODD, PLUMCRATE_HOOK_SECRET=wrong)
    assert refused.returncode != 0
    assert "bad-signature" in refused.stdout


def test_rules_are_written_whole_or_not_at_all(site: tuple[Service, Path]) -> None:
    service, home = site
    rules = home / "light.conf"
    assert done(service, "./rules.sh", "nginx", str(rules)).returncode == 0
    written = rules.read_text()
    assert "Light pictures for Ledge" in written
    assert done(service, "./rules.sh", "nginx", str(rules), PLUMCRATE_KEY="plumkey").returncode != 0
    assert rules.read_text() == written


@pytest.mark.slow
def test_a_page_in_php_is_rewritten_and_leaves_all_the_same_without_us(
    site: tuple[Service, Path], tmp_path: Path
) -> None:
    service, _ = site
    php = shutil.which("php")
    assert php, "script/test --all installs php-cli"
    delivery = service.client.libraries.get("ledge").delivery
    markup = delivery.markup.model_copy(update={"elements": True, "sizes": False})
    service.client.libraries.change(
        "ledge", LibraryChange(delivery=delivery.model_copy(update={"markup": markup}))
    )
    plain = '<!doctype html><img src="/media/cache/k1.jpg" alt="A kite">'
    (tmp_path / "page.php").write_text(f"<?php require '{HERE}/page.php'; ?>{plain}")
    kind = "header('Content-Type: text/plain');"
    (tmp_path / "plain.php").write_text(f"<?php require '{HERE}/page.php'; {kind} ?>{plain}")
    with php_server(php, tmp_path, service) as pages:
        # The first page may take longer than a page waits: a process is started for it.
        wait_for(lambda: "k1.jpg.webp" in pages("page.php"), 30)
        assert pages("plain.php") == plain
    for wrong in ({"PLUMCRATE_URL": "http://127.0.0.1:9"}, {"PLUMCRATE_KEY": "plumkey"}):
        with php_server(php, tmp_path, service, **wrong) as pages:
            assert pages("page.php") == plain


@contextmanager
def php_server(php: str, folder: Path, service: Service, **more: str) -> Iterator[Callable[[str], str]]:
    """PHP's own server; what it answers for a page."""
    port = free_port()
    command = [php, "-S", f"127.0.0.1:{port}", "-t", str(folder)]
    with (folder / "php.log").open("ab") as log:
        process = subprocess.Popen(command, env=environment(service) | more, stdout=log, stderr=log)
    try:
        wait_for(lambda: _listens(port), 30)
        yield lambda page: httpx.get(f"http://127.0.0.1:{port}/{page}", timeout=30).text
    finally:
        process.terminate()
        process.wait(30)


def _listens(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0

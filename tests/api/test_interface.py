"""The interface against its own description: every operation, all checks, with and without credentials.

Bounded here; ``script/bench interface`` asks many times more.
"""

import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from conftest import Service, photograph, running_service
from databases import Postgres

from plumcrate.client import Client
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import KeyRequest

EXAMPLES = 8


@pytest.fixture(scope="module")
def subject(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("interface")
    photograph(home / "site/a.jpg")
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site")))
        # A key whose number is not guessed, or it would soon be revoked.
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute("ALTER TABLE keys ALTER COLUMN id RESTART WITH 1000000000")
        running.key = running.client.keys.make(KeyRequest(name="far away", service=True)).secret
        running.client = Client(running.url, running.key)
        yield running


@pytest.mark.slow
@pytest.mark.parametrize("signed_in", [True, False])
def test_nothing_undocumented_and_no_5xx(subject: Service, tmp_path: Path, signed_in: bool) -> None:
    headers = ["--header", f"Authorization: Bearer {subject.key}"] if signed_in else []
    done = subprocess.run(
        [
            str(Path(sys.executable).with_name("schemathesis")),
            "run",
            "--checks",
            "all",
            "--seed",
            "1",
            # That a time ever comes, or a rule says one thing only, no description of a string can say.
            "--exclude-checks",
            "positive_data_acceptance",
            "--phases",
            "examples,coverage,fuzzing",
            "--max-examples",
            str(EXAMPLES),
            "--no-color",
            "--suppress-health-check",
            "all",
            "--exclude-path",
            "/api/v1/events",
            "--continue-on-failure",
            *headers,
            f"{subject.url}/api/v1/openapi.json",
        ],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=900,
        check=False,
    )
    assert done.returncode == 0, done.stdout.partition("= WARNINGS =")[0][-20_000:]
    assert subject.client.health().database

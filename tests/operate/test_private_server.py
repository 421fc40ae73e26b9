"""The private PostgreSQL: made once, found again, and nothing that bears its name is ever deleted."""

import shutil
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from plumcrate.operate.records import CannotStart, begun, private_server
from plumcrate.records.private import PostgresError, PrivatePostgres, binaries
from plumcrate.settings import Settings
from plumcrate.storage.names import IDENTITY_NAME


@pytest.fixture
def reachable() -> Iterator[Path]:
    """A folder that the server's own user can reach, should this be root."""
    folder = Path(tempfile.mkdtemp(prefix="plumcrate-test-", dir="/tmp"))
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


def test_two_who_start_it_at_once_get_the_same(reachable: Path) -> None:
    found: list[str] = []

    def start() -> None:
        found.append(PrivatePostgres(reachable / "records", fast=True).start())

    threads = [threading.Thread(target=start) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(120)
    server = PrivatePostgres(reachable / "records", fast=True)
    try:
        assert len(found) == 3
        assert len(set(found)) == 1
        assert server.address() == found[0]
    finally:
        server.stop()
    assert server.address() is None
    assert server.there


def test_what_is_no_whole_server_is_left_alone(reachable: Path) -> None:
    home = reachable / "records"
    (home / "data").mkdir(parents=True)
    (home / "data/somebody's").write_text("bytes")
    with pytest.raises(PostgresError, match="no whole server"):
        PrivatePostgres(home, fast=True).start()
    assert (home / "data/somebody's").read_text() == "bytes"


def test_a_version_that_is_not_installed_is_named(reachable: Path) -> None:
    home = reachable / "records"
    (home / "data").mkdir(parents=True)
    (home / "data/PG_VERSION").write_text("9\n")
    (home / "password").write_text("x")
    with pytest.raises(PostgresError, match="postgresql-9"):
        PrivatePostgres(home).start()
    assert (home / "data/PG_VERSION").exists()
    assert binaries().name == "bin"


def test_a_state_folder_that_lost_its_records_makes_no_empty_ones(reachable: Path) -> None:
    (reachable / IDENTITY_NAME).write_text("an identity file")
    settings = Settings(state_dir=reachable)
    with pytest.raises(CannotStart, match="bring them back"):
        private_server(settings)
    with pytest.raises(CannotStart):
        begun(settings)
    assert not (reachable / "postgres").exists()


def test_with_a_database_named_no_server_is_made(reachable: Path) -> None:
    settings = Settings(state_dir=reachable, database_url="postgresql://somewhere/x")
    assert begun(settings) == (settings, None)
    assert list(reachable.iterdir()) == []

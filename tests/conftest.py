"""The real thing on loopback: a private PostgreSQL, the service, workers, painted libraries."""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import signal
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from types import SimpleNamespace

import pytest
from costs import DETACHED, Costs
from databases import Postgres
from forks import Process, forker
from hypothesis import settings
from PIL import Image

from plumcrate.client import Client, ClientError
from plumcrate.contract.jobs import JobKind, SurveyReport
from plumcrate.contract.people import KeyRequest
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.demo.world import build
from plumcrate.intake.survey import survey
from plumcrate.jobs.long_work import carry_out
from plumcrate.keeping.keeper import Keeper
from plumcrate.people.invitations import new_person
from plumcrate.people.keys import new_key
from plumcrate.records.database import Database
from plumcrate.records.private import PrivatePostgres, free_port
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.tables import File, Job, Picture
from plumcrate.storage.names import IDENTITY_NAME

# A browser is waited for as long as a busy machine may need.
with contextlib.suppress(ImportError):
    from playwright.sync_api import expect

    expect.set_options(timeout=300_000)


# The same examples each time, so that a change is judged by itself: few in the standard run, more in the
# whole one. New ones are looked for with --hypothesis-profile=explore.
settings.register_profile("standard", max_examples=30, deadline=None, derandomize=True, database=None)
settings.register_profile("all", max_examples=300, deadline=None, derandomize=True, database=None)
settings.register_profile("explore", max_examples=3000, deadline=None)
settings.load_profile("standard")


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--costs", action="store_true", help="tell at the end where the time went")
    parser.addoption("--costs-to", metavar="FILE", help="write what each test cost as JSON")
    parser.addoption("--whole", action="store_true", help="also what is slow, and more examples of each")
    parser.addini("processor_seconds", "what one test may cost, its own fixtures included", default="0")


def pytest_configure(config: pytest.Config) -> None:
    if config.getoption("whole"):
        settings.load_profile("all")
    config.pluginmanager.register(Costs(float(config.getini("processor_seconds"))), "costs")


@pytest.fixture(scope="session")
def whole(pytestconfig: pytest.Config) -> bool:
    """Whether everything is tried, where the standard run takes some of it."""
    return bool(pytestconfig.getoption("whole"))


@cache
def _shares(path: Path) -> bool:
    return 'scope="module"' in path.read_text()


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """What is slow is left to the whole run, unless it is named. Modules that share a fixture go
    first: they are the longest."""
    options = config.option
    if not (options.whole or options.markexpr or any("::" in name for name in config.args)):
        slow = [item for item in items if item.get_closest_marker("slow")]
        config.hook.pytest_deselected(items=slow)
        items[:] = [item for item in items if not item.get_closest_marker("slow")]
    items.sort(key=lambda item: not _shares(item.path))


def pytest_unconfigure() -> None:
    forker.close()


PASSWORD = "a lamp in every window"
EMAIL = "keeper@gannetledge.example"


@pytest.fixture(scope="session")
def postgres(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Postgres]:
    """This process's server; stopped and deleted at the end."""
    place = tmp_path_factory.mktemp("postgres") / "server"
    server = Postgres(PrivatePostgres(place, fast=True, elsewhere=True))
    DETACHED.add(server.pid)
    yield server
    server.close()


@pytest.fixture
def empty_database_url(postgres: Postgres) -> Iterator[str]:
    """A database without any table."""
    with postgres.bare() as url:
        yield url


@pytest.fixture
def database_url(postgres: Postgres) -> Iterator[str]:
    """A database for one test, with its tables made."""
    with postgres.fresh() as url:
        yield url


@pytest.fixture
def database(database_url: str) -> Iterator[Database]:
    found = Database(database_url)
    yield found
    found.close()


@pytest.fixture(scope="session")
def painted(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The small demo library, painted once; tests copy it."""
    root = tmp_path_factory.mktemp("painted") / "library"
    build(root, small=True)
    return root


@pytest.fixture
def library(painted: Path, tmp_path: Path) -> Path:
    """A copy of the small demo library that a test may change."""
    root = tmp_path / "library"
    shutil.copytree(painted, root)
    return root


def add_library(database: Database, root: Path, patterns: Sequence[str] = (), **settings: object) -> int:
    """A connected library called ``l``; returns its number."""
    with database.begin() as session:
        recipe = RecipeSettings.model_validate(settings)
        return new_library(session, "l", "L", str(root), list(patterns), recipe, "tests").id


def add_pictures(database: Database, count: int, start: int = 1) -> None:
    """New pictures of one megapixel in library 1, by record only."""
    with database.begin() as session:
        for number in range(start, start + count):
            path = f"p{number:02d}.jpg"
            session.add(Picture(library_id=1, path=path, folder="", name=path))
            session.flush()
            session.add(
                File(
                    library_id=1,
                    picture_id=number,
                    path=path,
                    format="jpeg",
                    width=1000,
                    height=1000,
                    size_before=1,
                    size_now=1,
                    mtime_ns=1,
                    mtime_ns_before=1,
                )
            )


def surveyed(database: Database, keeper: Keeper) -> SimpleNamespace:
    """A survey of library 1 as a worker carries it out: its report, with ``state`` and ``reason``."""
    with database.begin() as session:
        row = Job(library_id=1, kind=JobKind.SURVEY)
        session.add(row)
    work = {JobKind.SURVEY: lambda library, follow: survey(database, keeper, library, follow.report)}
    carry_out(database, row.id, work)
    with database.begin() as session:
        row = session.get_one(Job, row.id)
    report = SurveyReport.model_validate(row.report)
    return SimpleNamespace(**report.model_dump(), state=row.state, reason=row.reason)


def hashes(root: Path) -> dict[str, str]:
    """Every file below a folder but the library's identity file, by relative path, with the hash of its
    bytes.

    Work may go on meanwhile: what is gone before it is read was not there.
    """
    found: dict[str, str] = {}
    for path in root.rglob("*"):
        if path.name != IDENTITY_NAME and path.is_file():
            with contextlib.suppress(FileNotFoundError):
                found[path.relative_to(root).as_posix()] = hashlib.sha256(path.read_bytes()).hexdigest()
    return found


def photograph(path: Path, width: int = 320, height: int = 240, seed: int = 0, quality: int = 95) -> bytes:
    """A small painted photograph, written to ``path``; returns its bytes."""
    import numpy as np

    from plumcrate.demo.painter.scenes import SCENES

    scene = SCENES["headland"](np.random.default_rng(seed), width, height, seed)
    path.parent.mkdir(parents=True, exist_ok=True)
    Image.fromarray((scene.clip(0, 1) * 255).astype("uint8")).save(path, quality=quality)
    return path.read_bytes()


@contextlib.contextmanager
def open_folder() -> Iterator[Path]:
    """A folder that servers may read that do not run as who runs the tests."""
    home = Path(tempfile.mkdtemp(prefix="plumcrate-test-"))
    home.chmod(0o777)
    try:
        yield home
    finally:
        shutil.rmtree(home, ignore_errors=True)


@dataclass
class Service:
    """A running service with its own database; workers are started and killed at will."""

    database_url: str
    state: Path
    port: int
    key: str
    client: Client
    processes: dict[str, Process] = field(default_factory=dict)
    #: Further settings, for what is started from now on.
    environment: dict[str, str] = field(default_factory=dict)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self, name: str, module: str) -> None:
        environment = (
            os.environ
            | {
                "PLUMCRATE_DATABASE_URL": self.database_url,
                "PLUMCRATE_STATE_DIR": str(self.state),
                "PLUMCRATE_PORT": str(self.port),
                "PLUMCRATE_CHILDREN": "2",
                "PLUMCRATE_IDLE_SECONDS": "1",
                "PLUMCRATE_MAX_MEGAPIXELS": "60",
                "PLUMCRATE_RETRY_SECONDS": "[0.5, 0.5, 0.5, 2, 4, 8]",
            }
            | self.environment
        )
        with (self.state / f"{name}.log").open("ab") as log:
            self.processes[name] = forker.start(
                module, environment=environment, stdout=log.fileno(), stderr=log.fileno()
            )

    def start_service(self) -> None:
        self.start("service", "plumcrate.api")
        wait_for(self._answers)

    def start_worker(self, name: str = "worker") -> None:
        self.start(name, "plumcrate.worker")

    def kill(self, name: str, number: int = signal.SIGKILL) -> None:
        """Ends one process as a power cut would: no warning, no clean-up."""
        process = self.processes.pop(name)
        process.send_signal(number)
        process.wait(120)

    def _answers(self) -> bool:
        with contextlib.suppress(ClientError):
            return self.client.health().database
        return False

    def stop(self) -> None:
        self.client.close()
        for process in self.processes.values():
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait(120)


def wait_for(condition: Callable[[], object], seconds: float = 240.0) -> None:
    """Returns as soon as the condition holds; fails when it does not within the time."""
    deadline = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < deadline, "waited too long"
        time.sleep(0.05)


@contextlib.contextmanager
def running_service(
    url: str, state: Path, *, nobody: bool = False, environment: dict[str, str] | None = None
) -> Iterator[Service]:
    """A service that runs, with a person and a key, and no worker yet. ``nobody``: without the person.
    ``environment``: further settings."""
    state.mkdir()
    database = Database(url)
    with database.begin() as session:
        _, key = new_key(session, KeyRequest(name="tests", service=True), "tests")
        if not nobody:
            new_person(session, EMAIL, "The keeper", PASSWORD, service=True)
    database.close()
    port = free_port()
    running = Service(
        url, state, port, key, Client(f"http://127.0.0.1:{port}", key), environment=environment or {}
    )
    try:
        running.start_service()
        yield running
    finally:
        running.stop()


@pytest.fixture
def service(database_url: str, tmp_path: Path) -> Iterator[Service]:
    with running_service(database_url, tmp_path / "state") as running:
        yield running

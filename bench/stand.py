"""A service and workers on loopback with a database of their own, for benches that measure the whole."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from tempfile import TemporaryDirectory

from plumcrate.client import Client, ClientError
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import KeyRequest
from plumcrate.people.keys import new_key
from plumcrate.records.database import Database
from plumcrate.records.private import PrivatePostgres, free_port


@dataclass
class Stand:
    """What runs, and how to reach it. ``home`` is a temporary folder."""

    home: Path
    database: Database
    client: Client
    key: str
    port: int
    server: PrivatePostgres
    processes: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)

    def start(self, name: str, module: str, *, children: int = 2) -> None:
        """Starts ``module`` as a process called ``name``."""
        environment = os.environ | {
            "PLUMCRATE_DATABASE_URL": self.database.url,
            "PLUMCRATE_STATE_DIR": str(self.home / "state"),
            "PLUMCRATE_PORT": str(self.port),
            "PLUMCRATE_CHILDREN": str(children),
        }
        with (self.home / f"{name}.log").open("ab") as log:
            self.processes[name] = subprocess.Popen(
                [sys.executable, "-m", module],
                env=environment,
                stdout=log,
                stderr=log,
                start_new_session=True,
            )

    def stop(self, name: str, number: int = signal.SIGKILL) -> None:
        process = self.processes.pop(name)
        with suppress(ProcessLookupError):
            os.killpg(process.pid, number)
        process.wait()

    def connect_only(self, root: Path) -> None:
        """Connects a library called ``l``."""
        self.client.libraries.connect(LibraryRequest(name="L", root=str(root), slug="l"))

    def connect(self, root: Path) -> None:
        """Connects a library called ``l`` and surveys it."""
        self.connect_only(root)
        self.client.jobs.wait(self.client.jobs.survey("l").id)

    def peak(self, name: str) -> float:
        """The most memory a process has held so far, in MB, without its children."""
        status = Path(f"/proc/{self.processes[name].pid}/status").read_text()
        (line,) = [line for line in status.splitlines() if line.startswith("VmHWM")]
        return int(line.split()[1]) / 1000


@contextmanager
def stand(*, workers: int = 1, children: int = 2) -> Iterator[Stand]:
    """A fresh stand; everything is stopped and deleted at the end."""
    with TemporaryDirectory() as folder:
        home = Path(folder)
        home.chmod(0o755)
        (home / "state").mkdir()
        server = PrivatePostgres(home / "postgres", elsewhere=True)
        database = Database(server.start())
        database.migrate()
        with database.begin() as session:
            _, key = new_key(session, KeyRequest(name="bench", service=True), "bench")
        port = free_port()
        found = Stand(home, database, Client(f"http://127.0.0.1:{port}", key, timeout=120), key, port, server)
        try:
            found.start("service", "plumcrate.api")
            for number in range(workers):
                found.start(f"worker {number}", "plumcrate.worker", children=children)
            deadline = time.monotonic() + 60
            while time.monotonic() < deadline:
                with suppress(ClientError):
                    if found.client.health().workers == workers:
                        break
                time.sleep(0.1)
            yield found
        finally:
            for name in list(found.processes):
                found.stop(name)
            database.close()
            server.remove()

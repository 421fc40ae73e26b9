"""An installation's life, from nothing, with nothing but what the wheel installed. See script/install-check.

Usage: install_check.py FOLDER, which is made and is the only place written to.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import psycopg
from PIL import Image

from plumcrate.client import Client
from plumcrate.records.private import PrivatePostgres, free_port

PROGRAM = Path(sys.executable).with_name("plumcrate")
PASSWORD = "the light turns every ten seconds"
PICTURES = 24


def say(text: str) -> None:
    print(f"  {text}", flush=True)


def picture(place: Path, seed: int) -> None:
    """A painted picture of clouds, as noise of many sizes."""
    random = np.random.default_rng(seed)
    drawn = np.zeros((360, 480, 3))
    for step in (4, 12, 40, 120):
        coarse = random.random((360 // step + 2, 480 // step + 2, 3))
        drawn += np.kron(coarse, np.ones((step, step, 1)))[:360, :480] * step
    drawn = 255 * (drawn - drawn.min()) / np.ptp(drawn)
    place.parent.mkdir(parents=True, exist_ok=True)
    Image.fromarray(drawn.astype("uint8")).save(place, quality=96)


def hashes(root: Path) -> dict[str, str]:
    """Every file below a folder but the library's identity file, by relative path, with the hash of its
    bytes.

    Work may go on meanwhile: what is gone before it is read was not there.
    """
    found: dict[str, str] = {}
    for path in root.rglob("*"):
        if path.name != ".plumcrate.id" and path.is_file():
            with contextlib.suppress(FileNotFoundError):
                found[path.relative_to(root).as_posix()] = hashlib.sha256(path.read_bytes()).hexdigest()
    return found


class House:
    """One installation: its settings, its program, its processes."""

    def __init__(self, home: Path) -> None:
        self.home = home
        home.mkdir(parents=True, exist_ok=True)
        self.port = free_port()
        self.environment = {
            "PATH": os.environ["PATH"], "HOME": str(home), "PLUMCRATE_SETTINGS": str(home / "settings.toml"),
        }  # fmt: skip
        self.settings: dict[str, Any] = {"state_dir": str(home / "state"), "port": self.port, "children": 2}
        self.write()
        self.log = home / "log"

    def write(self) -> None:
        lines = [f"{name} = {json.dumps(value)}" for name, value in self.settings.items()]
        place = self.home / "settings.toml"
        place.write_text("\n".join(lines) + "\n")
        place.chmod(0o600)

    def run(self, *arguments: str, code: int = 0, stdin: str = "") -> str:
        done = subprocess.run(
            [str(PROGRAM), *arguments], env=self.environment, input=stdin, text=True, capture_output=True,
            cwd=self.home, timeout=300, check=False,
        )  # fmt: skip
        assert done.returncode == code, f"plumcrate {' '.join(arguments)}: {done.stdout}{done.stderr}"
        return done.stdout

    @contextlib.contextmanager
    def started(self) -> Iterator[subprocess.Popen[bytes]]:
        with self.log.open("ab") as log:
            process = subprocess.Popen(
                [str(PROGRAM), "start"], env=self.environment, stdout=log, stderr=log, cwd=self.home,
                stdin=subprocess.DEVNULL, start_new_session=True,
            )  # fmt: skip
        try:
            wait_for(self._up, 180)
            yield process
            if process.poll() is None:
                process.terminate()
                assert process.wait(90) == 0, "it stops when it is asked to"
        finally:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def _up(self) -> bool:
        with contextlib.suppress(httpx.HTTPError, ValueError):
            return httpx.get(f"{self.url}/api/v1/health").json()["workers"] > 0
        return False

    def use_key(self, key: str) -> None:
        self.environment |= {"PLUMCRATE_URL": self.url, "PLUMCRATE_KEY": key}


def wait_for(condition: Callable[[], bool], seconds: float) -> None:
    deadline = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < deadline, "waited too long"
        time.sleep(0.2)


def main() -> None:
    folder = Path(sys.argv[1])
    try:
        check(folder)
    finally:
        kill(folder)  # also when something was not as it should be


def check(folder: Path) -> None:
    """The whole life, in order."""
    began = time.monotonic()
    house = House(folder)
    site = folder / "site"
    for number in range(PICTURES):
        picture(site / f"2026/0{1 + number % 3}/ledge-{number:02}.jpg", number)
    originals = hashes(site)
    say(f"as user number {os.geteuid()}")

    assert '"verdict": "broken"' not in house.run("check-machine", "--json")
    assert json.loads(house.run("settings", "--json"))["port"]["from"] == str(folder / "settings.toml")
    with house.started() as process:
        link = re.search(r"link=\S+/join#([\w-]+)", house.log.read_text())
        assert link, "the first start says how the first administrator comes in"
        browser = httpx.Client(base_url=f"{house.url}/api/v1", timeout=60)
        joining = {
            "token": link[1],
            "email": "keeper@ledge.example",
            "name": "The keeper",
            "password": PASSWORD,
        }
        assert browser.post("/joining", json=joining).status_code == 201
        key = browser.post("/keys", json={"name": "check", "service": True}).json()["secret"]
        assert "<title>" in httpx.get(house.url).text, "the console is in the wheel"
        house.use_key(key)
        say("started, set up by its link, a key made")
        house.run("connect", str(site), "--name", "Ledge")
        house.run("survey", "ledge")
        first = sorted(originals)[0]
        house.run("run", "ledge", "--picture", first)
        assert hashes(site)[first] != originals[first], "a picture was treated"
        house.run("restore", "ledge", "--picture", first)
        assert hashes(site) == originals, "and put back"
        say("a picture treated, and put back byte for byte")

        # The state is saved in the middle of a run; then the machine is lost.
        house.run("run", "ledge", "--no-wait")
        wait_for(lambda: sum(hashes(site).get(name) != sha for name, sha in originals.items()) >= 3, 120)
        saving = time.time()
        house.run("save-state", str(folder / "saved"))
        kill(folder)
        process.wait(30)
    treated = sum(hashes(site).get(name) != sha for name, sha in originals.items())
    # Of what is treated after they were saved the records know nothing: its original was in the lost store.
    late = {name for name in originals if (site / name).stat().st_ctime >= saving}
    say(f"state saved during a run, and everything killed with {treated} of {PICTURES} treated")
    shutil.rmtree(folder / "state")

    elsewhere = House(folder / "elsewhere")
    brought = elsewhere.run("bring-back", str(folder / "saved"))
    assert "Brought back" in brought
    elsewhere.run("bring-back", str(folder / "saved"), code=2)  # into an empty one only
    elsewhere.use_key(key)
    with elsewhere.started():
        elsewhere.run("verify", "ledge", "--mend")
        wait_for(lambda: not open_runs(elsewhere), 240)
        elsewhere.run("restore", "ledge", "--all")
        left = {name for name, sha in hashes(site).items() if originals.get(name) != sha}
        known = {name for name in left if not any(name.startswith(other) for other in late)}
        assert not known, f"not as they were: {sorted(known)[:5]}"
        say(f"brought back elsewhere: every original restored but {len(late)} treated since it was saved")
        for number in range(PICTURES):
            picture(site / f"2026/0{1 + number % 3}/ledge-{number:02}.jpg", number)
        for copy in {name for name in hashes(site) if name not in originals}:
            (site / copy).unlink()
        elsewhere.run("survey", "ledge")

    # The records move into a PostgreSQL that has other databases.
    server = PrivatePostgres(folder / "theirs", fast=True, elsewhere=True)
    url = server.start()
    try:
        with psycopg.connect(url, autocommit=True) as session:
            session.execute("CREATE DATABASE theirs")
            session.execute("CREATE DATABASE pictures")
        base = url.rpartition("/")[0]
        with psycopg.connect(f"{base}/theirs", autocommit=True) as session:
            session.execute("CREATE TABLE libraries AS SELECT 'not ours' AS said")
        elsewhere.run("move-records", f"{base}/pictures")
        elsewhere.settings["database_url"] = f"{base}/pictures"
        elsewhere.write()
        with elsewhere.started():
            with Client(elsewhere.url, key) as client:
                assert [library.slug for library in client.libraries.all()] == ["ledge"]
            elsewhere.run("run", "ledge", "--picture", first)
            elsewhere.run("restore", "ledge", "--picture", first)
        shown = elsewhere.run("settings", "--json")
        assert server.home.joinpath("password").read_text().strip() not in shown
        elsewhere.run("administrator", "keeper@ledge.example", stdin="another password\n")
        with psycopg.connect(f"{base}/theirs") as session:
            assert session.execute("SELECT * FROM libraries").fetchall() == [("not ours",)]
            tables = session.execute("SELECT count(*) FROM pg_tables WHERE schemaname = 'public'").fetchone()
        assert tables == (1,), "the other database is as it was"
    finally:
        server.remove()
    assert hashes(site) == originals
    say("records moved beside another database, which is as it was")
    say(f"all of it in {time.monotonic() - began:.0f} s")


def open_runs(house: House) -> bool:
    with Client(house.url, house.environment["PLUMCRATE_KEY"]) as client:
        return any(run.state in ("running", "paused") for run in client.runs.page())


def kill(folder: Path) -> None:
    """Ends everything of this installation at once, as a power cut does."""
    for entry in Path("/proc").iterdir():
        if not entry.name.isdigit():
            continue
        with contextlib.suppress(OSError):
            where = (entry / "environ").read_bytes() + (entry / "cmdline").read_bytes()
            ours = (f"{folder}/state", f"{folder}/elsewhere/state", f"PLUMCRATE_SETTINGS={folder}/")
            if entry.name != str(os.getpid()) and any(name.encode() in where for name in ours):
                os.kill(int(entry.name), signal.SIGKILL)


if __name__ == "__main__":
    main()

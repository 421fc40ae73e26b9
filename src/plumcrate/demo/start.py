"""Everything the demonstration needs: PostgreSQL, library, site, service, worker, a person, a key."""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from sqlalchemy import select

from plumcrate.client import Client, ClientError
from plumcrate.contract.allowance import AllowanceSettings
from plumcrate.contract.automation import Automation, NewFiles
from plumcrate.contract.delivery import Caches, Delivery, Markup
from plumcrate.contract.descriptions import Accepting, BulkRequest, DescriptionFilter, TextSource
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.people import KeyRequest, Role
from plumcrate.contract.reports import ReportSettings
from plumcrate.people.invitations import new_person, put_grant
from plumcrate.people.keys import new_key
from plumcrate.people.passwords import hash_password
from plumcrate.records.database import Database
from plumcrate.records.private import PostgresError, PrivatePostgres, free_port
from plumcrate.records.queries.libraries import by_slug
from plumcrate.records.tables import Person

_EMAIL = "keeper@gannetledge.example"
_LIBRARY = "gannet-ledge"
_MEGAPIXELS = 800  # a month: more than the whole library has
_CREW = (
    ("mate@gannetledge.example", "The mate", Role.TREAT),
    ("journal@gannetledge.example", "The journal's editor", Role.EDIT),
    ("office@harbour.example", "The harbour office", Role.LOOK),
)


#: What is started, by the names people read.
PROGRAMS = {
    "service": "plumcrate.api",
    "worker": "plumcrate.worker",
    "site": "plumcrate.demo.site",
    "cache": "plumcrate.demo.cache",
}

#: What visitors wrote into their pictures, as what the pictures say: a beginning, with faults to be mended.
_DESCRIBED = BulkRequest(
    language="en",
    which=DescriptionFilter(),
    deed=Accepting(do="accept", sources=[TextSource.EXIF_CAPTION]),
    preview=False,
)


class DemoError(RuntimeError):
    """The demonstration cannot start; the message says why."""


class Demo:
    """The demonstration below one folder; a second start finds what the first made."""

    def __init__(self, home: Path | None = None) -> None:
        self.here = Path.cwd()
        self.home = home or self.here / ".state" / "demo"
        self.library = self.home / "library"
        self._pids = self.home / "running.json"
        self._children: dict[str, subprocess.Popen[bytes]] = {}

    def start(self, *, detach: bool) -> int:
        """Starts whatever is not running, prints where to look, and stays until Ctrl-C unless detached."""
        if self._alive():
            raise DemoError("it is running already: open its address, or stop it with script/demo --stop")
        self.home.mkdir(parents=True, exist_ok=True)
        self.paint()
        postgres = self._postgres()
        try:
            url = postgres.start()
        except PostgresError as error:
            raise DemoError(str(error)) from None
        facts = self._facts(url)
        self._spawn(url, facts)
        try:
            self._wait_until_up(facts)
            self._connect(facts)
            self._crew(url)
        except BaseException:
            self.stop()
            raise
        self._print(facts)
        if detach:
            return 0
        return self._stay()

    def paint(self) -> None:
        """Paints the library, unless it is there."""
        if self.library.exists():
            return
        from .world import build  # with all that paints; most starts find a painted library

        self.home.mkdir(parents=True, exist_ok=True)
        print("Painting the library of the Gannet Ledge Light Trust …", flush=True)
        unfinished = self.home / "library.unfinished"
        shutil.rmtree(unfinished, ignore_errors=True)
        build(unfinished)
        unfinished.rename(self.library)

    def stop(self) -> None:
        """Stops every process of the demonstration; its files stay."""
        running = self._read_pids()
        for pid in running.values():
            _end(pid)
        self._pids.unlink(missing_ok=True)
        self._postgres().stop()

    def reset(self) -> None:
        """Deletes the library, the backups and the records."""
        self._postgres().remove()
        shutil.rmtree(self.home, ignore_errors=True)
        (self.here / ".plumcrate.toml").unlink(missing_ok=True)

    def _postgres(self) -> PrivatePostgres:
        try:
            return PrivatePostgres(self.home / "postgres", elsewhere=True)
        except PostgresError as error:
            raise DemoError(str(error)) from None

    def _facts(self, url: str) -> dict[str, Any]:
        """Ports, password and key: made once, then kept."""
        place = self.home / "facts.json"
        facts: dict[str, Any] = json.loads(place.read_text()) if place.exists() else {}
        database = Database(url)
        database.migrate()
        for name, wanted in (("port", 8020), ("site_port", 8030), ("cache_port", 8040)):
            facts[name] = _port(facts.get(name, wanted))
        with database.begin() as session:
            if not session.scalar(select(Person.id).where(Person.email == _EMAIL)) or "key" not in facts:
                facts["password"] = secrets.token_urlsafe(9)
                keeper = session.scalar(select(Person).where(Person.email == _EMAIL))
                if keeper is None:
                    new_person(session, _EMAIL, "The keeper", facts["password"], service=True)
                else:
                    keeper.password_hash = hash_password(facts["password"])
                _, facts["key"] = new_key(
                    session, KeyRequest(name="script/demo", service=True), "script/demo"
                )
        database.close()
        _write_private(place, json.dumps(facts))
        config = f'url = "http://127.0.0.1:{facts["port"]}"\nkey = "{facts["key"]}"\n'
        _write_private(self.here / ".plumcrate.toml", config)
        return facts

    def _spawn(self, url: str, facts: dict[str, Any]) -> None:
        environment = os.environ | {
            "PLUMCRATE_DATABASE_URL": url,
            "PLUMCRATE_STATE_DIR": str(self.home / "state"),
            "PLUMCRATE_PORT": str(facts["port"]),
            "PLUMCRATE_OFFERED_FOLDERS": json.dumps([str(self.home)]),
            "PLUMCRATE_SITE_LIBRARY": str(self.library),
            "PLUMCRATE_SITE_HOOK": str(self.home / "hook.json"),
            "PLUMCRATE_SITE_PORT": str(facts["site_port"]),
            "PLUMCRATE_SITE_NAME": _LIBRARY,
            "PLUMCRATE_URL": f"http://127.0.0.1:{facts['port']}",
            "PLUMCRATE_KEY": facts["key"],
            "PLUMCRATE_CACHE_ORIGIN": f"http://127.0.0.1:{facts['port']}",
            # The site and what serves it are on this machine, which pages may else not reach.
            "PLUMCRATE_PAGES_ALLOWED": json.dumps(
                [f"127.0.0.1:{facts[name]}" for name in ("port", "site_port", "cache_port")]
            ),
            "PLUMCRATE_CACHE_PORT": str(facts["cache_port"]),
        }
        for name, program in PROGRAMS.items():
            with (self.home / f"{name}.log").open("ab") as log:
                self._children[name] = subprocess.Popen(
                    [sys.executable, "-m", program],
                    env=environment,
                    stdin=subprocess.DEVNULL,
                    stdout=log,
                    stderr=log,
                    start_new_session=True,
                )
        self._pids.write_text(json.dumps({name: child.pid for name, child in self._children.items()}))

    def _wait_until_up(self, facts: dict[str, Any]) -> None:
        deadline = time.monotonic() + 60
        with self._client(facts) as client:
            while True:
                for name, child in self._children.items():
                    if child.poll() is not None:
                        raise DemoError(f"the {name} stopped at once; {self.home / name}.log says why")
                try:
                    if client.health().workers:
                        return
                except ClientError:
                    pass
                if time.monotonic() > deadline:
                    raise DemoError(f"the service did not come up; see the logs in {self.home}")
                time.sleep(0.2)

    def _connect(self, facts: dict[str, Any]) -> None:
        with self._client(facts) as client:
            if not any(library.slug == _LIBRARY for library in client.libraries.all()):
                name = "Gannet Ledge Light Trust"
                client.libraries.connect(LibraryRequest(name=name, slug=_LIBRARY, root=str(self.library)))
                client.jobs.wait(client.jobs.survey(_LIBRARY).id)
                client.jobs.wait(client.jobs.read_words(_LIBRARY).id)
                client.descriptions.change(_LIBRARY, _DESCRIBED)
                # What the site's visitors upload is treated at once; the site tells of it.
                automation = Automation(new_files=NewFiles.AT_ONCE)
                address = f"http://127.0.0.1:{facts['site_port']}/media"
                # Pages fetch copies and sizes through the cache, as they would from a CDN.
                cache = f"http://127.0.0.1:{facts['cache_port']}"
                delivery = Delivery(
                    public=True,
                    address=address,
                    base=f"{cache}/media/{_LIBRARY}",
                    caches=Caches(purge=[cache], tag_header="Cache-Tag"),
                    # As every site is at first: its pages say what its authors wrote.
                    markup=Markup(rewrite=False),
                )
                client.libraries.change(_LIBRARY, LibraryChange(automation=automation, delivery=delivery))
                client.allowance.set(_LIBRARY, AllowanceSettings(amount=_MEGAPIXELS))
                client.reports.save_settings(_LIBRARY, ReportSettings(client=name, sender="Quayside Web"))
            hook = self.home / "hook.json"
            if not hook.exists():
                _write_private(hook, client.webhooks.make_incoming_secret(_LIBRARY).model_dump_json())

    def _crew(self, url: str) -> None:
        """People with a role in the library, whose passwords nobody knows: they show what roles there are."""
        database = Database(url)
        with database.begin() as session:
            library = by_slug(session, _LIBRARY)
            there = set(session.scalars(select(Person.email)))
            for email, name, role in _CREW:
                if library is not None and email not in there:
                    person = new_person(session, email, name, secrets.token_urlsafe(24))
                    put_grant(session, person.id, library.id, role)
        database.close()

    def _client(self, facts: dict[str, Any]) -> Client:
        return Client(f"http://127.0.0.1:{facts['port']}", facts["key"])

    def _print(self, facts: dict[str, Any]) -> None:
        program = os.path.relpath(Path(sys.executable).parent / "plumcrate", self.here)
        print(
            f"""
Plum Crate is up.

  Console   http://127.0.0.1:{facts["port"]}
  Sign in   {_EMAIL}
  Password  {facts["password"]}
  The site  http://127.0.0.1:{facts["site_port"]}, whose pages fetch light pictures through a small cache

Three commands to try, in this folder:
  {program} libraries
  {program} run {_LIBRARY}
  {program} savings {_LIBRARY}

Stop with Ctrl-C or script/demo --stop; start afresh with script/demo --reset.
""",
            flush=True,
        )

    def _stay(self) -> int:
        def leave(*_: object) -> None:
            raise KeyboardInterrupt

        signal.signal(signal.SIGTERM, leave)
        try:
            while self._pids.exists():
                for name, child in self._children.items():
                    if child.poll() is not None and self._pids.exists():
                        print(f"the {name} has ended; see {self.home / name}.log", file=sys.stderr)
                        self.stop()
                        return 1
                time.sleep(0.5)
        except KeyboardInterrupt:
            print("\nStopping …", flush=True)
        self.stop()
        return 0

    def _read_pids(self) -> dict[str, int]:
        if not self._pids.exists():
            return {}
        pids: dict[str, int] = json.loads(self._pids.read_text())
        return {name: pid for name, pid in pids.items() if _is_ours(pid)}

    def _alive(self) -> bool:
        return bool(self._read_pids())


def _is_ours(pid: int) -> bool:
    try:
        return b"plumcrate" in Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return False


def _end(pid: int) -> None:
    """Asks a process group to end, and insists after ten seconds."""
    for number, seconds in ((signal.SIGTERM, 10.0), (signal.SIGKILL, 2.0)):
        try:
            os.killpg(pid, number)
        except ProcessLookupError:
            return
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            with contextlib.suppress(ChildProcessError):
                os.waitpid(pid, os.WNOHANG)
            if not _is_ours(pid):
                break
            time.sleep(0.1)


def _port(wanted: int) -> int:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", wanted))
        except OSError:
            return free_port()
    return wanted


def _write_private(place: Path, text: str) -> None:
    place.touch(mode=0o600)
    place.chmod(0o600)
    place.write_text(text)

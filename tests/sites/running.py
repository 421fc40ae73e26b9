"""A real site on loopback: Wagtail behind gunicorn behind nginx, in a virtual environment of its own."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx

from plumcrate.records.private import free_port

HERE = Path(__file__).parent
PROJECT = HERE.parent.parent
#: Made by ``script/test --all`` from tests/sites/requirements.lock.
PYTHON = Path(os.environ.get("PLUMCRATE_SITE_VENV", PROJECT / ".state/site-venv")) / "bin/python"

_NGINX = """\
daemon off;
worker_processes 1;
pid {place}/nginx.pid;
error_log {place}/error.log;
events {{ }}
http {{
    access_log {place}/access.log;
    client_body_temp_path {place}/body; proxy_temp_path {place}/proxy; fastcgi_temp_path {place}/fastcgi;
    uwsgi_temp_path {place}/uwsgi; scgi_temp_path {place}/scgi;
    client_max_body_size 50m;
    include /etc/nginx/mime.types;
    {first}
    server {{
        listen 127.0.0.1:{port};
        location /static/ {{ alias {place}/static/; }}
        location /media/ {{
            alias {place}/media/;
            {second}
        }}
        location / {{
            proxy_pass http://127.0.0.1:{behind};
            proxy_set_header Host $http_host;
        }}
        {third}
    }}
}}
"""


@dataclass
class WagtailSite:
    """The site; ``plumcrate`` are its settings of the app, none as long as it is not installed."""

    place: Path
    port: int = field(default_factory=free_port)
    behind: int = field(default_factory=free_port)
    plumcrate: dict[str, Any] = field(default_factory=dict)
    processes: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)
    rules: str = ""

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    @property
    def media(self) -> Path:
        return self.place / "media"

    def manage(self, *arguments: str, environment: Mapping[str, str] | None = None) -> str:
        """Runs a command of Django's; what it printed."""
        done = subprocess.run(
            [PYTHON, "manage.py", *arguments],
            cwd=HERE / "wagtail_site",
            env=self._environment() | dict(environment or {}),
            capture_output=True,
            text=True,
            timeout=300,
        )
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    def python(self, text: str) -> str:
        """Runs a few lines within the site."""
        return self.manage("shell", "-v0", "-c", text)

    def start(self) -> None:
        """Starts gunicorn and nginx, or starts them anew with the settings and rules as they are now."""
        self.stop()
        gunicorn = [
            PYTHON,
            "-m",
            "gunicorn",
            "wsgi",
            "-b",
            f"127.0.0.1:{self.behind}",
            "-w",
            "2",
            "--threads",
            "2",
        ]
        self._start("gunicorn", gunicorn)
        first, second, third = _parts(self.rules)
        config = self.place / "nginx.conf"
        config.write_text(
            _NGINX.format(
                place=self.place, port=self.port, behind=self.behind, first=first, second=second, third=third
            )
        )
        self._start("nginx", [shutil.which("nginx") or "/usr/sbin/nginx", "-c", config, "-p", self.place])
        ends = time.monotonic() + 120
        while not self._answers():
            assert time.monotonic() < ends, (self.place / "gunicorn.log").read_text()
            time.sleep(0.2)

    def _answers(self) -> bool:
        try:
            return httpx.get(self.address, timeout=60).status_code == 200
        except httpx.TransportError:
            return False

    def stop(self) -> None:
        for process in self.processes.values():
            process.terminate()
        for process in self.processes.values():
            process.wait(30)
        self.processes.clear()

    def _start(self, name: str, command: list[Any]) -> None:
        with (self.place / f"{name}.log").open("ab") as log:
            self.processes[name] = subprocess.Popen(
                command, cwd=HERE / "wagtail_site", env=self._environment(), stdout=log, stderr=log
            )

    def _environment(self) -> dict[str, str]:
        ours = [PROJECT / "src", PROJECT / "integrations/django/src", PROJECT / "integrations/wagtail/src"]
        return os.environ | {
            "SITE_PLACE": str(self.place),
            "SITE_PLUMCRATE": json.dumps(self.plumcrate),
            "PYTHONPATH": os.pathsep.join(map(str, ours)),
        }


def _parts(rules: str) -> tuple[str, str, str]:
    """Rules for nginx, cut where they say where each part belongs."""
    parts = rules.split("# -- Part ")
    return tuple(("# " + parts[at] if at < len(parts) else "") for at in (1, 2, 3))  # type: ignore[return-value]


@contextmanager
def wagtail_site(place: Path, pictures: Path) -> Iterator[WagtailSite]:
    """A site with the pictures of a folder, and all its renditions made; nothing of ours is installed."""
    site = WagtailSite(place)
    site.media.mkdir(parents=True)
    site.manage("migrate", "-v0")
    site.manage("collectstatic", "-v0", "--noinput")
    site.manage("fill", str(pictures))
    try:
        site.start()
        httpx.get(site.address, timeout=300)  # the first visitor makes the renditions
        yield site
    finally:
        site.stop()

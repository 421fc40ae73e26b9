"""Real web servers on loopback with rules of ours: nginx, Apache httpd and Caddy from Debian's packages."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
from conftest import open_folder

from plumcrate.delivery.rules import RulesContext, Server, rules
from plumcrate.records.private import free_port

_NGINX = """\
daemon off;
worker_processes 1;
pid {home}/pid;
error_log {home}/error.log;
events {{ }}
http {{
    access_log {home}/access.log;
    client_body_temp_path {home}/body; proxy_temp_path {home}/proxy; fastcgi_temp_path {home}/fastcgi;
    uwsgi_temp_path {home}/uwsgi; scgi_temp_path {home}/scgi;
    include mime.types;
    {first}
    server {{
        listen 127.0.0.1:{port};
        root {home};
        # What many sites have, and what must not take pictures away from the rules.
        location ~* \\.(jpg|png|webp|avif)$ {{ expires 1y; }}
        location "{prefix}" {{
            alias "{root}";
            {second}
        }}
        location "{prefix}guarded/" {{
            deny all;
        }}
        {third}
    }}
}}
"""
_APACHE = """\
ServerRoot {home}
ServerName localhost
Listen 127.0.0.1:{port}
PidFile {home}/pid
ErrorLog {home}/error.log
LogFormat "%h %l %u %t \\"%r\\" %>s %b" common
{modules}
TypesConfig /etc/mime.types
DocumentRoot {home}/www
CustomLog {home}/access.log common
Alias "{prefix}" "{root}"
<Directory "{above}">
    Require all granted
    AllowOverride FileInfo
</Directory>
"""
_MODULES = ("mpm_event", "authz_core", "mime", "alias", "rewrite", "headers", "dir")
_CADDY = """\
{{
	admin off
	auto_https off
	storage file_system {home}
}}
http://127.0.0.1:{port} {{
	handle_path "{prefix}guarded/*" {{
		error 403
	}}
	handle_path "{prefix}*" {{
		root * "{folder}"
		{rules}
		file_server
	}}
}}
"""


class Origin(str):
    """A server's address; ``log`` is its access log."""

    log: Path


@contextlib.contextmanager
def serving(server: Server, ground: RulesContext) -> Iterator[Origin]:
    """The origin of a real server with the rules for a library; stopped at the end."""
    with open_folder() as home:
        port = free_port()
        command = _WRITERS[server](home, port, ground)
        with _running(command, home, port):
            origin = Origin(f"http://127.0.0.1:{port}")
            origin.log = home / "access.log"
            yield origin


def _nginx(home: Path, port: int, ground: RulesContext) -> list[str]:
    first, second, third = ([*re.split("(?=# -- Part [23])", rules(Server.NGINX, ground)), ""])[:3]
    shutil.copy("/etc/nginx/mime.types", home)
    text = _NGINX.format(
        home=home, port=port, prefix=ground.prefix, root=ground.root, first=first, second=second, third=third
    )
    (home / "nginx.conf").write_text(text)
    return ["/usr/sbin/nginx", "-e", f"{home}/error.log", "-p", str(home), "-c", f"{home}/nginx.conf"]


def _apache(home: Path, port: int, ground: RulesContext) -> list[str]:
    (home / "www").mkdir()
    Path(ground.folder, ".htaccess").write_text(rules(Server.APACHE, ground))
    guard = 'RewriteEngine On\nRewriteCond "%{REQUEST_URI}" "/guarded/"\nRewriteRule "" - [F]\n'
    Path(ground.folder).parent.joinpath(".htaccess").write_text(guard)
    loaded = "\n".join(
        f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in _MODULES
    )
    text = _APACHE.format(
        home=home,
        port=port,
        modules=loaded,
        prefix=ground.prefix,
        root=ground.root,
        above=Path(ground.folder).parent,
    )
    (home / "apache.conf").write_text(text)
    return ["/usr/sbin/apache2", "-f", f"{home}/apache.conf", "-D", "FOREGROUND"]


def _caddy(home: Path, port: int, ground: RulesContext) -> list[str]:
    written = rules(Server.CADDY, ground).replace("\n", "\n\t")
    text = _CADDY.format(home=home, port=port, rules=written, prefix=ground.prefix, folder=ground.folder)
    (home / "Caddyfile").write_text(text)
    return ["/usr/bin/caddy", "run", "--config", f"{home}/Caddyfile", "--adapter", "caddyfile"]


_WRITERS = {Server.NGINX: _nginx, Server.APACHE: _apache, Server.CADDY: _caddy}


@contextlib.contextmanager
def _running(command: list[str], home: Path, port: int) -> Iterator[None]:
    as_nobody = {"user": "nobody", "group": "nogroup", "extra_groups": []} if os.geteuid() == 0 else {}
    environment = {"PATH": os.environ["PATH"], "HOME": str(home), "XDG_DATA_HOME": str(home)}
    with (home / "output.log").open("wb") as log:
        child = subprocess.Popen(command, stdout=log, stderr=log, env=environment, cwd=home, **as_nobody)  # type: ignore[call-overload]
    try:
        deadline = time.monotonic() + 120
        while True:
            try:
                httpx.get(f"http://127.0.0.1:{port}/", timeout=1)
                break
            except httpx.TransportError:
                said = (home / "output.log").read_text()
                assert child.poll() is None, said
                assert time.monotonic() < deadline, said
                time.sleep(0.05)
        yield
    finally:
        child.terminate()
        child.wait(60)

"""What a stranger may try, signed in or not: each gets a plain refusal, and nothing happens.

One service for all of them, so that it is also seen to have lived through every one.
"""

import asyncio
import base64
import hmac
import json
import os
import socket
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.parse import quote

import httpx
import psycopg
import pytest
from conftest import (
    EMAIL,
    PASSWORD,
    Service,
    hashes,
    photograph,
    running_service,
    wait_for,
)
from databases import Postgres

from plumcrate.client import Client, ProblemError
from plumcrate.contract.automation import Automation
from plumcrate.contract.jobs import CheckRequest, ForecastRequest
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.people import KeyRequest
from plumcrate.contract.runs import RunKind, RunRequest

SVG = b'<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script></svg>'


@pytest.fixture(scope="module")
def one_service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """A connected library, and no worker: whatever happens, the requests did it."""
    home = tmp_path_factory.mktemp("attacked")
    photograph(home / "site/a.jpg")
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site")))
        yield running


@pytest.fixture
def root(one_service: Service) -> Path:
    return one_service.state.with_name("site")


@pytest.fixture
def attacked(one_service: Service, root: Path) -> Iterator[Service]:
    before = hashes(root)
    log = one_service.state / "service.log"
    start = log.stat().st_size
    yield one_service
    assert one_service.client.health().database, "the service is there as before"
    assert hashes(root) == before, "nothing was written to the library"
    said = log.read_bytes()[start:].decode()
    for secret in (one_service.key, PASSWORD, "hunter2", "plum:"):
        assert secret not in said
    assert "Traceback" not in said
    assert len(said) < 20_000


def code_of(answer: httpx.Response) -> str:
    return str(answer.json()["type"]).rpartition(":")[2]


def raw(service: Service, request: bytes, seconds: float = 10) -> bytes:
    """What comes back to bytes that no client of ours would send."""
    with socket.create_connection(("127.0.0.1", service.port), seconds) as connection:
        connection.sendall(request)
        connection.settimeout(seconds)
        found = b""
        while True:
            try:
                part = connection.recv(65_536)
            except (TimeoutError, ConnectionResetError):
                return found
            if not part:
                return found
            found += part


def status(answer: bytes) -> int:
    return int(answer.split(b" ", 2)[1])


NAMES = {
    "shell.php%00.jpg": 400,
    "a%0d%0ab.jpg": 400,
    "a%1b[2J.jpg": 400,
    "%ff.jpg": 400,
    "a.jpg%00": 400,
    "shell.php": 422,
    ".hidden.jpg": 422,
    "a/.plumcrate-0123.jpg": 422,
    ".plumcrate.id": 422,
    "%2e%2e/outside.jpg": 422,
    "a/%2e%2e/%2e%2e/outside.jpg": 422,
    "%2fetc/passwd.jpg": 422,
    "a%5cb.jpg": 422,
    "x" * 256 + ".jpg": 422,
    "%f0%9f%98%80/" * 660 + "a.jpg": 400,
    "a%20/b.jpg": 422,
    "cafe%cc%81.jpg": 422,
    "a%2fb.php": 422,
    "page.html": 422,
    "a.svg": 422,
    "double.jpg.exe": 422,
}


@pytest.mark.parametrize("name", NAMES)
def test_names_of_uploads(attacked: Service, name: str) -> None:
    data = photograph(attacked.state / "u.jpg")
    head = f"PUT /api/v1/libraries/ledge/files/{name} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n"
    key = f"Authorization: Bearer {attacked.key}\r\nContent-Length: {len(data)}\r\n\r\n"
    assert status(raw(attacked, (head + key).encode() + data)) == NAMES[name]


@pytest.mark.parametrize(
    ("name", "data"),
    [
        ("a.png", b"\xff\xd8\xff\xe0" + b"x" * 100),
        ("evil.svg", SVG),
        ("page.jpg", b"<html><script>"),
        ("huge.avif", b"\x7f\xff\xff\xff" + b"ftypavif" * 200_000),
        ("empty.jpg", b""),
        (
            "sides.png",
            b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR"
            + b"\xff" * 8
            + b"\x08\x02\0\0\0"
            + b"\0" * 4
            + b"\0\0\0\0IDAT"
            + b"\0" * 4,
        ),
    ],
)
def test_contents_of_uploads(attacked: Service, name: str, data: bytes) -> None:
    with pytest.raises(ProblemError) as caught:
        attacked.client.pictures.upload("ledge", name, data)
    assert caught.value.code == "not-a-picture"


def test_an_upload_that_is_cut_off_leaves_nothing(attacked: Service) -> None:
    head = "PUT /api/v1/libraries/ledge/files/cut.jpg HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer "
    with socket.create_connection(("127.0.0.1", attacked.port)) as connection:
        connection.sendall(
            f"{head}{attacked.key}\r\nContent-Length: 100000\r\n\r\n".encode() + b"\xff\xd8\xff" * 1000
        )
    time.sleep(0.3)


UNSIGNED = [
    ("GET", "/%00", None),
    ("GET", "/" + "x" * 300, None),
    ("GET", "/" + "%ff" * 10, None),
    ("GET", "/api/v1/libraries/%00", None),
    ("POST", "/api/v1/hooks/%00", b"{}"),
    ("POST", "/api/v1/hooks/" + "y" * 300, b"{}"),
    ("POST", "/api/v1/session", b""),
    ("POST", "/api/v1/session", b"\xff\xfe"),
    ("POST", "/api/v1/session", b"[" * 100_000),
    ("POST", "/api/v1/session", b'{"email": "a\\u0000b", "password": "hunter2"}'),
    ("POST", "/api/v1/session", b'{"email": "\\ud800", "password": "hunter2"}'),
    ("POST", "/api/v1/session", b'{"email": "x", "password": "hunter2\\u0000"}'),
    ("POST", "/api/v1/session", b'{"email": 9e999, "password": {}}'),
    ("PATCH", "/api/v1/session", b"{}"),
    ("DELETE", "/api/v1/nothing", None),
    ("GET", "/api/v1/openapi.json?" + "q=1&" * 5_000, None),
    ("OPTIONS", "/api/v1/libraries", None),
]


@pytest.mark.parametrize("number", range(len(UNSIGNED)))
def test_bytes_of_strangers_get_an_answer_of_the_4xx(attacked: Service, number: int) -> None:
    method, path, body = UNSIGNED[number]
    head = (
        f"{method} {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: {len(body or b'')}\r\n"
    )
    answer = raw(attacked, f"{head}Content-Type: application/json\r\n\r\n".encode("latin-1") + (body or b""))
    got = status(answer)
    assert 400 <= got < 500 or (method == "GET" and path.startswith("/x") and got == 200)
    assert b"x-content-type-options: nosniff" in answer.lower() or got == 400


def test_odd_headers(attacked: Service) -> None:
    for headers in (
        b"Cookie: plumcrate_session=\xff\xfe",
        b"Authorization: Bearer \xff",
        b"Authorization: Bearer",
        b"webhook-signature: v1,\xe4\xf6\r\nwebhook-id: 1\r\nwebhook-timestamp: 1",
        b"Cookie: " + b"a=b; " * 2000,
        b"Origin: \xff",
        b"Accept: " + b"x," * 20_000,
    ):
        for line in (b"GET /api/v1/keys", b"POST /api/v1/hooks/ledge"):
            request = line + b" HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: 2\r\n" + headers
            assert 400 <= status(raw(attacked, request + b"\r\n\r\n{}")) < 500, headers[:30]


def test_nobody_reads_a_body_before_somebody_signed_in(attacked: Service) -> None:
    """Each says that a gigabyte comes; the answer is there before the first byte of it."""
    for method, path in (
        ("POST", "/api/v1/libraries"),
        ("PUT", "/api/v1/libraries/ledge/files/a2.jpg"),
        ("POST", "/api/v1/session"),
        ("POST", "/api/v1/hooks/ledge"),
        ("POST", "/api/v1/runs"),
    ):
        head = f"{method} {path} HTTP/1.1\r\nHost: x\r\nContent-Length: 1000000000\r\n\r\n"
        answer = raw(attacked, head.encode(), 5)
        assert status(answer) in (401, 413), path


def test_bodies_without_a_stated_length_end_at_the_limit(attacked: Service) -> None:
    def endless() -> Iterator[bytes]:
        for _ in range(100):
            yield b" " * 100_000

    with httpx.Client(base_url=f"{attacked.url}/api/v1", headers=key(attacked)) as plain:
        try:
            answer = plain.post("/runs", content=endless(), headers={"Content-Type": "application/json"})
            assert answer.status_code == 413
        except httpx.WriteError:
            pass  # the connection was closed in the middle, which is an answer too


def key(service: Service) -> dict[str, str]:
    return {"Authorization": f"Bearer {service.key}"}


@pytest.mark.parametrize("number", ["9223372036854775808", "-1", "0", "1e3", "%20", "99999999999999999999"])
def test_numbers_that_no_record_has(attacked: Service, number: str) -> None:
    with httpx.Client(base_url=f"{attacked.url}/api/v1", headers=key(attacked)) as plain:
        for path in ("pictures", "runs", "surveys", "checks", "forecasts", "files"):
            suffix = "/content" if path == "files" else ""
            assert plain.get(f"/{path}/{number}{suffix}").status_code in (404, 422), path
        body = {"library": "ledge", "scope": {"pictures": [int(number)] if number.isdigit() else [number]}}
        assert plain.post("/runs", json=body).status_code == 422
        assert plain.get(f"/libraries/ledge/pictures?offset={number}").status_code in (200, 422)


@pytest.mark.parametrize("text", ["a\0b", "\x1b[2J", "\ud800"])
def test_text_that_is_none(attacked: Service, text: str) -> None:
    with httpx.Client(base_url=f"{attacked.url}/api/v1", headers=key(attacked)) as plain:
        for path, body in (
            ("/libraries", {"name": text, "root": "/tmp"}),
            ("/libraries", {"name": "x", "root": f"/{text}"}),
            ("/keys", {"name": text}),
            ("/runs", {"library": text}),
            ("/runs", {"library": "ledge", "scope": {"folder": text}}),
        ):
            content = json.dumps(body).encode()
            answer = plain.post(path, content=content, headers={"Content-Type": "application/json"})
            assert (answer.status_code, code_of(answer)) == (422, "invalid-request"), path
        answer = plain.patch(
            "/libraries/ledge", content=json.dumps({"patterns": [text + "{stem}{ext}"]}).encode()
        )
        assert answer.status_code == 422
        quoted = quote(text.encode("utf-8", "surrogatepass"))
        assert plain.get(f"/libraries/ledge/pictures?search={quoted}").status_code == 400


def test_guessing_at_once_is_no_more_than_guessing_one_after_another(attacked: Service) -> None:
    def guess(number: int) -> int:
        headers = {"X-Forwarded-For": f"10.0.0.{number}"}  # nobody asked this proxy
        body = {"email": EMAIL, "password": f"hunter2-{number}"}
        return httpx.post(
            f"{attacked.url}/api/v1/session", json=body, headers=headers, timeout=60
        ).status_code

    with ThreadPoolExecutor(30) as pool:
        answers = list(pool.map(guess, range(60)))
    assert answers.count(401) <= 10
    assert set(answers) <= {401, 429, 503}


def test_an_account_is_guarded_also_from_many_addresses() -> None:
    from plumcrate.people.attempts import Attempts
    from plumcrate.refusal import Refusal

    attempts = Attempts(most=10, most_an_account=30)
    for number in range(30):
        attempts.begin(f"10.0.0.{number}", EMAIL)
    with pytest.raises(Refusal) as caught:
        attempts.begin("10.0.1.1", EMAIL)
    assert caught.value.code == "too-many-attempts"
    attempts.begin("10.0.1.1", "somebody@else.example")
    for number in range(40_000):
        attempts.begin(f"172.16.{number // 250}.{number % 250}", f"p{number}@x.example")
    with pytest.raises(Refusal):
        attempts.begin("10.0.1.2", EMAIL)


def test_a_known_browsers_cookie_counts_once_however_it_is_written(service: Service) -> None:
    """Base64 is decoded leniently: padding and characters outside its alphabet change the text, and nothing
    else."""
    with httpx.Client(base_url=f"{service.url}/api/v1") as browser:
        assert browser.post("/session", json={"email": EMAIL, "password": PASSWORD}).status_code == 200
        known = {name: value for name, value in browser.cookies.items() if "known" in name}
    ((name, token),) = known.items()
    written = [token[:place] + character + token[place:] for character in "!~" for place in range(4, 40, 2)]

    def guess(text: str) -> int:
        body = {"email": EMAIL, "password": "not this one"}
        headers = {"Cookie": f"{name}={text}"}
        return httpx.post(f"{service.url}/api/v1/session", json=body, headers=headers).status_code

    answers = [guess(text) for text in written]
    assert answers.count(401) <= 20, "ten as the browser that it is, ten as a stranger"
    assert set(answers[20:]) == {429}


def test_hooks_tell_nobody_which_libraries_there_are(attacked: Service) -> None:
    def send(slug: str, secret: str = "whsec_" + base64.b64encode(b"x" * 32).decode()) -> tuple[int, str]:
        body, stamp = b'{"type": "x", "data": {"paths": []}}', str(int(time.time()))
        mac = hmac.digest(
            base64.b64decode(secret.removeprefix("whsec_")), f"1.{stamp}.".encode() + body, "sha256"
        )
        headers = {
            "webhook-id": "1",
            "webhook-timestamp": stamp,
            "webhook-signature": "v1," + base64.b64encode(mac).decode(),
        }
        answer = httpx.post(f"{attacked.url}/api/v1/hooks/{slug}", content=body, headers=headers)
        told = answer.json()
        told.pop("instance", None)  # of the request itself
        return answer.status_code, told

    without_secret = send("ledge")
    hook = attacked.client.webhooks.make_incoming_secret("ledge")
    assert without_secret == send("ledge") == send("nowhere") == (401, send("elsewhere")[1])
    assert send("ledge", hook.secret)[0] == 202


def test_a_hook_with_names_that_cannot_be(attacked: Service) -> None:
    hook = attacked.client.webhooks.make_incoming_secret("ledge")
    paths = ["x" * 300 + ".jpg", "a/" * 1500 + "b.jpg", "../../etc/passwd", "a\\u0000b.jpg", "ok.jpg"]
    body = json.dumps({"type": "x", "data": {"paths": paths}}).encode()
    stamp = str(int(time.time()))
    secret = base64.b64decode(hook.secret.removeprefix("whsec_"))
    mac = base64.b64encode(hmac.digest(secret, f"m1.{stamp}.".encode() + body, "sha256")).decode()
    headers = {"webhook-id": "m1", "webhook-timestamp": stamp, "webhook-signature": f"v1,{mac}"}
    with psycopg.connect(attacked.database_url, autocommit=True) as session:  # as it was kept before
        plain = hook.secret.encode()
        session.execute("UPDATE libraries SET hook_secret = %s WHERE slug = 'ledge'", [plain])
        answer = httpx.post(hook.url, content=body, headers=headers)
        assert answer.json() == {"taken": 2, "repeated": False}
        row = session.execute("SELECT hook_secret FROM libraries WHERE slug = 'ledge'").fetchone()
        assert row is not None
        assert plain not in bytes(row[0]), "it is sealed when it is first used"
    assert httpx.post(hook.url, content=body, headers=headers).json()["repeated"]


def test_a_revoked_key_hears_no_more(attacked: Service) -> None:
    made = attacked.client.keys.make(KeyRequest(name="gone soon"))
    heard: list[str] = []

    def follow() -> None:
        headers = {"Authorization": f"Bearer {made.secret}"}
        with httpx.stream("GET", f"{attacked.url}/api/v1/events", headers=headers, timeout=60) as stream:
            heard.append(str(stream.status_code))
            for _ in stream.iter_lines():
                pass
        heard.append("ended")

    reader = threading.Thread(target=follow, daemon=True)
    reader.start()
    wait_for(lambda: heard == ["200"])
    with httpx.Client(base_url=f"{attacked.url}/api/v1", headers=key(attacked)) as plain:
        assert plain.delete(f"/keys/{made.id}").status_code == 204
    wait_for(lambda: heard == ["200", "ended"])


def test_who_only_looks_costs_the_machine_nothing(attacked: Service) -> None:
    made = attacked.client.keys.make(KeyRequest(name="a client's report"))
    with Client(attacked.url, made.secret) as looker:
        for call in (
            lambda: looker.jobs.forecast("ledge", ForecastRequest(seconds=3600)),
            lambda: looker.jobs.check("ledge", CheckRequest()),
            lambda: looker.jobs.survey("ledge"),
            lambda: looker.backups.rescue("ledge", 1, None),  # type: ignore[arg-type]
        ):
            with pytest.raises(ProblemError) as caught:
                call()
            assert caught.value.code == "not-allowed"
        with pytest.raises(ProblemError) as caught:
            looker.jobs.stop(1)
        assert caught.value.code == "not-found", "there is none; of what is there see test_separation"


def test_forecasts_and_checks_one_at_a_time_and_with_an_end(attacked: Service) -> None:
    client = attacked.client
    forecast = client.jobs.forecast("ledge", ForecastRequest(seconds=3600))
    check = client.jobs.check("ledge", CheckRequest())
    with psycopg.connect(attacked.database_url) as connection:
        jobs = connection.execute(
            "SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'run-job'"
        ).fetchone()
        rows = connection.execute("SELECT queued_id FROM jobs WHERE state = 'waiting'").fetchall()
    assert jobs == (2,)
    assert None not in {row[0] for row in rows}, "the job's number is known, so it is not queued twice"
    for call, code in (
        (lambda: client.jobs.forecast("ledge", ForecastRequest()), "job-open"),
        (lambda: client.jobs.check("ledge", CheckRequest()), "job-open"),
    ):
        with pytest.raises(ProblemError) as caught:
            call()
        assert caught.value.code == code
    assert client.jobs.stop(forecast.id).state == "stopped"
    assert client.jobs.stop(check.id).state == "stopped"
    with pytest.raises(ProblemError) as caught:
        client.jobs.stop(check.id)
    assert caught.value.code == "ended"
    again = client.jobs.check("ledge", CheckRequest())
    assert again.id > check.id
    client.jobs.stop(again.id)


def test_two_folders_that_overlap_connected_at_once(attacked: Service, tmp_path: Path) -> None:
    for turn in range(6):
        outer = tmp_path / f"outer{turn}"
        (outer / "inner").mkdir(parents=True)

        def connect(folder: Path) -> str:
            try:
                with Client(attacked.url, attacked.key) as client:
                    return client.libraries.connect(LibraryRequest(name=folder.name, root=str(folder))).slug
            except ProblemError as error:
                return error.code

        with ThreadPoolExecutor(2) as pool:
            found = list(pool.map(connect, (outer, outer / "inner")))
        assert found.count("library-overlaps") == 1, found
        for slug in set(found) - {"library-overlaps"}:
            attacked.client.libraries.disconnect(slug)


def test_a_library_is_not_disconnected_while_something_is_under_way(attacked: Service, root: Path) -> None:
    client = attacked.client
    client.runs.start(RunRequest(library="ledge"))
    survey = client.jobs.survey("ledge")
    with pytest.raises(ProblemError) as caught:
        client.libraries.disconnect("ledge")
    assert (caught.value.code, "a survey" in str(caught.value)) == ("library-busy", True)
    with psycopg.connect(attacked.database_url, autocommit=True) as connection:
        connection.execute(
            "UPDATE jobs SET state = 'finished', finished_at = now() WHERE id = %s", [survey.id]
        )
        connection.execute(
            "INSERT INTO journal (library_id, action, path, staged, detail) "
            "SELECT id, 'upload', 'x.jpg', '.plumcrate-0', '{}' FROM libraries"
        )
        with pytest.raises(ProblemError) as caught:
            client.libraries.disconnect("ledge")
        assert "not settled" in str(caught.value)
        connection.execute("DELETE FROM journal")
        connection.execute("UPDATE runs SET state = 'stopped'")
        connection.execute("UPDATE jobs SET state = 'waiting', finished_at = NULL WHERE id = %s", [survey.id])
        with pytest.raises(ProblemError) as caught:
            client.libraries.disconnect("ledge")
        assert "a survey" in str(caught.value)
        connection.execute("UPDATE jobs SET state = 'stopped', finished_at = now()")
    client.libraries.disconnect("ledge")
    assert client.libraries.all() == []
    assert os.listdir(root) == ["a.jpg"]
    client.libraries.connect(LibraryRequest(name="Ledge", root=str(root)))


def test_a_stopped_run_is_not_revived(attacked: Service) -> None:
    client = attacked.client
    run = client.runs.start(RunRequest(library="ledge", kind=RunKind.HAND_BACK, confirm="ledge"))
    client.runs.stop(run.id)
    with pytest.raises(ProblemError) as caught:
        client.runs.retry(run.id)
    assert caught.value.code == "run-ended"


@pytest.mark.parametrize(
    "schedule", ["0 0 30 2 *", "* * * *", "61 * * * *", "0 0 31 4 *", "x" * 500, "@reboot"]
)
def test_times_that_never_come(attacked: Service, schedule: str) -> None:
    with pytest.raises(ProblemError) as caught:
        attacked.client.libraries.change("ledge", LibraryChange(automation=Automation(run_schedule=schedule)))
    assert caught.value.code == "invalid-request"


def test_every_answer_bears_its_headers_and_runs_no_foreign_script(attacked: Service) -> None:
    with httpx.Client(base_url=attacked.url, headers=key(attacked)) as plain:
        for path in ("/", "/api/v1/health", "/api/v1/libraries", "/api/v1/nothing", "/api/v1/docs", "/l/x"):
            answer = plain.get(path)
            for name in (
                "x-content-type-options",
                "x-frame-options",
                "content-security-policy",
                "referrer-policy",
            ):
                assert name in answer.headers, (path, name)
            assert "server" not in answer.headers
            assert "https://" not in answer.text or path != "/api/v1/docs"
        bare = httpx.get(f"{attacked.url}/api/v1/libraries")
        assert (bare.status_code, "x-frame-options" in bare.headers) == (401, True)


def test_under_tls_the_cookie_is_bound_to_the_host() -> None:
    from fastapi import Response

    from plumcrate.api import auth
    from plumcrate.settings import Settings

    settings = Settings(database_url="postgresql://x@127.0.0.1/x", secure_cookies=True)
    response = Response()
    auth.give_session(response, settings, "t")
    cookie = response.headers["set-cookie"]
    assert cookie.startswith("__Host-plumcrate_session=t;")
    for word in ("Secure", "HttpOnly", "SameSite=strict", "Path=/"):
        assert word in cookie
    assert "Domain" not in cookie


def ask(app: Any, method: str, url: str, **more: Any) -> httpx.Response:
    """One request to an application, without a server."""

    async def once() -> httpx.Response:
        transport = httpx.ASGITransport(app, raise_app_exceptions=False)
        async with httpx.AsyncClient(transport=transport) as client:
            return await client.request(method, url, **more)

    return asyncio.run(once())


def test_only_hosts_that_are_named(database_url: str, tmp_path: Path) -> None:
    from plumcrate.api.app import create_app
    from plumcrate.settings import Settings

    settings = Settings(database_url=database_url, state_dir=tmp_path, allowed_hosts=["pictures.example"])
    app = create_app(settings)
    for host, expected in (("pictures.example", 200), ("pictures.example:443", 200), ("evil.example", 400)):
        answer = ask(app, "GET", f"http://{host}/api/v1/docs")
        assert answer.status_code == expected, host


def test_slow_connections_are_closed_and_others_are_served(attacked: Service) -> None:
    """More than may be open from one address, each with half a request."""
    held = []
    try:
        for _ in range(260):
            connection = socket.create_connection(("127.0.0.1", attacked.port), 5)
            connection.sendall(b"GET / HTTP/1.1\r\nHost: x\r\nX-Slow: ")
            held.append(connection)
        time.sleep(0.5)
        closed = sum(_is_closed(connection) for connection in held)
        assert closed >= 60, "no more than two hundred from one address"
        wait_for(lambda: sum(_is_closed(connection) for connection in held) == len(held))
    finally:
        for connection in held:
            connection.close()


def _is_closed(connection: socket.socket) -> bool:
    connection.setblocking(False)
    try:
        return connection.recv(1, socket.MSG_PEEK) == b""
    except BlockingIOError:
        return False
    except OSError:
        return True


def test_requests_that_meet_in_the_database_are_done_once_more() -> None:
    from fastapi import FastAPI
    from psycopg.errors import DeadlockDetected
    from sqlalchemy.exc import OperationalError

    from plumcrate.api import problems
    from plumcrate.api.routers.deps import router_of

    tries: list[int] = []
    router = router_of("t")

    @router.post("/meet/{times}")
    def meet(times: int, body: dict[str, int]) -> int:
        tries.append(body["x"])
        if len(tries) <= times:
            raise OperationalError("UPDATE", {}, DeadlockDetected("deadlock detected"))
        return len(tries)

    app = FastAPI()
    problems.install(app)
    app.include_router(router)
    assert ask(app, "POST", "http://x/meet/1", json={"x": 5}).json() == 2
    tries.clear()
    answer = ask(app, "POST", "http://x/meet/9", json={"x": 5})
    assert (answer.status_code, code_of(answer), len(tries)) == (503, "busy", 2)

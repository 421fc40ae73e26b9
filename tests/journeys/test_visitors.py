"""What visitors get, through every way a site can take: the service, pages with markup, the real nginx,
Apache and Caddy, and a cache between them."""

from __future__ import annotations

import contextlib
import gzip
import json
import os
import shutil
import sys
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote

import httpx
import pytest
import uvicorn
from conftest import Service, open_folder, photograph, running_service, wait_for
from databases import Postgres
from forks import forker
from playwright.sync_api import sync_playwright
from test_console import CHROMIUM

sys.path.insert(0, str(Path(__file__).parents[1] / "delivery"))

from servers import serving

from plumcrate.client import Client
from plumcrate.client.pages import SitePages, WsgiPages
from plumcrate.contract.delivery import AskRequest, Caches, Delivery, Markup, Placeholder
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.runs import RunKind, RunRequest, Scope
from plumcrate.delivery.asking import ACCEPT
from plumcrate.delivery.rules import RulesContext, Server
from plumcrate.demo.cache import Cache
from plumcrate.demo.site import create_site
from plumcrate.records.private import free_port

NAMES = ("2026/headland.jpg", "2026/headland-320w.jpg", "2026/Übersicht & 50%.jpg", "2026/headland-two.jpg")
HEADLAND = NAMES[0]
KINDS = {"old": "image/jpeg", "webp": "image/webp", "avif": "image/avif"}


@dataclass
class Ledge:
    """A treated library on a folder that every server may read, its service, and its site."""

    service: Service
    root: Path
    site: str
    pages: SitePages

    @property
    def client(self) -> Client:
        return self.service.client

    def change(self, **settings: object) -> None:
        self.client.libraries.change("ledge", LibraryChange(delivery=Delivery.model_validate(settings)))
        time.sleep(2.1)  # for so long the service remembers how it serves

    def restore(self, path: str) -> None:
        picture = next(each for each in self.client.pictures.each("ledge") if each.path == path)
        request = RunRequest(library="ledge", kind=RunKind.RESTORE, scope=Scope(pictures=[picture.id]))
        assert self.client.runs.wait(self.client.runs.start(request).id).failed == 0

    def treat(self) -> None:
        run = self.client.runs.wait(self.client.runs.start(RunRequest(library="ledge", force=True)).id)
        assert run.failed == 0


@contextlib.contextmanager
def running(app: object, port: int) -> Iterator[str]:
    """An ASGI application on loopback, in a thread."""
    server = uvicorn.Server(uvicorn.Config(app, port=port, log_level="warning", lifespan="off"))  # type: ignore[arg-type]
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    wait_for(lambda: server.started)
    yield f"http://127.0.0.1:{port}"
    server.should_exit = True
    thread.join(10)


def listed(url: str, state: Path) -> contextlib.AbstractContextManager[Service]:
    """A service that may ask this machine's own addresses: the site and the cache are there."""
    return running_service(url, state, environment={"PLUMCRATE_PAGES_ALLOWED": '["127.0.0.1"]'})


@pytest.fixture(scope="module")
def ledge(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Ledge]:
    state = tmp_path_factory.mktemp("visited") / "state"
    with open_folder() as home, postgres.fresh() as url, listed(url, state) as service:
        root = home / "library"
        # A painting of which all three forms pay, at these sizes.
        for name, width in zip(NAMES, (520, 320, 480, 500), strict=True):
            photograph(root / name, width, width * 2 // 3, seed=13)
        service.start_worker()
        service.client.libraries.connect(LibraryRequest(name="Ledge", root=str(root)))
        service.client.jobs.wait(service.client.jobs.survey("ledge").id)
        client = Client(service.url, service.key, timeout=60)
        pages = SitePages(client, "ledge", seconds=0.2)
        port = free_port()
        with running(create_site(root, pages=pages), port) as site:
            found = Ledge(service, root, site, pages)
            found.change(
                public=True,
                max_age=600,
                address=f"{site}/media",
                markup={"eager": 1, "elements": True, "dimensions": True},
            )
            found.treat()
            yield found


@pytest.fixture
def plumcrate(ledge: Ledge, tmp_path: Path) -> Callable[..., str]:
    environment = os.environ | {"PLUMCRATE_URL": ledge.service.url, "PLUMCRATE_KEY": ledge.service.key}

    def run(*arguments: str, code: int = 0, given: bytes = b"") -> str:
        done = forker.run(
            "plumcrate",
            arguments,
            environment=environment | {"COLUMNS": "140"},
            cwd=tmp_path,
            input=given,
        )
        said = done.stdout + done.stderr
        assert done.returncode == code, said
        return said

    return run


def ground_of(ledge: Ledge) -> RulesContext:
    return RulesContext("Ledge", str(ledge.root), "https://ledge.example/media", ("avif", "webp"), 600)


@contextlib.contextmanager
def way(name: str, ledge: Ledge) -> Iterator[str]:
    """Where the library's folder is served by one way."""
    if name == "service":
        yield f"{ledge.service.url}/media/ledge"
        return
    with serving(Server(name), ground_of(ledge)) as origin:
        yield f"{origin}/media"
    (ledge.root / ".htaccess").unlink(missing_ok=True)


WAYS = ("service", "nginx", "apache", "caddy")


def fetch(address: str, browser: str, **headers: str) -> httpx.Response:
    accept = ACCEPT[browser]  # type: ignore[index]
    return httpx.get(
        address, headers={"Accept": accept} | {k.replace("_", "-"): v for k, v in headers.items()}
    )


@pytest.mark.parametrize(
    "name", [pytest.param(name, marks=[pytest.mark.slow] * (name != "service")) for name in WAYS]
)
def test_each_browser_gets_its_form_and_a_restored_file_is_served_at_once(ledge: Ledge, name: str) -> None:
    with way(name, ledge) as origin:
        for path in NAMES:
            for browser, kind in KINDS.items():
                answer = fetch(f"{origin}/{quote(path)}", browser)
                assert (answer.status_code, answer.headers["content-type"]) == (200, kind), (path, browser)
                copy = "" if browser == "old" else f".{browser}"
                assert answer.content == Path(f"{ledge.root / path}{copy}").read_bytes()
                assert "accept" in answer.headers["vary"].lower()
        light = (ledge.root / HEADLAND).read_bytes()
        ledge.restore(HEADLAND)
        original = (ledge.root / HEADLAND).read_bytes()
        assert len(original) > len(light)
        for browser in KINDS:
            answer = fetch(f"{origin}/{quote(HEADLAND)}", browser)
            assert answer.content == original, "the next request gets the old bytes"
        ledge.treat()


def test_a_cache_between_is_told_and_never_shows_an_old_picture(ledge: Ledge) -> None:
    with running(Cache(ledge.service.url), free_port()) as cache:
        ledge.change(base=f"{cache}/media/ledge", caches={"purge": [cache], "tag_header": "Cache-Tag"})
        address = f"{cache}/media/ledge/{quote(HEADLAND)}"
        for browser, kind in KINDS.items():
            for status in ("fwd", "hit"):
                answer = fetch(address, browser)
                assert answer.headers["content-type"] == kind
                assert status in answer.headers["cache-status"]
            assert "ledge" in answer.headers["cache-tag"]
        ledge.restore(HEADLAND)
        wait_for(lambda: ledge.client.serving.purges("ledge").waiting == 0)
        original = (ledge.root / HEADLAND).read_bytes()
        for browser in KINDS:
            assert fetch(address, browser).content == original
        ledge.treat()
        wait_for(lambda: ledge.client.serving.purges("ledge").waiting == 0)
        assert fetch(address, "avif").headers["content-type"] == "image/avif"
        report = ledge.client.serving.ask("ledge", AskRequest(page="/"))
        assert report.right
    # A cache that has gone away keeps nobody waiting, and is told again and again.
    ledge.restore(HEADLAND)
    wait_for(lambda: ledge.client.serving.purges("ledge").failing > 0)
    assert "does not answer" in (ledge.client.serving.purges("ledge").said or "")
    ledge.change(base=None, caches=Caches().model_dump())
    wait_for(lambda: ledge.client.serving.purges("ledge").waiting == 0)
    ledge.treat()


def test_pages_of_the_site_say_the_right_markup(ledge: Ledge) -> None:
    page = httpx.get(f"{ledge.site}/").text
    assert page.count("<picture") >= 2
    assert '<source type="image/avif"' in page
    assert page.count('fetchpriority="high"') == 1
    assert 'loading="lazy"' in page
    report = ledge.client.serving.ask("ledge", AskRequest(page="/"))
    assert len(report.rows) >= 2
    assert report.right, report
    assert {got.media_type for row in report.rows for got in row.got} == set(KINDS.values())


def test_chromium_shows_avif_and_falls_back_where_it_is_refused(ledge: Ledge) -> None:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        page = browser.new_page()
        page.goto(ledge.site, wait_until="networkidle")
        shown = page.evaluate("[...document.images].map(image => [image.currentSrc, image.naturalWidth])")
        assert shown
        assert all(width > 0 for _, width in shown)
        assert any(source.endswith(".avif") for source, _ in shown)
        for accept, kind in (
            (None, "image/avif"),
            (ACCEPT["webp"], "image/webp"),
            (ACCEPT["old"], "image/jpeg"),
        ):  # type: ignore[index]
            tab = browser.new_page()
            tab.route(
                "**/media/**",
                lambda route, _, accept=accept: route.continue_(
                    headers=route.request.headers | ({"accept": accept} if accept else {})
                ),
            )
            address = f"{ledge.service.url}/media/ledge/{quote(HEADLAND)}"
            tab.goto(f"{ledge.site}/upload")
            with tab.expect_response("**/media/**") as got:
                tab.evaluate(
                    "address => { document.body.append(new Image()); document.images[0].src = address }",
                    address,
                )
            assert got.value.headers["content-type"] == kind
            tab.wait_for_function("document.images[0].naturalWidth === 520")
        browser.close()


def test_a_service_that_is_away_costs_a_page_nothing_but_its_markup(ledge: Ledge) -> None:
    client = Client("http://127.0.0.1:9", "key", timeout=1)
    with running(create_site(ledge.root, pages=SitePages(client, "ledge")), free_port()) as site:
        page = httpx.get(site)
        assert page.status_code == 200
        assert "<picture" not in page.text
        assert f'src="/media/{HEADLAND}"' in page.text


def test_a_wsgi_site_says_the_same(ledge: Ledge) -> None:
    def app(environ: dict[str, object], start_response: Callable[..., object]) -> list[bytes]:
        start_response("200 OK", [("Content-Type", "text/html; charset=utf-8"), ("Content-Length", "99")])
        return [b"<!doctype html>", f'<img src="/media/{HEADLAND}">'.encode()]

    told: list[object] = []
    answer = WsgiPages(app, ledge.pages)({"PATH_INFO": "/"}, lambda *given: told.append(given))
    page = b"".join(answer)
    assert b'type="image/avif"' in page
    assert "Content-Length" not in str(told)


def test_the_page_is_rewritten_by_the_service_too(ledge: Ledge, plumcrate: Callable[..., str]) -> None:
    page = f'<p>Ü</p><img src="/media/{HEADLAND}">'.encode()
    out = ledge.client.pages.rewrite("ledge", page, "/visit")
    assert b'type="image/avif"' in out
    assert ledge.client.pages.rewrite("ledge", out, "/visit") == out
    assert plumcrate("page", "ledge", "-", given=page).encode() == out
    large = b"<p>a page of the journal</p>" * 500_000 + page
    begun = ledge.client.pages.rewrite("ledge", large, "/visit")
    assert begun.endswith(b"</picture>")
    assert begun.startswith(large[:1_000_000])
    ledge.change(markup=Markup(elements=True, dimensions=True, placeholder=Placeholder.PREVIEW).model_dump())
    wait_for(lambda: b"data:image/webp" in ledge.client.pages.rewrite("ledge", page))
    ledge.change(markup=Markup(elements=True, dimensions=True, eager=1).model_dump())


def test_what_visitors_were_sent_is_counted(
    ledge: Ledge, plumcrate: Callable[..., str], tmp_path: Path
) -> None:
    before = ledge.client.serving.traffic("ledge")
    address = f"{ledge.service.url}/media/ledge/{quote(HEADLAND)}"
    people = {"User_Agent": "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"}
    sent = sum(len(fetch(address, browser, **people).content) for browser in KINDS)
    fetch(address, "avif", User_Agent="ExampleBot/1.0")
    assert (
        fetch(address, "avif", Range="bytes=0-9", **people).content
        == (ledge.root / f"{HEADLAND}.avif").read_bytes()[:10]
    )
    wait_for(lambda: ledge.client.serving.traffic("ledge").bots.requests > before.bots.requests)
    wait_for(lambda: ledge.client.serving.traffic("ledge").total.requests >= before.total.requests + 4)
    after = ledge.client.serving.traffic("ledge")
    assert after.total.requests - before.total.requests == 4
    assert after.total.bytes - before.total.bytes == sent + 10
    assert after.total.bytes_before > after.total.bytes
    assert {row.name for row in after.by_format} >= {"jpeg", "webp", "avif"}

    log = tmp_path / "access.log"
    with serving(Server.NGINX, ground_of(ledge)) as origin:
        for _ in range(3):
            fetch(f"{origin}/media/{quote(HEADLAND)}", "avif", **people)
        fetch(f"{origin}/media/{quote(NAMES[2])}", "old", **people)
        wait_for(lambda: origin.log.read_bytes().count(b"\n") >= 4)
        shutil.copy(origin.log, log)
    counted = ledge.client.serving.traffic("ledge")
    said = plumcrate("traffic", "ledge", "--log", str(log))
    assert "4 answers with pictures" in said
    assert "what saved most" in said
    now = ledge.client.serving.traffic("ledge")
    weights = [3 * (ledge.root / f"{HEADLAND}.avif").stat().st_size, (ledge.root / NAMES[2]).stat().st_size]
    assert now.total.requests - counted.total.requests == 4
    assert now.total.bytes - counted.total.bytes == sum(weights)
    packed = tmp_path / "access.log.1.gz"
    packed.write_bytes(gzip.compress(log.read_bytes()))
    assert "counted already" in plumcrate("traffic", "ledge", "--log", str(packed))
    told = json.loads(plumcrate("traffic", "ledge", "--json"))
    assert told["total"]["requests"] == now.total.requests
    assert "127.0.0.1" not in json.dumps(told)
    assert "In 30 days visitors were sent" in plumcrate("savings", "ledge")


def test_a_log_is_followed_while_it_grows(ledge: Ledge, tmp_path: Path) -> None:
    log = tmp_path / "live.log"
    today = time.strftime("%d/%b/%Y")
    line = (
        f'192.0.2.7 - - [{today}:08:00:00 +0000] "GET /media/{quote(NAMES[3])} HTTP/1.1" 200 77'
        ' "-" "Mozilla/5.0 Firefox/140.0"\n'
    )
    log.write_text(line)
    before = ledge.client.serving.traffic("ledge").total.requests
    environment = os.environ | {"PLUMCRATE_URL": ledge.service.url, "PLUMCRATE_KEY": ledge.service.key}
    with open(os.devnull, "wb") as nowhere:
        following = forker.start(
            "plumcrate",
            ["traffic", "ledge", "--log", str(log), "--follow"],
            environment=environment,
            stdout=nowhere.fileno(),
            stderr=nowhere.fileno(),
        )
    try:
        wait_for(lambda: ledge.client.serving.traffic("ledge").total.requests == before + 1)
        with log.open("a") as more:
            more.write(line * 2)
        wait_for(lambda: ledge.client.serving.traffic("ledge").total.requests == before + 3)
        log.rename(tmp_path / "live.log.1")
        log.write_text(line.replace("08:00:00", "09:00:00"))
        wait_for(lambda: ledge.client.serving.traffic("ledge").total.requests == before + 4)
    finally:
        following.terminate()
        following.wait(10)


def test_the_command_line_shows_and_changes_serving(ledge: Ledge, plumcrate: Callable[..., str]) -> None:
    assert "markup.eager" in plumcrate("serving", "ledge")
    assert "there is no setting hats" in plumcrate("serving", "ledge", "--set", "hats=1", code=2)
    assert "max_age" in plumcrate("serving", "ledge", "--set", "max_age=-1", code=2)
    assert json.loads(plumcrate("serving", "ledge", "--set", "max_age=60", "--json"))["max_age"] == 60
    assert json.loads(plumcrate("serving", "ledge", "--set", "max_age=600", "--json"))["markup"]["eager"] == 1
    for server in Server:
        assert str(ledge.root) in plumcrate("server-rules", "ledge", str(server))
    said = plumcrate("ask", "ledge", "--page", "/")
    assert "lightest form it can show" in said
    assert "image/avif would be lighter" in plumcrate("ask", "ledge", HEADLAND, code=1), (
        "the site has no rules"
    )
    assert "name either" in plumcrate("ask", "ledge", code=2)
    assert "answered 404" in plumcrate("ask", "ledge", "--page", "/no-such-page", code=4)
    assert "must be of the site" in plumcrate("ask", "ledge", "--page", "http://127.0.0.1:9/x", code=4)

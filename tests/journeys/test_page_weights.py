"""A page of a real site, weighed in the real browser: before, as predicted, treated, and again."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import httpx
import pytest
from conftest import EMAIL, PASSWORD, Service, hashes, photograph, running_service, wait_for
from databases import Postgres
from forks import forker
from test_visitors import running

from plumcrate.client import Client, ProblemError
from plumcrate.client.pages import SitePages
from plumcrate.contract.delivery import Delivery, Markup
from plumcrate.contract.jobs import Job, JobState
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.runs import RunRequest
from plumcrate.contract.weighing import (
    Budget,
    Device,
    HeaderLine,
    PageSettings,
    Reading,
    Secrets,
    Weighing,
    WeighingKind,
    WeighingOrigin,
    WeighRequest,
    WhatIf,
)
from plumcrate.demo.site import create_site
from plumcrate.pages.process import find_browser
from plumcrate.records.private import free_port

pytestmark = pytest.mark.skipif(find_browser() is None, reason="no Chromium on this machine")

#: The front page's first picture is the whole upload; the others have their sizes.
NAMES = (
    "2026/a-headland.jpg",
    "2026/headland-two.jpg",
    "2026/headland-two-320w.jpg",
    "2026/headland-three.jpg",
)
WIDTHS = (1400, 900, 320, 700)


@dataclass
class Weighed:
    """A library that nothing was done to, its service and worker, and its site, whose pages are its own."""

    service: Service
    root: Path
    site: str
    scratch: Path

    def browsers(self) -> list[str]:
        """Processes that weigh for this service's worker."""
        found = []
        for place in Path("/proc").iterdir():
            with contextlib.suppress(OSError):
                if place.name.isdigit() and str(self.scratch).encode() in (place / "cmdline").read_bytes():
                    found.append(place.name)
        return found

    @property
    def client(self) -> Client:
        return self.service.client

    def weigh(self, *addresses: str, **more: object) -> list[Weighing]:
        request = WeighRequest.model_validate({"addresses": addresses or ["/"], "passes": 1} | more)
        job = self.client.jobs.wait(self.client.weighings.start("ledge", request).id)
        assert job.state is JobState.FINISHED, job.reason
        return [self.client.weighings.get(number) for number in self.report(job).weighings]

    def report(self, job: Job):  # type: ignore[no-untyped-def]
        assert job.weighing is not None
        return job.weighing

    def deliver(self, **settings: object) -> None:
        values = {"public": True, "address": f"{self.site}/media"} | settings
        self.client.libraries.change("ledge", LibraryChange(delivery=Delivery.model_validate(values)))
        time.sleep(2.2)  # for so long the service, and the site, remember


@pytest.fixture(scope="module")
def ledge(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Weighed]:
    home = tmp_path_factory.mktemp("weighed")
    with postgres.fresh() as url, running_service(url, home / "state") as service:
        for name, width in zip(NAMES, WIDTHS, strict=True):
            photograph(home / "library" / name, width, width * 2 // 3, seed=7 if "two" in name else width)
        port = free_port()
        service.environment["PLUMCRATE_PAGES_ALLOWED"] = json.dumps([f"127.0.0.1:{port}"])
        scratch = Path(tempfile.mkdtemp(prefix="w-", dir="/tmp"))  # short, as the browser's sockets need it
        service.environment["TMPDIR"] = str(scratch)
        service.start_worker()
        service.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "library")))
        service.client.jobs.wait(service.client.jobs.survey("ledge").id)
        pages = SitePages(Client(service.url, service.key, timeout=60), "ledge", seconds=0.2)
        with running(create_site(home / "library", pages=pages), port) as site:
            found = Weighed(service, home / "library", site, scratch)
            found.deliver(markup={"rewrite": False, "elements": True, "dimensions": True})
            yield found
        shutil.rmtree(scratch, ignore_errors=True)


def reading(weighing: Weighing, device: Device = Device.DESKTOP) -> Reading:
    assert weighing.fault is None, weighing.fault
    found = weighing.reading(device)
    assert found is not None
    return found


def test_before_predicted_treated_and_again(ledge: Weighed) -> None:
    untouched = hashes(ledge.root)
    before, predicted = ledge.weigh(what_if=[WhatIf()])
    assert hashes(ledge.root) == untouched, "predicting writes nothing"
    assert [before.kind, predicted.kind] == [WeighingKind.REAL, WeighingKind.PREDICTED]
    for device in Device:
        was, would = reading(before, device), reading(predicted, device)
        assert was.pictures[0].path == NAMES[0]
        assert all(picture.untreated and picture.library == "ledge" for picture in was.pictures)
        assert was.bytes.low == was.bytes.high
        assert would.of_kind("pictures") < 0.7 * was.of_kind("pictures")
        assert {"avif"} & {picture.format for picture in would.pictures}
        assert {shot.part for shot in was.shots} == {"first", "whole"}
        shot = ledge.client.weighings.shot("ledge", was.shots[0].id)
        assert shot[:4] == b"RIFF"
        assert shot[8:12] == b"WEBP"
    hero = reading(before).pictures[0]
    assert (hero.natural_width, hero.natural_height) == (1400, 933)
    assert hero.seen is not None
    assert hero.seen.score == 100.0, "what is served is the original itself"
    small = next(one for one in reading(before).pictures if one.path == NAMES[2])
    assert small.seen is not None
    assert small.seen.score < 95, "judged against the largest of its picture"
    codes = {finding.code for finding in before.findings}
    assert {"untreated", "too-large"} <= codes
    assert not {"untreated", "not-served"} & {finding.code for finding in predicted.findings}

    run = ledge.client.runs.wait(ledge.client.weighings.treat(before.id, everything=True).id)
    assert (run.failed, run.files) == (0, 4)
    (unserved,) = ledge.weigh()
    assert "not-served" in {finding.code for finding in unserved.findings}, "its pages do not name the copies"
    ledge.deliver(markup=Markup(elements=True, dimensions=True).model_dump())
    (after,) = ledge.weigh()
    for device in Device:
        would, is_now = reading(predicted, device), reading(after, device)
        assert is_now.of_kind("pictures") == pytest.approx(would.of_kind("pictures"), rel=0.03)
        assert [one.format for one in is_now.pictures] == [one.format for one in would.pictures]
        assert is_now.cls is not None
        assert is_now.cls.median < 0.01
    again = next(one for one in reading(after).pictures if one.path == NAMES[0])
    assert again.form == "copy"
    assert again.seen is not None
    assert 60 < again.seen.score < 100
    # What was treated just so is taken as it stands: predicted is what is.
    _, same = ledge.weigh(what_if=[WhatIf()])
    assert reading(same).of_kind("pictures") == pytest.approx(reading(after).of_kind("pictures"), rel=0.03)


def test_in_the_size_that_its_place_needs(ledge: Weighed) -> None:
    _, fitted = ledge.weigh(devices=["desktop"], what_if=[WhatIf(fit=True)])
    for picture in reading(fitted).pictures:
        assert picture.natural_width <= picture.needed_width * 1.16
    assert "too-large" not in {finding.code for finding in fitted.findings}


@pytest.mark.slow
def test_recipes_are_compared_on_a_page(ledge: Weighed) -> None:
    rows = ledge.weigh(devices=["phone"], what_if=[WhatIf(level="gallery"), WhatIf(level="lean")])
    gallery, lean = (reading(row, Device.PHONE) for row in rows[1:])
    assert lean.of_kind("pictures") < gallery.of_kind("pictures")
    heroes = [next(one.seen for one in found.pictures if one.path == NAMES[0]) for found in (gallery, lean)]
    assert heroes[0] is not None
    assert heroes[1] is not None
    assert heroes[0].score > heroes[1].score


def test_a_budget_is_kept_or_fails(ledge: Weighed) -> None:
    (kept,) = ledge.weigh(devices=["desktop"], budget=Budget(bytes=10**9, cls=1.0))
    assert kept.over == []
    (over,) = ledge.weigh(devices=["desktop"], budget=Budget(bytes=1_000, lcp=60.0))
    assert [(one.name, one.allowed) for one in over.over] == [("bytes", 1_000)]


def test_a_page_without_a_browser_says_what_it_cannot_know(ledge: Weighed) -> None:
    (plain,) = ledge.weigh(plain=True)
    found = reading(plain)
    assert plain.kind is WeighingKind.PLAIN
    assert found.lcp is None
    assert any("without a browser" in note for note in found.notes)
    assert found.of_kind("pictures") > 1_000
    assert all(picture.natural_width > 0 and picture.needed_width == 0 for picture in found.pictures)
    assert not {"too-large", "eager-below"} & {finding.code for finding in plain.findings}


def test_pages_that_cannot_be_weighed_are_recorded_with_a_plain_word(ledge: Weighed) -> None:
    closed = f"http://127.0.0.1:{ledge.service.port}/"
    missing, secret, public = ledge.weigh("/nothing-here", closed, "http://ledge.invalid/")
    assert (missing.code, secret.code, public.code) == ("refused", "not-allowed", "no-answer")
    assert "404" in (missing.fault or "")
    assert "not listed as allowed" in (secret.fault or "")
    pages = {page.address: page for page in ledge.client.site_pages.all("ledge")}
    assert pages[closed].fault == secret.fault
    for page in pages.values():
        if page.fault:
            ledge.client.site_pages.forget(page.id)
    assert not [page for page in ledge.client.site_pages.all("ledge") if page.fault]


def test_history_and_settings_and_what_signs_in_is_never_shown(ledge: Weighed) -> None:
    (page,) = (page for page in ledge.client.site_pages.all("ledge") if page.address == f"{ledge.site}/")
    history = ledge.client.weighings.history(page.id)
    assert WeighingKind.REAL in {point.kind for point in history}
    assert [point.weighing_id for point in history] == sorted(point.weighing_id for point in history)
    secrets = Secrets(
        cookies=[HeaderLine(name="crew", value="aboard-4711")],
        headers=[HeaderLine(name="X-Key", value="k3y-4711")],
    )
    settings = PageSettings(budget=Budget(bytes=5), schedule="30 6 * * 1", secrets=secrets)
    changed = ledge.client.site_pages.change("ledge", page.address, settings)
    assert changed.has_secrets
    assert changed.over >= 1
    said = changed.model_dump_json() + ledge.client.weighings.page(page.id)[0].model_dump_json()
    assert "4711" not in said
    wait_for(lambda: ledge.client.site_pages.get(page.id).next_at is not None)
    with pytest.raises(ProblemError, match="no schedule"):
        ledge.client.site_pages.change("ledge", page.address, PageSettings(schedule="never"))
    (signed,) = ledge.weigh(devices=["desktop"])
    assert signed.fault is None
    assert signed.over != []
    for log in ledge.service.state.glob("*.log"):
        assert "4711" not in log.read_text()
    kept = ledge.client.site_pages.change("ledge", page.address, PageSettings())
    assert kept.has_secrets, "left as they were"
    (ledge.service.state / "seal.key").rename(ledge.service.state / "seal.old")
    (broken,) = ledge.weigh(devices=["desktop"])
    assert broken.code == "sealed"
    assert not ledge.client.site_pages.change(
        "ledge", page.address, PageSettings(secrets=Secrets())
    ).has_secrets


@pytest.mark.slow
def test_a_page_is_weighed_when_a_run_has_finished(ledge: Weighed) -> None:
    address = f"{ledge.site}/visit"
    ledge.client.site_pages.change("ledge", address, PageSettings(after_runs=True))
    run = ledge.client.runs.wait(ledge.client.runs.start(RunRequest(library="ledge", force=True)).id)

    def weighed() -> list[Weighing]:
        page = next(page for page in ledge.client.site_pages.all("ledge") if page.address == address)
        return ledge.client.weighings.page(page.id)

    wait_for(weighed)
    assert [(one.origin, one.run_id) for one in weighed()] == [(WeighingOrigin.RUN, run.id)]
    time.sleep(5)
    assert len(weighed()) == 1, "once for a run, and not after one that had finished before"
    ledge.client.site_pages.change("ledge", address, PageSettings())


def test_the_size_that_a_place_needs_is_noted(ledge: Weighed) -> None:
    (found,) = ledge.weigh(devices=["desktop"])
    picture = reading(found).pictures[0]
    for _ in range(2):
        noted = ledge.client.needs.note(found.id, Device.DESKTOP, picture.number)
    assert [(one.path, one.width, one.height) for one in noted] == [
        (NAMES[0], picture.needed_width, picture.needed_height)
    ]
    assert ledge.client.needs.all("ledge") == noted
    with pytest.raises(ProblemError):
        ledge.client.needs.note(found.id, Device.PHONE, 1)
    ledge.client.needs.forget("ledge", noted[0].id)
    assert ledge.client.needs.all("ledge") == []


def test_a_stopped_weighing_ends_with_its_browser(ledge: Weighed) -> None:
    job = ledge.client.weighings.start("ledge", WeighRequest(addresses=["/"], passes=10, what_if=[WhatIf()]))
    wait_for(lambda: ledge.report(ledge.client.jobs.get(job.id)).at)
    time.sleep(3)
    assert ledge.client.jobs.stop(job.id).state is JobState.STOPPED
    wait_for(lambda: not ledge.browsers())


def test_a_worker_that_is_killed_leaves_no_browser_and_the_weighing_begins_again(ledge: Weighed) -> None:
    job = ledge.client.weighings.start(
        "ledge", WeighRequest(addresses=["/shop"], passes=2, devices=["desktop"])
    )
    wait_for(ledge.browsers)
    ledge.service.kill("worker")
    wait_for(lambda: not ledge.browsers())
    ledge.service.start_worker()
    job = ledge.client.jobs.wait(job.id)
    assert job.state is JobState.FINISHED
    assert ledge.client.weighings.get(ledge.report(job).weighings[-1]).fault is None


def test_the_live_check_is_small_and_silent_until_it_is_asked(ledge: Weighed) -> None:
    answer = httpx.get(f"{ledge.service.url}/live-check.js")
    assert answer.status_code == 200
    assert len(answer.content) < 3_000
    assert answer.headers["content-type"].startswith("text/javascript")
    assert answer.headers["cross-origin-resource-policy"] == "cross-origin"
    script = answer.text
    for way in ("fetch(", "XMLHttpRequest", "sendBeacon", "WebSocket", "localStorage", "cookie"):
        assert way not in script


def test_the_live_check_on_a_live_page(ledge: Weighed) -> None:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=find_browser(), args=["--no-sandbox", "--disable-gpu"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        asked: list[str] = []
        for address, marks in (("/", 0), ("/?picture-check", 1)):
            page.goto(f"{ledge.site}{address}")
            page.on("request", lambda request: asked.append(request.url))
            page.add_script_tag(url=f"{ledge.service.url}/live-check.js")
            page.wait_for_timeout(700)
            assert page.locator("#picture-check").count() == marks
        said = page.locator("#picture-check span").all_inner_texts()
        assert len(said) == page.evaluate("document.images.length")
        assert any("times its place" in text for text in said)
        page.keyboard.press("Alt+Shift+KeyP")
        assert page.locator("#picture-check").count() == 0
        page.keyboard.press("Alt+Shift+KeyP")
        page.wait_for_selector("#picture-check span")
        browser.close()


@pytest.mark.slow
def test_the_administrator_weighs_predicts_and_notes_in_the_console(ledge: Weighed) -> None:
    """On a page that nobody weighed yet: wide, narrow and dark, and nothing is logged as an error."""
    from playwright.sync_api import expect, sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=find_browser(), args=["--no-sandbox", "--disable-gpu"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(300_000)
        faults: list[str] = []
        page.on(
            "console",
            lambda message: faults.append(message.text) if message.type in ("error", "warning") else None,
        )
        page.on("pageerror", lambda error: faults.append(str(error)))
        page.goto(ledge.service.url)
        page.get_by_label("E-mail address").fill(EMAIL)
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        page.get_by_role("link", name="Page weights").click()
        page.get_by_label("Pages, one a line, or a sitemap").fill("/?console")
        page.get_by_role("button", name="Weigh", exact=True).click()
        expect(page.get_by_role("status")).to_contain_text("Weighing")
        expect(page.get_by_role("status")).to_be_hidden()
        page.get_by_role("link", name="/?console").click()
        expect(page.get_by_role("heading", name="What if: by the recipe")).to_be_visible()
        expect(page.get_by_alt_text("The page as it was seen")).to_be_visible()
        page.get_by_role("button", name="Picture 1:").click()
        expect(page.get_by_text("in the first view").first).to_be_visible()
        page.get_by_role("button", name="Use dark colours").click()
        page.set_viewport_size({"width": 390, "height": 844})
        for path in ("weights", page.url.partition("/l/ledge/")[2]):
            page.goto(f"{ledge.service.url}/l/ledge/{path}")
            expect(page.get_by_role("heading", level=1)).to_be_visible()
            page.wait_for_timeout(500)
            assert page.evaluate("document.documentElement.scrollWidth") <= 390, path
        assert faults == []
        page.goto("about:blank")
        browser.close()


@pytest.fixture
def plumcrate(ledge: Weighed, tmp_path: Path) -> Callable[..., str]:
    environment = os.environ | {
        "PLUMCRATE_URL": ledge.service.url,
        "PLUMCRATE_KEY": ledge.service.key,
        "COLUMNS": "160",
    }

    def run(*arguments: str, code: int = 0, given: str | None = None) -> str:
        done = forker.run(
            "plumcrate", arguments, environment=environment, cwd=tmp_path, input=(given or "").encode()
        )
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout + done.stderr

    return run


@pytest.mark.slow
def test_weighing_from_the_command_line(ledge: Weighed, plumcrate: Callable[..., str]) -> None:
    said = plumcrate(
        "weigh", "ledge", "/", "--passes", "1", "--device", "phone", "--what-if", "lean", "--pictures"
    )
    assert "phone, mobile line, slow processor" in said
    assert "what if: at lean" in said
    assert "instead of" in said
    assert "largest paint" in said
    assert NAMES[0] in said
    over = plumcrate(
        "weigh", "ledge", "/", "--passes", "1", "--device", "desktop", "--budget", "bytes=2kB,lcp=30s", code=1
    )
    assert "over budget on desktop: bytes" in over
    kept = plumcrate("weigh", "ledge", "/", "--passes", "1", "--device", "desktop", "--budget", "bytes=9MB")
    assert "within its budget" in kept
    assert "bytes=400kB" in plumcrate("weigh", "ledge", "/", "--budget", "weight=3", code=2)
    assert "name a page" in plumcrate("weigh", "ledge", code=2)
    failed = plumcrate("weigh", "ledge", "/nowhere", "--device", "desktop", code=1)
    assert "could not be weighed: the site answers 404" in failed
    plumcrate("page-settings", "ledge", f"{ledge.site}/nowhere", "--forget")
    listed = plumcrate("weights", "ledge")
    assert f"{ledge.site}/ " in listed
    history = plumcrate("weights", "ledge", f"{ledge.site}/")
    assert "predicted" in history
    assert json.loads(plumcrate("weights", "ledge", "--json"))[0]["library"] == "ledge"


def test_page_settings_from_the_command_line(ledge: Weighed, plumcrate: Callable[..., str]) -> None:
    page = f"{ledge.site}/journal"
    said = plumcrate(
        "page-settings",
        "ledge",
        page,
        "--budget",
        "pictures=300kB,requests=20",
        "--schedule",
        "5 4 * * *",
        "--after-runs",
        "no",
        "--sign-in",
        "-",
        given="Cookie: a=1; b=2\nAuthorization: Basic eDp5\n",
    )
    assert "budget: pictures 300 kB, requests 20" in said
    assert "by the schedule 5 4 * * *" in said
    assert "signs in: yes, sealed" in said
    assert "Basic" not in said
    said = plumcrate("page-settings", "ledge", page, "--budget", "none", "--schedule", "none", "--no-sign-in")
    assert "budget: none" in said
    assert "weighed by itself: never" in said
    assert "signs in: no" in said
    assert "forgotten" in plumcrate("page-settings", "ledge", page, "--forget")
    assert "no schedule" in plumcrate("page-settings", "ledge", page, "--schedule", "x", code=4)


@pytest.mark.slow
def test_a_sitemap_names_the_pages(ledge: Weighed, tmp_path: Path) -> None:
    import http.server
    import threading

    class Lists(http.server.BaseHTTPRequestHandler):
        def log_message(self, *_: object) -> None:
            pass

        def do_GET(self) -> None:
            own = f"http://127.0.0.1:{self.server.server_port}"  # type: ignore[attr-defined]
            entries = [f"{own}/one", f"{own}/two", f"{ledge.site}/foreign"]
            body = (
                "<urlset>" + "".join(f"<url><loc>{entry}</loc></url>" for entry in entries) + "</urlset>"
            ).encode()
            kind = "application/xml"
            if self.path != "/sitemap.xml":
                body, kind = f"<!doctype html><p>{self.path}".encode(), "text/html"
            self.send_response(200)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Lists)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    own = f"http://127.0.0.1:{server.server_port}"
    ledge.service.kill("worker")
    allowed = json.loads(ledge.service.environment["PLUMCRATE_PAGES_ALLOWED"])
    ledge.service.environment["PLUMCRATE_PAGES_ALLOWED"] = json.dumps(
        [*allowed, f"127.0.0.1:{server.server_port}"]
    )
    ledge.service.start_worker()
    job = ledge.client.weighings.start(
        "ledge", WeighRequest(sitemap=f"{own}/sitemap.xml", devices=["desktop"], passes=1)
    )
    job = ledge.client.jobs.wait(job.id)
    report = ledge.report(job)
    weighed = [ledge.client.weighings.get(number).address for number in report.weighings]
    assert weighed == [f"{own}/one", f"{own}/two"]
    assert any("other sites" in note for note in report.notes)
    job = ledge.client.jobs.wait(
        ledge.client.weighings.start("ledge", WeighRequest(sitemap=f"{own}/page")).id
    )
    assert job.state is JobState.FAILED
    assert "neither a sitemap" in (job.reason or "") or "names no page" in (job.reason or "")
    server.shutdown()

"""Five hundred pictures are described with the keyboard alone, and every page of the console can be used by
those who do not see it well or at all."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import EMAIL, PASSWORD, Service, add_library, photograph, running_service, wait_for
from databases import Postgres
from playwright.sync_api import Page, expect, sync_playwright
from sqlalchemy import text
from test_console import CHROMIUM

from plumcrate.records.database import Database

PICTURES = 500
AXE = Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js"
#: Of WCAG 2.2, levels A and AA.
TAGS = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
WITHIN = (
    "",
    "weights",
    "report",
    "treat",
    "treat/recipe",
    "treat/sizes",
    "treat/watermarks",
    "treat/automation",
    "treat/allowance",
    "review",
    "review?view=rows",
    "review/descriptions",
    "review/near-duplicates",
    "review/1",
    "serve",
    "serve/ways",
    "serve/pages",
    "keep",
    "keep/people",
    "keep/keys",
    "keep/webhooks",
    "keep/audit",
)
EVERY = (
    *(f"/l/l/{path}".rstrip("/") for path in WITHIN),
    *(f"/service/{path}" for path in ("people", "keys", "audit", "machine", "settings")),
    "/me",
    "/connect",
)


@pytest.fixture(scope="module")
def service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """A library of 500 pictures, of which the first can be seen."""
    home = tmp_path_factory.mktemp("describing")
    first = photograph(home / "site/p001.jpg", 240, 160)
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        database = Database(url)
        add_library(database, home / "site")
        with database.begin() as session:
            session.execute(
                text(
                    "INSERT INTO pictures (library_id, path, folder, name, format, width, height, state,"
                    " files, bytes_before, bytes_now, bytes_lightest, touched_by) SELECT 1, name, '', name,"
                    " 'jpeg', 240, 160, 'new', 1, :size, :size, :size, '' FROM (SELECT 'p' ||"
                    " lpad(n::text, 3, '0') || '.jpg' AS name FROM generate_series(1, :number) n"
                    " ORDER BY n) named"
                ),
                {"number": PICTURES, "size": len(first)},
            )
            session.execute(
                text(
                    "INSERT INTO files (library_id, picture_id, path, folder, role, state, format, width,"
                    " height, transparent, animated, size_before, size_now, mtime_ns, mtime_ns_before, held,"
                    " slot, unwanted, removed_unused) SELECT 1, id, path, '', 'original', 'new', 'jpeg',"
                    " 240, 160, false, false, :size, :size, 1, 1, false, '', false, false FROM pictures"
                    " ORDER BY id"
                ),
                {"size": len(first)},
            )
            session.execute(text("UPDATE pictures SET original_id = id"))
        database.close()
        yield running


@pytest.fixture(scope="module")
def page(service: Service) -> Iterator[Page]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        context = browser.new_context(viewport={"width": 1280, "height": 800}, locale="en-GB")
        opened = context.new_page()
        opened.set_default_timeout(300_000)
        opened.goto(service.url)
        opened.get_by_label("E-mail address").fill(EMAIL)
        opened.get_by_label("Password").fill(PASSWORD)
        opened.keyboard.press("Enter")
        opened.wait_for_url("**/l/l")
        yield opened
        browser.close()


def test_pictures_are_described_with_the_keyboard_alone(service: Service, page: Page, whole: bool) -> None:
    """All 500 in the whole run; else as many as need the list to be read on twice."""
    pictures = PICTURES if whole else 70
    page.goto(f"{service.url}/l/l/review/descriptions")
    page.get_by_label("Alternative text of p001.jpg").focus()
    keys = 0
    for number in range(1, pictures + 1):
        expect(page.locator(":focus")).to_have_attribute(
            "aria-label", f"Alternative text of p{number:03d}.jpg"
        )
        words = f"Gannet {number}"
        page.keyboard.insert_text(words)
        page.keyboard.press("Enter")
        keys += len(words) + 1
    wait_for(lambda: service.client.descriptions.summary("l").described == pictures)
    assert keys == sum(len(f"Gannet {number}") + 1 for number in range(1, pictures + 1)), (
        "one key beside words"
    )
    rows = service.client.descriptions.page("l", search="p065").rows
    assert [one.alternative for one in rows] == ["Gannet 65"]


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_axe_finds_no_fault_on_any_page(service: Service, page: Page, theme: str) -> None:
    page.emulate_media(color_scheme=theme, reduced_motion="reduce")
    found = []
    for path in EVERY:
        page.goto(f"{service.url}{path}")
        expect(page.locator("main, [role=main]").first).to_be_visible()
        expect(page.locator("[aria-busy=true]")).to_have_count(0)
        page.evaluate(AXE.read_text(encoding="utf-8"))
        faults = page.evaluate("(tags) => axe.run(document, { runOnly: tags })", TAGS)["violations"]
        found += [
            f"{path} {fault['id']}: {node['html'][:160]}" for fault in faults for node in fault["nodes"][:3]
        ]
    assert found == []


def test_pages_fit_from_twice_the_size_to_a_wide_screen(service: Service, page: Page) -> None:
    """200 % on a laptop is 640 x 400 (WCAG 2.2, 1.4.10): nothing is cut off, and the header gives way."""
    for width, height in ((640, 400), (2560, 1440)):
        page.set_viewport_size({"width": width, "height": height})
        for path in ("", "treat/recipe", "review", "keep/webhooks"):
            page.goto(f"{service.url}/l/l/{path}")
            expect(page.locator("[aria-busy=true]")).to_have_count(0)
            assert page.evaluate("document.documentElement.scrollWidth") <= width, path
        stays = page.evaluate("getComputedStyle(document.querySelector('header')).position")
        assert stays == ("static" if height < 500 else "sticky")
    page.goto(f"{service.url}/l/l/review")
    expect(page.get_by_label("Filter", exact=True)).to_be_visible()
    room = page.locator("#page").bounding_box()
    assert room is not None
    assert room["width"] > 1600, "pictures take the room that there is"
    page.set_viewport_size({"width": 1280, "height": 800})


def test_forced_colours_leave_what_is_told_by_areas(service: Service, page: Page) -> None:
    page.emulate_media(forced_colors="active")
    page.goto(f"{service.url}/l/l/treat")
    chosen = page.get_by_role("radio", checked=True).first
    other = page.get_by_role("radio", checked=False).first
    colour = "element => getComputedStyle(element).backgroundColor"
    expect(chosen).to_be_visible()
    assert chosen.evaluate(colour) != other.evaluate(colour)
    page.goto(f"{service.url}/l/l")
    slat = page.get_by_role("img", name=" before, ").first
    expect(slat).to_be_visible()
    assert slat.locator("div").first.evaluate(colour) != page.locator("body").evaluate(colour)
    page.emulate_media(forced_colors="none")

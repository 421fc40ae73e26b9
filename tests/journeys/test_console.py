"""The administrator's journey in a real browser: sign in, connect, treat, look hard, put back."""

import os
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from conftest import EMAIL, PASSWORD, Service, hashes, photograph
from playwright.sync_api import ConsoleMessage, Page, expect, sync_playwright

from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.runs import RunRequest
from plumcrate.demo.painter.drawings import DRAWINGS

CHROMIUM = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-dev-shm-usage",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
]


@pytest.fixture(scope="module")
def page() -> Iterator[Page]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        context = browser.new_context(viewport={"width": 1280, "height": 800}, locale="en-GB")
        opened = context.new_page()
        opened.set_default_timeout(300_000)
        yield opened
        browser.close()


#: What Chromium says of requests that a test has refused on purpose.
REFUSED = ("status of 401", "status of 404", "status of 409", "status of 422")


@pytest.fixture(autouse=True)
def faults(page: Page, service: Service) -> Iterator[list[str]]:
    """What pages log as an error or warning, or throw: a test during which one does fails.

    The page is left before its service ends, which would break its event stream."""
    found: list[str] = []

    def heard(message: ConsoleMessage) -> None:
        deliberate = "Failed to load resource" in message.text and any(one in message.text for one in REFUSED)
        if message.type in ("error", "warning") and not deliberate:
            found.append(f"{message.text} ({message.location.get('url')})")

    page.on("console", heard)
    page.on("pageerror", lambda error: found.append(str(error)))
    yield found
    page.goto("about:blank")
    page.remove_listener("console", heard)
    assert found == []


def choose(page: Page, label: str, option: str) -> None:
    """Chooses from one of the console's selects."""
    page.get_by_role("combobox", name=label).click()
    page.get_by_role("option", name=option, exact=True).click()


def test_the_whole_journey(service: Service, library: Path, page: Page) -> None:
    before = hashes(library)
    service.start_worker()

    page.goto(service.url)
    page.get_by_label("E-mail address").fill(EMAIL)
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("The address or the password is wrong")
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")

    # Nothing is connected yet, so that is the first step; a mistake is answered in words.
    expect(page.get_by_role("heading", name="Connect a library")).to_be_visible()
    page.get_by_label("Name").fill("Gannet Ledge")
    page.get_by_label("Folder").fill("/nowhere/at/all")
    page.get_by_role("button", name="Connect and survey").click()
    expect(page.get_by_role("alert")).to_contain_text("The folder is not there")
    page.get_by_label("Folder").fill(str(library))
    page.get_by_role("button", name="Connect and survey").click()
    page.wait_for_url("**/l/gannet-ledge")
    pictures = f"{len(library_pictures(service))} pictures"
    expect(page.get_by_text(pictures, exact=False).first).to_be_visible()
    expect(page.get_by_text("new files")).to_be_visible()

    # One run over everything, watched live.
    page.get_by_role("link", name="Treat", exact=True).click()
    page.get_by_role("radio", name="Lean").click()
    page.get_by_label("AVIF").uncheck()
    page.get_by_role("button", name="Start the run").click()
    expect(page.get_by_role("progressbar")).to_be_visible()
    page.get_by_role("button", name="Pause").click()
    expect(page.get_by_text("paused", exact=True)).to_be_visible()
    page.get_by_role("button", name="Go on").click()
    expect(page.get_by_text("finished", exact=True)).to_be_visible()
    expect(page.get_by_role("heading", name="4 files failed")).to_be_visible()
    expect(page.get_by_text("the content is not a picture format known here").first).to_be_visible()

    # The picture that weighs most, side by side.
    page.get_by_role("link", name="Review", exact=True).click()
    expect(page).to_have_title("Pictures – Gannet Ledge – Plum Crate")
    choose(page, "Order", "most saved first")
    facets = page.get_by_label("Filter")
    for choice in ("PNG", "over 50 %"):
        facets.get_by_role("checkbox", name=choice).click()
        expect(facets.get_by_role("checkbox", name=choice)).to_be_checked()
    page.get_by_role("button", name="Take away Format: PNG").click()
    page.get_by_role("button", name="Take away Saving: over 50 %").click()
    # All that a filter finds is left alone at once, and goes by the recipe again.
    facets.get_by_role("checkbox", name="cannot be read").click()
    expect(page.get_by_role("button", name="Take away State: cannot be read")).to_be_visible()
    page.get_by_role("checkbox", name="Choose").first.check(force=True)
    page.get_by_role("button", name="Choose all").click()
    for rule, action in (("Leave alone", "Leave alone"), ("By the recipe again", "Do so")):
        page.get_by_role("button", name="Own rule").click()
        page.get_by_role("menuitem", name=rule).click()
        page.get_by_role("dialog").get_by_role("button", name=action).click()
        expect(page.get_by_role("dialog")).to_be_hidden()
    page.get_by_role("button", name="Take away State: cannot be read").click()
    page.get_by_role("listitem").get_by_role("link").first.click()
    expect(page.get_by_text("Fetching both versions")).to_be_hidden()
    divider = page.get_by_role("slider", name="Divider")
    expect(divider).to_have_attribute("aria-valuenow", "50")
    handle = divider.bounding_box()
    assert handle is not None
    page.mouse.move(handle["x"] + handle["width"] / 2, handle["y"] + 20)
    page.mouse.down()
    page.mouse.move(handle["x"] + 300, handle["y"] + 20, steps=5)
    page.mouse.up()
    assert int(divider.get_attribute("aria-valuenow") or 0) > 65
    page.get_by_role("group", name="Comparison").focus()
    page.keyboard.press("1")
    expect(page.get_by_text("100 %", exact=True)).to_be_visible()
    page.keyboard.press("d")
    expect(page.get_by_label("Gain of the difference")).to_be_visible()
    page.get_by_role("button", name="Put the original back").click()
    page.get_by_role("button", name="Put it back").click()
    expect(page.get_by_text("finished", exact=True)).to_be_visible()

    # Everything by keyboard: the palette finds the page where all is put back.
    page.keyboard.press("Control+k")
    page.keyboard.type("restoring")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Backups")).to_be_visible()
    page.get_by_role("button", name="Put everything back …").click()
    confirm = page.get_by_role("dialog").get_by_role("button", name="Put everything back")
    expect(confirm).to_be_disabled()
    page.get_by_label("Type gannet-ledge to confirm").fill("gannet-ledge")
    confirm.click()
    expect(page.get_by_text("finished", exact=True)).to_be_visible()
    assert hashes(library) == before


def test_a_recipe_is_tried_saved_and_checked_after(service: Service, tmp_path: Path, page: Page) -> None:
    """A rule shows what it would do before it is saved; forecast, run, check and hand-back follow."""
    root = tmp_path / "ledge"
    for number in range(3):
        photograph(root / f"2025/p{number}.jpg", seed=number)
    DRAWINGS["logo"](np.random.default_rng(1), 300, 200).save(root / "logo.png")
    before = hashes(root)
    service.start_worker()
    client = service.client
    client.libraries.connect(LibraryRequest(name="Ledge", root=str(root)))
    client.jobs.wait(client.jobs.survey("ledge").id)
    page.context.clear_cookies()
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(service.url)
    page.get_by_label("E-mail address").fill(EMAIL)
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Forecast the saving").click()
    expect(page.get_by_text("An estimate for 4 files")).to_be_visible()

    page.goto(f"{service.url}/l/ledge/treat/recipe")
    page.get_by_role("button", name="Add a rule").click()
    page.get_by_label("Name of the rule").fill("drawings")
    choose(page, "Format", "PNG")
    choose(page, "Then", "leave alone")
    outcome = page.get_by_role("complementary")
    expect(outcome.get_by_text("rule “drawings”").locator("..")).to_contain_text("1")
    expect(outcome.get_by_text("left alone").locator("..")).to_contain_text("1")
    page.get_by_label("AVIF").first.uncheck()
    page.get_by_role("checkbox", name="Time").check()
    page.get_by_role("button", name="Save as version 2").click()
    expect(page.get_by_text("version 2, saved by The keeper")).to_be_visible()
    saved = client.recipes.get("ledge").settings
    assert (saved.copies, [rule.name for rule in saved.rules]) == (["webp"], ["drawings"])
    assert saved.metadata == ["rights", "time"]

    page.get_by_role("link", name="Runs").click()
    page.get_by_role("button", name="Start the run").click()
    expect(page.get_by_text("1 are left alone by the recipe")).to_be_visible()
    expect(page.get_by_text("finished", exact=True)).to_be_visible()
    page.get_by_role("link", name="Keep", exact=True).click()
    page.get_by_role("button", name="Compare").click()
    expect(page.get_by_text("All as recorded.")).to_be_visible()
    next(root.rglob("*.webp")).unlink()
    page.get_by_role("button", name="Compare").click()
    page.get_by_role("button", name="Mend what can be mended").click()
    expect(page.get_by_text("1 difference, 1 mended")).to_be_visible()

    page.get_by_role("link", name="Treat", exact=True).click()
    page.get_by_role("link", name="Automation").click()
    page.get_by_label("Back up every file").uncheck()
    expect(page.get_by_role("note").first).to_contain_text("Without backups nothing that is not exact")
    page.get_by_label("Hours for bulk runs").fill("25:00-26:00")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_contain_text("are no hours")
    page.get_by_role("button", name="Discard").click()

    page.get_by_role("link", name="Keep", exact=True).click()
    page.get_by_role("button", name="Hand it back").click()
    page.get_by_label("Type ledge to confirm").fill("ledge")
    page.get_by_role("dialog").get_by_role("button", name="Hand it back").click()
    expect(page.get_by_text("Handed back: every original is in its place.")).to_be_visible()
    assert hashes(root) == before
    page.goto(f"{service.url}/machine")
    expect(page.get_by_text("library ledge")).to_be_visible()


def library_pictures(service: Service) -> list[object]:
    """Waits for the survey that the console started; the pictures it found."""
    survey = service.client.libraries.get("gannet-ledge").last_survey
    assert survey is not None
    service.client.jobs.wait(survey.id)
    return list(service.client.pictures.each("gannet-ledge"))


def test_empty_error_narrow_and_dark(service: Service, tmp_path: Path, page: Page, faults: list[str]) -> None:
    page.context.clear_cookies()
    (tmp_path / "empty").mkdir()
    page.goto(service.url)
    page.get_by_label("E-mail address").fill(EMAIL)
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    page.get_by_label("Name").fill("Empty")
    page.get_by_label("Folder").fill(str(tmp_path / "empty"))
    page.get_by_role("button", name="Connect and survey").click()
    expect(
        page.get_by_role("heading", name="Looking through the folder").or_(
            page.get_by_role("heading", name="No pictures yet")
        )
    ).to_be_visible()
    page.goto(f"{service.url}/l/empty/treat")
    expect(page.get_by_role("heading", name="No run yet")).to_be_visible()
    page.goto(f"{service.url}/l/empty/review/424242")
    expect(page.get_by_role("alert")).to_contain_text("There is no such thing")
    page.goto(f"{service.url}/l/elsewhere")
    expect(page.get_by_role("alert")).to_contain_text("There is no such library")
    page.goto(f"{service.url}/l/empty")
    page.get_by_role("button", name="Use dark colours").click()
    assert page.evaluate("getComputedStyle(document.documentElement).backgroundColor") == "rgb(24, 16, 25)"
    page.set_viewport_size({"width": 390, "height": 844})
    for path in ("/../../machine", "", "/treat", "/treat/recipe", "/treat/automation", "/review", "/keep"):
        page.goto(f"{service.url}/l/empty{path}")
        expect(page.get_by_role("heading", level=1)).to_be_visible()
        assert page.evaluate("document.documentElement.scrollWidth") <= 390, f"{path} scrolls sideways"
    assert faults == []
    service.kill("service")
    page.get_by_role("link", name="Treat", exact=True).click()
    page.get_by_role("button", name="Start the run").click()
    expect(page.get_by_role("alert").first).to_contain_text("The service does not answer")
    assert all("net::ERR" in fault for fault in faults), "the browser's own words on a service that is gone"
    faults.clear()
    assert os.listdir(tmp_path / "empty") == []


def test_sizes_a_focal_point_touch_ups_and_a_watermark(service: Service, tmp_path: Path, page: Page) -> None:
    """Pictures made for their places, in a real browser: defined, looked at, touched up, watermarked."""
    for number, name in enumerate(("headland.jpg", "tower.jpg")):
        photograph(tmp_path / "ledge" / name, 640, 480, seed=number + 2)
    service.client.libraries.connect(LibraryRequest(name="Ledge", root=str(tmp_path / "ledge")))
    service.start_worker()
    service.client.jobs.wait(service.client.jobs.survey("ledge").id)
    page.goto(service.url)
    page.get_by_label("E-mail address").fill(EMAIL)
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_role("link", name="Treat", exact=True)).to_be_visible()

    page.goto(f"{service.url}/l/ledge/treat/sizes?width=200&height=200")
    expect(page.get_by_role("spinbutton", name="Height")).to_have_value("200")
    page.get_by_role("textbox", name="Name Small letters", exact=False).fill("square")
    expect(page.get_by_text("made", exact=False).first).to_be_visible()
    page.get_by_role("radio", name="What matters in it").check()
    expect(page.get_by_role("img", name="What square shows")).to_have_count(2)
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("2 files wait for the next run")).to_be_visible()

    picture = next(one for one in service.client.pictures.each("ledge") if one.path == "tower.jpg")
    page.goto(f"{service.url}/l/ledge/review/{picture.id}")
    point = page.get_by_role("button", name="Focal point", exact=False)
    point.focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    expect(page.get_by_text("focal point set by hand")).to_be_visible()
    expect(page.get_by_role("img", name="What square shows")).to_be_visible()

    page.get_by_role("link", name="Touch up").click()
    choose(page, "Add a step", "Turn")
    expect(page.get_by_text("480 × 640")).to_be_visible()
    choose(page, "Add a step", "Paint over")
    canvas = page.get_by_role("img", name="The picture with these steps")
    canvas.hover()
    page.mouse.down()
    page.mouse.up()
    expect(page.get_by_role("button", name="Begin the stroke again")).to_be_visible()
    page.get_by_role("button", name="Look at 100 %").click()
    expect(page.get_by_role("heading", name="At 100 %")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="Make it so now").click()
    expect(page.get_by_text("finished", exact=True)).to_be_visible()
    steps = service.client.touches.get(picture.id).steps
    assert [step.kind for step in steps] == ["turn", "cover"]

    page.goto(f"{service.url}/l/ledge/treat/watermarks")
    page.get_by_role("button", name="Define one").click()
    page.get_by_role("textbox", name="Name Small letters", exact=False).fill("trust")
    page.get_by_label("Words", exact=True).last.fill("Gannet Ledge")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("“Gannet Ledge”", exact=False)).to_be_visible()
    for path in ("treat/sizes", "treat/watermarks", f"review/{picture.id}/touch"):
        page.set_viewport_size({"width": 390, "height": 844})
        page.goto(f"{service.url}/l/ledge/{path}")
        expect(page.get_by_role("heading", level=1)).to_be_visible()
        page.wait_for_timeout(300)
        assert page.evaluate("document.documentElement.scrollWidth") <= 390, path
        page.set_viewport_size({"width": 1280, "height": 800})


def test_pictures_are_uploaded_and_replaced(service: Service, tmp_path: Path, page: Page) -> None:
    root, desk = tmp_path / "ledge", tmp_path / "desk"
    photograph(root / "p.jpg")
    first = photograph(desk / "kite & gull.jpg", seed=1)
    (desk / "notes.jpg").write_text("no picture")
    service.start_worker()
    client = service.client
    client.libraries.connect(LibraryRequest(name="Ledge", root=str(root)))
    client.jobs.wait(client.jobs.survey("ledge").id)
    page.context.clear_cookies()
    page.goto(service.url)
    page.get_by_label("E-mail address").fill(EMAIL)
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    page.get_by_role("navigation", name="The work").get_by_role("link", name="Review").click()
    page.get_by_role("button", name="Upload").click()
    page.get_by_label("Into the folder").fill("2026/12")
    chooser = page.get_by_label("Choose pictures")
    chooser.set_input_files([desk / "notes.jpg", desk / "kite & gull.jpg"])
    uploads = page.get_by_role("list", name="Uploads")
    expect(uploads.get_by_text("light", exact=True)).to_be_visible()
    expect(uploads.get_by_text("refused", exact=True)).to_be_visible()
    there = root / "2026/12/kite & gull.jpg"
    assert there.stat().st_size < len(first)
    assert not (root / "2026/12/notes.jpg").exists()

    client.runs.wait(client.runs.page("ledge")[0].id)  # its copies follow: till then it is being worked on
    second = photograph(desk / "kite & gull.jpg", seed=2)
    chooser.set_input_files([desk / "kite & gull.jpg"])
    page.get_by_role("button", name="Replace it").click()
    expect(uploads.get_by_text("light", exact=True)).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("link", name="kite & gull.jpg")).to_be_visible()
    client.runs.wait(client.runs.start(RunRequest(library="ledge", kind="restore")).id)
    assert there.read_bytes() == second, "the original of what stands there now"
    assert client.backups.get("ledge").orphaned == 1, "what it replaced is kept"

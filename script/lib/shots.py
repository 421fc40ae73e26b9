"""Takes pictures of the console's pages and of commands, from the demonstration that is running.

Run by script/screenshots. Needs the demonstration up, with at least one finished run.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
from datetime import date
from html import escape
from pathlib import Path

import pypdfium2
from playwright.sync_api import Page, sync_playwright
from rich.console import Console
from rich.text import Text

from plumcrate.client import Client
from plumcrate.contract.sizes import SizeSettings, Way

HERE = Path.cwd()
CHROMIUM = [
    "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--no-first-run",
]  # fmt: skip


def sign_in(page: Page, url: str, password: str) -> None:
    page.goto(url)
    page.get_by_label("E-mail address").fill("keeper@gannetledge.example")
    page.get_by_label("Password").fill(password)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="The whole library").wait_for()


#: Shows the demonstration's folder as if it lay where a server's would.
PLACES = """here => {
  const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (walk.nextNode()) walk.currentNode.data = walk.currentNode.data.replaceAll(here, "/srv/plum-crate");
}"""


#: Whether all pictures on the screen are there, and nothing stands for what is still to come.
SEEN = """() => !document.querySelector(".shape, [aria-busy=true]") && [...document.images].every((image) => {
  const { top, bottom } = image.getBoundingClientRect();
  return image.complete || bottom < 0 || top > innerHeight;
})"""


def settle(page: Page) -> None:
    page.wait_for_load_state("load")
    page.evaluate("document.fonts.ready")
    page.wait_for_timeout(900)
    page.wait_for_function(SEEN, timeout=60_000)


def terminal(page: Page, command: list[str], place: Path) -> None:
    """A command's own output, drawn as a terminal would."""
    program = str(Path(sys.executable).parent / "plumcrate")
    environment = os.environ | {"FORCE_COLOR": "1", "COLUMNS": "132"}
    output = subprocess.run([program, *command], capture_output=True, text=True, env=environment, check=False)
    console = Console(record=True, width=132, file=open(os.devnull, "w"), color_system="truecolor")  # noqa: SIM115
    console.print(Text.assemble(("$ ", "bright_black"), "plumcrate " + " ".join(command)))
    console.print(Text.from_ansi(output.stdout + output.stderr))
    body = console.export_html(inline_styles=True, code_format="{code}")
    page.set_content(
        f"<title>{escape(command[0])}</title><body style='margin:0;background:#fffdf9;color:#2a1a2e'>"
        f"<pre style='margin:24px;font:14px/1.35 \"DejaVu Sans Mono\",monospace'>{body}</pre>"
    )
    page.screenshot(path=place)


def client_months() -> tuple[str, str]:
    """From January of this year to this month."""
    today = date.today()
    return f"{today.year}-01", f"{today:%Y-%m}"


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--out", type=Path, default=HERE / "docs/screenshots")
    parser.add_argument("--only", help="only shots whose name contains this")
    options = parser.parse_args()
    options.out.mkdir(parents=True, exist_ok=True)
    facts = json.loads((HERE / ".state/demo/facts.json").read_text())
    url = f"http://127.0.0.1:{facts['port']}"
    pages = {
        "look": "/l/gannet-ledge",
        "allowance": "/l/gannet-ledge/treat/allowance",
        "run": "/l/gannet-ledge/treat/2",
        "review": "/l/gannet-ledge/review?sort=saved",
        "recipe": "/l/gannet-ledge/treat/recipe",
        "serve": "/l/gannet-ledge/serve",
        "near-duplicates": "/l/gannet-ledge/review/near-duplicates",
        "descriptions": "/l/gannet-ledge/review/descriptions",
        "pages": "/l/gannet-ledge/weights",
        "keep": "/l/gannet-ledge/keep",
        "people": "/l/gannet-ledge/keep/people",
    }
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)

        def wanted(name: str) -> bool:
            return options.only is None or options.only in name

        context = browser.new_context(viewport={"width": 1280, "height": 800})
        page = context.new_page()
        sign_in(page, url, facts["password"])
        if wanted("near-duplicates"):
            with Client(url, facts["key"]) as client:
                client.jobs.wait(client.jobs.search_near_duplicates("gannet-ledge").id)
        for name, path in pages.items():
            if wanted(name):
                page.goto(url + path)
                settle(page)
                page.evaluate(PLACES, str(HERE))
                page.screenshot(path=options.out / f"{name}.png")
        if wanted("weights"):
            # The front page, on the phone it was weighed for.
            page.goto(url + "/l/gannet-ledge/weights")
            page.get_by_role("link", name=f":{facts['site_port']}/", exact=False).first.click()
            page.get_by_role("heading", name="Side by side").wait_for()
            settle(page)
            page.screenshot(path=options.out / "weights.png")
        if wanted("sizes"):
            with Client(url, facts["key"]) as client:
                missing = "card" not in [size.name for size in client.sizes.all("gannet-ledge")]
                if missing:
                    card = SizeSettings(way=Way.FILL, width=520, height=390)
                    client.sizes.save("gannet-ledge", "card", card)
            page.goto(url + "/l/gannet-ledge/treat/sizes")
            page.get_by_role("button", name="card", exact=True).click()
            page.get_by_text("left as they are").wait_for()
            settle(page)
            page.screenshot(path=options.out / "sizes.png")
            if missing:
                with Client(url, facts["key"]) as client:
                    client.sizes.remove("gannet-ledge", "card")
        if wanted("asked"):
            page.goto(url + pages["serve"])
            page.get_by_label("A page of the site").fill("/journal")
            page.get_by_role("button", name="Ask").click()
            page.get_by_text("One with AVIF").last.scroll_into_view_if_needed()
            settle(page)
            page.screenshot(path=options.out / "asked.png")
        if wanted("report"):
            with Client(url, facts["key"]) as client:
                sheet = client.reports.file("gannet-ledge", "pdf", *client_months())
            first = pypdfium2.PdfDocument(sheet)[0]
            first.render(scale=1.5).to_pil().save(options.out / "report.png")
        page.goto(url + "/l/gannet-ledge/review?search=IMG_2041")
        page.get_by_role("link", name="IMG_2041").first.click()
        if wanted("picture"):
            page.get_by_text("Fetching both versions").wait_for(state="detached", timeout=60_000)
            settle(page)
            page.get_by_role("button", name="1:1").click()
            page.wait_for_timeout(500)
            page.screenshot(path=options.out / "picture.png")
        if wanted("touch"):
            page.get_by_role("link", name="Touch up").click()
            for step in ("Contrast", "Paint over"):
                page.get_by_role("combobox", name="Add a step").click()
                page.get_by_role("option", name=step, exact=True).click()
            page.get_by_alt_text("The picture with these steps").wait_for(timeout=60_000)
            settle(page)
            page.screenshot(path=options.out / "touch.png")
        if wanted("narrow"):
            page.set_viewport_size({"width": 390, "height": 844})
            page.goto(url + pages["look"])
            page.get_by_role("button", name="Use dark colours").click()
            settle(page)
            page.screenshot(path=options.out / "narrow-look.png")
            page.get_by_role("button", name="Use light colours").click()
            page.set_viewport_size({"width": 1280, "height": 800})
        if wanted("terminal"):
            library = ["gannet-ledge"]
            terminal(page, ["savings", *library], options.out / "terminal-savings.png")
        browser.close()


if __name__ == "__main__":
    main()

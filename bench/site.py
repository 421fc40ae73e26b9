"""A real site from set-up to visitors: Wagtail behind gunicorn and nginx, with photographs of two megapixels.

``script/bench site [PICTURES] [REQUESTS]``. The site is that of ``tests/sites``; the photographs are views of
the wallpapers. Prints seconds of the set-up, renditions that found their original, the front page before and
after by our own weighing, seconds from an upload in the site's admin until visitors get its light form (idle,
and beside two busy loops), and answers to visitors while pictures are put back and treated anew.
"""

from __future__ import annotations

import io
import json
import math
import multiprocessing
import os
import random
import re
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import httpx
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.contract.common import CopyFormat, Level
from plumcrate.contract.people import Ability, LibraryKeyRequest
from plumcrate.contract.recipes import Effort
from plumcrate.contract.runs import RunKind, RunRequest, Scope
from plumcrate.contract.weighing import Device, WeighRequest

from .corpus import wallpapers
from .stand import Stand, stand

sys.path.append(str(Path(__file__).parent.parent / "tests/sites"))

from running import WagtailSite, wagtail_site  # type: ignore[import-not-found]

if TYPE_CHECKING:
    from multiprocessing.process import BaseProcess

#: Pixels of a photograph: two megapixels.
_SIZE = (1733, 1155)
_UPLOADS = 20
#: So many pictures, with all their renditions, are put back and treated anew while visitors come.
_CHANGED = 6


class Rows(list[tuple[str, str, str]]):
    """What was measured, said as it comes: the whole takes half an hour."""

    def append(self, row: tuple[str, str, str]) -> None:
        print(*row, sep=" | ", file=sys.stderr, flush=True)
        super().append(row)


_MODERN, _OLD = {"Accept": "image/avif,image/webp,*/*"}, {"Accept": "*/*"}


def main() -> None:
    pictures = int(sys.argv[1]) if len(sys.argv) > 1 else 32
    requests = int(sys.argv[2]) if len(sys.argv) > 2 else 10_000
    rows = Rows()
    views = _views()
    with TemporaryDirectory() as folder:
        home = Path(folder)
        home.chmod(0o755)
        (home / "pictures").mkdir()
        for number in range(pictures):
            (home / f"pictures/view-{number}.jpg").write_bytes(next(views))
        with wagtail_site(home / "site", home / "pictures") as site:
            os.environ["PLUMCRATE_PAGES_ALLOWED"] = json.dumps(
                [f"127.0.0.1:{site.port}", f"127.0.0.1:{site.behind}"]
            )
            with stand(children=2) as here:
                _set_up(here, site, pictures, rows)
                _install_app(here, site)
                _weigh_again(here, site, rows)
                _upload(here, site, views, rows)
                _visit(here, site, requests, rows)
    table = Table("what", "measured", "goal", title=f"a real site, {pictures} photographs")
    for row in rows:
        table.add_row(*row)
    Console(width=150).print(table)


def _views() -> Iterator[bytes]:
    """Photographs of two megapixels, as a camera's software writes them."""
    chance = random.Random(28)
    while True:
        for path in wallpapers():
            with Image.open(path) as image:
                width, height = min(_SIZE[0], image.width), min(_SIZE[1], image.height)
                left, top = chance.randint(0, image.width - width), chance.randint(0, image.height - height)
                view = image.convert("RGB").crop((left, top, left + width, top + height))
            out = io.BytesIO()
            view.save(out, "JPEG", quality=92)
            yield out.getvalue()


def _plumcrate(here: Stand, *arguments: str) -> str:
    environment = os.environ | {"PLUMCRATE_URL": f"http://127.0.0.1:{here.port}", "PLUMCRATE_KEY": here.key}
    command = [sys.executable, "-m", "plumcrate", *arguments]
    return subprocess.run(command, env=environment, capture_output=True, text=True, timeout=3600).stdout


def _set_up(here: Stand, site: WagtailSite, pictures: int, rows: Rows) -> None:
    rules = site.place / "light.conf"
    began = time.monotonic()
    said = _plumcrate(
        here,
        "set-up",
        str(site.media),
        f"{site.address}/media/",
        "--slug",
        "l",
        "--rules",
        str(rules),
        "--yes",
    )
    took = time.monotonic() - began
    run = here.client.runs.page("l")[-1]
    assert run.finished_at is not None, said
    treating = (run.finished_at - run.created_at).total_seconds()
    site.rules = rules.read_text()
    site.start()
    job = here.client.libraries.get("l").last_survey
    assert job is not None
    survey = job.survey
    assert survey is not None
    rows.append(("set-up, without treating", f"{took - treating:.0f} s, one command", "5 min"))
    rows.append((f"treating {survey.files_seen} files", f"{treating:.0f} s", ""))
    made = here.client.libraries.get("l").files - pictures
    rows.append(("renditions that found their original", f"{survey.renditions} of {made}", "all"))
    savings = here.client.libraries.savings("l")
    rows.append(("library", f"{_kb(savings.total.bytes_before)} to {_kb(savings.total.bytes_now)}", ""))


def _kb(size: int) -> str:
    return f"{size / 1000:,.0f} kB"


def _install_app(here: Stand, site: WagtailSite) -> None:
    """The app for Django: it tells of what the site writes and hears what we write."""
    abilities = [Ability.TREAT, Ability.MEND]
    key = here.client.keys.make_for_library("l", LibraryKeyRequest(name="site", abilities=abilities))
    site.plumcrate = {"url": f"http://127.0.0.1:{here.port}", "key": key.secret, "library": "l"}
    strong = {"PLUMCRATE_KEY": here.key}
    hook = f"http://127.0.0.1:{site.behind}/plumcrate/webhook/"
    said = site.manage(
        "plumcrate", "connect", f"{site.address}/media/", "--webhook", hook, environment=strong
    )
    for name in ("hook_secret", "webhook_secret"):
        found = re.search(rf'PLUMCRATE\["{name}"\] = "([^"]+)"', said)
        assert found, said
        site.plumcrate[name] = found[1]
    site.start()
    site.manage("plumcrate", "map", environment=strong)


def _weigh_again(here: Stand, site: WagtailSite, rows: Rows) -> None:
    client = here.client
    client.jobs.wait(client.weighings.start("l", WeighRequest(addresses=[f"{site.address}/"])).id)
    (page,) = client.site_pages.all("l")
    for device in Device:
        seen = [
            one for one in client.weighings.history(page.id) if one.device is device and one.what_if is None
        ]
        first, last = seen[0], seen[-1]
        words = f"{_kb(first.bytes)} to {_kb(last.bytes)}, largest paint {first.lcp:.0f} to {last.lcp:.0f} ms"
        rows.append((f"front page on a {device}, {len(seen)} weighings", words, ""))


def _upload(here: Stand, site: WagtailSite, views: Iterator[bytes], rows: Rows) -> None:
    for loops, goal in ((0, "5 s"), (2, "20 s")):
        with _busy(loops), _admin(site) as admin:
            waits = sorted(_until_light(admin, site, f"{loops}-{n}", next(views)) for n in range(_UPLOADS))
        nearest = waits[math.ceil(0.95 * len(waits)) - 1]
        words = f"p95 {nearest:.1f} s, median {waits[len(waits) // 2]:.1f} s, longest {waits[-1]:.1f} s"
        rows.append((f"upload to light, {loops} busy loops, {_UPLOADS} uploads", words, goal))


@contextmanager
def _admin(site: WagtailSite) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=site.address, follow_redirects=True, timeout=60) as client:
        _send(client, "/admin/login/", {"username": "keeper", "password": "the lamp is lit"})
        yield client


def _send(client: httpx.Client, path: str, data: dict[str, str], **more: Any) -> None:
    token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', client.get(path).text)
    assert token
    client.post(path, data=data | {"csrfmiddlewaretoken": token[1]}, **more).raise_for_status()


def _until_light(admin: httpx.Client, site: WagtailSite, title: str, data: bytes) -> float:
    """Seconds from the admin's answer until visitors get a form that is not the upload."""
    name = f"light-{title}.jpg"
    _send(admin, "/admin/images/add/", {"title": title}, files={"file": (name, data, "image/jpeg")})
    began = time.monotonic()
    address = f"{site.address}/media/original_images/{name}"
    with httpx.Client(headers=_MODERN) as visitor:
        while visitor.get(address).content == data:
            assert time.monotonic() - began < 300, f"{name} stays as heavy as it was"
            time.sleep(0.05)
    return time.monotonic() - began


def _spin() -> None:
    while True:
        pass


@contextmanager
def _busy(loops: int) -> Iterator[None]:
    spinning: list[BaseProcess] = [multiprocessing.Process(target=_spin, daemon=True) for _ in range(loops)]
    for one in spinning:
        one.start()
    try:
        yield
    finally:
        for one in spinning:
            one.kill()
            one.join()


def _visit(here: Stand, site: WagtailSite, requests: int, rows: Rows) -> None:
    """Visitors whose page came ten minutes ago, while everything below it changes."""
    page = httpx.get(site.address, timeout=600).text  # the first visitor makes the uploads' renditions
    said = re.findall(r'(?:src|srcset)="([^"]+)"', page)
    paths = sorted({part.split()[0] for text in said for part in text.split(",") if "/media/" in part})
    assert paths, page
    over = threading.Event()
    changed: Counter[str] = Counter()
    changing = threading.Thread(target=_change, args=(here, over, changed))
    changing.start()
    answers: Counter[str] = Counter()
    chance = random.Random(404)
    with httpx.Client(base_url=site.address, timeout=60) as visitor:
        while answers.total() < requests or not changed["whole rounds"]:
            answer = visitor.get(chance.choice(paths), headers=chance.choice((_MODERN, _OLD)))
            answers[f"{answer.status_code} {answer.headers['content-type'].partition(';')[0]}"] += 1
    over.set()
    changing.join()
    wrong = sum(count for kind, count in answers.items() if not kind.startswith("200 image/"))
    rows.append((f"answers to {answers.total():,} requests", f"{wrong} not pictures; {dict(answers)}", "0"))
    rows.append(("changed meanwhile", str(dict(changed)), ""))


def _change(here: Stand, over: threading.Event, changed: Counter[str]) -> None:
    """Puts a picture back, treats it at another level or without copies, and so the next one."""
    client = here.client
    pictures = [picture.id for picture in client.pictures.each("l")][:_CHANGED]
    settings = client.recipes.get("l").settings.model_copy(update={"effort": Effort.QUICK})
    while not over.is_set():
        for level, copies in ((Level.LEAN, []), (Level.EVERYDAY, [CopyFormat.WEBP, CopyFormat.AVIF])):
            client.recipes.save("l", settings.model_copy(update={"level": level, "copies": copies}))
            for picture in pictures:
                scope = Scope(pictures=[picture])
                for kind in (RunKind.RESTORE, RunKind.TREAT):
                    run = client.runs.start(RunRequest(library="l", kind=kind, scope=scope))
                    changed[f"files, {kind}"] += client.runs.wait(run.id).done
        changed["whole rounds"] += 1


if __name__ == "__main__":
    main()

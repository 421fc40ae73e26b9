"""A real site that nobody here built: Wagtail, gunicorn and nginx, from connecting to handing back.

One site lives through all of it, in the order in which an administrator meets it.
"""

from __future__ import annotations

import io
import json
import os
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import pytest
from conftest import Service, hashes, open_folder, photograph, running_service, wait_for
from databases import Postgres
from PIL import Image
from running import WagtailSite, wagtail_site

from plumcrate.contract.delivery import AskRequest
from plumcrate.contract.descriptions import Texts
from plumcrate.contract.people import Ability, LibraryKeyRequest
from plumcrate.contract.runs import RunKind, RunRequest, RunState
from plumcrate.imaging import score

pytestmark = pytest.mark.slow

PICTURES = 6
#: Of each picture: a cut for the strip, one for the grid, three formats of a smaller one; and the hero's.
RENDITIONS = PICTURES * 5 + 1
MODERN = {"Accept": "image/avif,image/webp,*/*"}


@dataclass
class Met:
    """The site, the service, and the media folder as it was before they met."""

    site: WagtailSite
    service: Service
    before: dict[str, str]


@pytest.fixture(scope="module")
def met(postgres: Postgres) -> Iterator[Met]:
    # The server's workers run as somebody else.
    with open_folder() as home:
        yield from _meeting(postgres, home)


def _meeting(postgres: Postgres, home: Path) -> Iterator[Met]:
    for number in range(PICTURES):
        photograph(home / f"pictures/view-{number}.jpg", 900, 600, seed=number)
    with (
        wagtail_site(home / "site", home / "pictures") as site,
        postgres.fresh() as url,
        running_service(url, home / "state") as service,
    ):
        service.environment["PLUMCRATE_PAGES_ALLOWED"] = json.dumps(
            [f"127.0.0.1:{site.port}", f"127.0.0.1:{site.behind}"]
        )
        service.kill("service")
        service.start_service()
        service.start_worker()
        yield Met(site, service, hashes(site.media))


def plumcrate(met: Met, *arguments: str) -> subprocess.CompletedProcess[str]:
    environment = os.environ | {"PLUMCRATE_URL": met.service.url, "PLUMCRATE_KEY": met.service.key}
    return subprocess.run(
        [sys.executable, "-m", "plumcrate", *arguments],
        env=environment,
        capture_output=True,
        text=True,
        timeout=900,
    )


@contextmanager
def admin(site: WagtailSite) -> Iterator[httpx.Client]:
    """Somebody signed in to the site's admin."""
    with httpx.Client(base_url=site.address, follow_redirects=True, timeout=60) as client:
        send(client, "/admin/login/", {"username": "keeper", "password": "the lamp is lit"})
        yield client


def send(
    client: httpx.Client, path: str, data: dict[str, str], to: str | None = None, **more: Any
) -> httpx.Response:
    """Sends a form of the admin, as its page has it."""
    page = client.get(path)
    token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page.text)
    assert token, page.text
    answer = client.post(to or path, data=data | {"csrfmiddlewaretoken": token[1]}, **more)
    assert answer.status_code == 200, answer.text
    return answer


def test_set_up_makes_the_site_light_by_the_one_command(met: Met, tmp_path: Path) -> None:
    rules = tmp_path / "light.conf"
    address = f"{met.site.address}/media/"
    done = plumcrate(
        met, "set-up", str(met.site.media), address, "--slug", "ledge", "--rules", str(rules), "--yes"
    )
    said = " ".join(done.stdout.split())
    by_names = f"{RENDITIONS} are renditions of others, 0 as the site says and {RENDITIONS} by their names"
    assert by_names in said, done.stdout + done.stderr
    assert f"{PICTURES} pictures in {PICTURES + RENDITIONS} files" in said
    assert "The site is served by nginx" in said
    assert "Rules for nginx are in" in said
    assert "Run 1 has finished" in said
    assert "answers are not as they should be" in said, "nobody has included the rules"
    assert done.returncode == 1
    met.site.rules = rules.read_text()
    met.site.start()
    asked = met.service.client.serving.ask("ledge", AskRequest(page="/"))
    assert asked.rows
    assert asked.right, [
        (row.path, got.browser, got.fault) for row in asked.rows for got in row.got if got.fault
    ]
    again = plumcrate(met, "set-up", str(met.site.media), address, "--yes", "--rules", str(rules))
    assert "is connected already, as ledge" in again.stdout
    assert again.returncode == 0, again.stdout + again.stderr


def test_the_site_s_app_is_told_everything_and_tells_everything(met: Met) -> None:
    client = met.service.client
    key = client.keys.make_for_library(
        "ledge", LibraryKeyRequest(name="site", abilities=[Ability.TREAT, Ability.MEND])
    )
    met.site.plumcrate = {"url": met.service.url, "key": key.secret, "library": "ledge"}
    strong = {"PLUMCRATE_KEY": met.service.key}
    hook = f"http://127.0.0.1:{met.site.behind}/plumcrate/webhook/"
    said = met.site.manage(
        "plumcrate", "connect", f"{met.site.address}/media/", "--webhook", hook, environment=strong
    )
    for name in ("hook_secret", "webhook_secret"):
        found = re.search(rf'PLUMCRATE\["{name}"\] = "([^"]+)"', said)
        assert found, said
        met.site.plumcrate[name] = found[1]
    met.site.start()
    assert f"{RENDITIONS} renditions were told, 0 refused; {RENDITIONS} stand there" in met.site.manage(
        "plumcrate", "map", environment=strong
    )
    assert f"{PICTURES} pictures" in met.site.manage("plumcrate", "status")
    assert f"{PICTURES} pictures in" in met.site.manage("plumcrate", "sync", environment=strong)


def stored(met: Met, title: str) -> dict[str, object]:
    """What Wagtail has on record of an image."""
    text = (
        "import json; from wagtail.images import get_image_model; "
        f"one = get_image_model().objects.get(title={title!r}); "
        "print('@' + json.dumps([one.pk, one.file.name, one.file_size, one.file_hash]))"
    )
    line = next(line for line in met.site.python(text).splitlines() if line.startswith("@"))
    return dict(zip(("pk", "name", "size", "hash"), json.loads(line[1:]), strict=True))


def upload(met: Met, title: str, seed: int) -> bytes:
    """A new picture, by the admin's own form; its bytes."""
    place = met.site.place / f"{title}.jpg"
    photograph(place, 1200, 800, seed=seed)
    data = place.read_bytes()
    with admin(met.site) as client:
        send(
            client,
            "/admin/images/add/",
            {"title": title},
            files={"file": (f"{title}.jpg", data, "image/jpeg")},
        )
    return data


def test_an_upload_in_the_admin_is_light_soon_and_its_renditions_are_made_of_what_was_uploaded(
    met: Met,
) -> None:
    data = upload(met, "lantern", 77)
    path = str(stored(met, "lantern")["name"])
    address = f"{met.site.address}/media/{path}"
    wait_for(lambda: httpx.get(address, headers=MODERN).headers["content-type"] == "image/avif")
    wait_for(lambda: httpx.get(address).content != data)
    light = (met.site.media / path).stat().st_size
    assert light < len(data)
    wait_for(lambda: stored(met, "lantern")["size"] == light)

    # A generation is not lost: the rendition is what Wagtail makes of the upload itself.
    text = (
        "from wagtail.images import get_image_model; "
        "one = get_image_model().objects.get(title='lantern'); "
        "print('@' + one.get_rendition('width-600|format-png').file.name)"
    )
    name = next(line[1:] for line in met.site.python(text).splitlines() if line.startswith("@"))
    made = Image.open(met.site.media / name).convert("RGB")
    from_upload = Image.open(io.BytesIO(data)).resize(made.size, Image.Resampling.LANCZOS)
    from_light = Image.open(met.site.media / path).resize(made.size, Image.Resampling.LANCZOS)
    own, lost = (score(_png(each), _png(made)) for each in (from_upload, from_light))
    assert own > 99.9
    assert lost < own - 1

    # And it belongs to its picture, as the site said when it was saved.
    picture = met.service.client.pictures.page("ledge", path=path).rows[0]
    wait_for(lambda: name in [file.path for file in met.service.client.pictures.get(picture.id).all_files])


def _png(image: Image.Image) -> bytes:
    into = io.BytesIO()
    image.convert("RGB").save(into, "PNG")
    return into.getvalue()


def said_by_wagtail(met: Met, title: str) -> str:
    text = (
        "from wagtail.images import get_image_model; "
        f"print('@' + get_image_model().objects.get(title={title!r}).description)"
    )
    return next(line[1:] for line in met.site.python(text).splitlines() if line.startswith("@"))


def test_descriptions_are_shared_both_ways(met: Met) -> None:
    client, name = met.service.client, str(stored(met, "view-2")["name"])
    picture = client.pictures.page("ledge", path=name).rows[0]
    client.descriptions.save(
        picture.id, "en", Texts(alternative="The ledge at low water", credit="Ada Marsh")
    )
    wait_for(lambda: said_by_wagtail(met, "view-2") == "The ledge at low water")

    met.site.python(
        "from wagtail.images import get_image_model; "
        "one = get_image_model().objects.get(title='view-2'); "
        "one.description = 'The ledge at high water'; one.save()"
    )
    wait_for(lambda: client.descriptions.of_picture(picture.id)[0].alternative == "The ledge at high water")
    assert client.descriptions.of_picture(picture.id)[0].credit == "Ada Marsh", "other texts stay"


def test_the_report_puts_one_back_and_gives_it_a_level(met: Met) -> None:
    image = stored(met, "view-1")
    place = met.site.media / str(image["name"])
    with admin(met.site) as client:
        report = "/admin/reports/picture-weights/"
        shown = client.get(report).text
        assert "view-1" in shown
        assert "lighter" in shown
        for act, said in (("restore", "is put back"), ("lean", "treated at the level lean")):
            now = place.read_bytes()
            done = send(client, report, {"act": act}, to=f"{report}{image['pk']}/")
            assert said in done.text
            wait_for(lambda now=now: place.read_bytes() != now)
            if act == "restore":
                assert hashes(met.site.media)[str(image["name"])] == met.before[str(image["name"])]
    wait_for(lambda: stored(met, "view-1")["size"] == place.stat().st_size)
    assert stored(met, "view-1")["hash"] == image["hash"]


def test_pages_go_on_and_nobody_waits_while_the_service_is_away(met: Met) -> None:
    with_us = httpx.get(met.site.address).text
    assert "view-0" in with_us
    met.service.kill("service")
    try:
        httpx.get(met.site.address)  # it finds out
        began = time.monotonic()
        away = httpx.get(met.site.address)
        assert away.status_code == 200
        assert time.monotonic() - began < 2.0
        for address in re.findall(r'src="(/media/[^"]+)"', away.text):
            assert httpx.get(met.site.address + address, headers=MODERN).status_code == 200
        upload(met, "while-away", 78)
    finally:
        met.service.start_service()
    path = str(stored(met, "while-away")["name"])
    wait_for(lambda: met.service.client.pictures.page("ledge", path=path).rows)


def test_deleted_in_the_admin_is_gone_everywhere(met: Met) -> None:
    image = stored(met, "lantern")
    with admin(met.site) as client:
        send(client, f"/admin/images/{image['pk']}/delete/", {})
    assert not (met.site.media / str(image["name"])).exists()
    path = str(image["name"])
    wait_for(lambda: not list((met.site.media / path).parent.glob(f"{Path(path).name}.*")))
    assert httpx.get(f"{met.site.address}/media/{path}", headers=MODERN).status_code == 404


def test_all_of_it_comes_back_and_nothing_of_ours_stays(met: Met) -> None:
    client = met.service.client
    wait_for(
        lambda: all(run.state in (RunState.FINISHED, RunState.STOPPED) for run in client.runs.page("ledge"))
    )
    run = client.runs.start(RunRequest(library="ledge", kind=RunKind.HAND_BACK, confirm="ledge"))
    ended = client.runs.wait(run.id)
    assert (ended.state, ended.failed) == (RunState.FINISHED, 0)
    now = hashes(met.site.media)
    assert {path: now.get(path) for path in met.before} == met.before, "every byte that the site had"
    assert not [path for path in now if path.endswith((".jpg.webp", ".jpg.avif"))]
    page = httpx.get(met.site.address).text
    for address in re.findall(r'(?:src|srcset)="(/media/[^" ]+)', page):
        assert httpx.get(met.site.address + address, headers=MODERN).status_code == 200

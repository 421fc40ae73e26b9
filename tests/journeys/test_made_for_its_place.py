"""Sizes, focal points, touch-ups and watermarks through the real service: by client, command line and
HTTP."""

from __future__ import annotations

import io
import json
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import httpx
import numpy as np
import psycopg
import pytest
from conftest import Service, hashes, photograph, running_service
from databases import Postgres
from forks import forker
from PIL import Image

from plumcrate.client import Client, ProblemError
from plumcrate.contract.delivery import Delivery, PageFiles
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.pictures import FileState
from plumcrate.contract.runs import RunRequest
from plumcrate.contract.sizes import Focus, LadderRequest, SizeSettings
from plumcrate.contract.touches import TouchedView, Touches, TouchesFor, WatermarkSettings

NAMES = ("2026/headland.jpg", "2026/ledge.jpg", "2026/tower.jpg")

#: It failed now and then in the standard run, and never alone; why is not known yet.
pytestmark = pytest.mark.slow


@dataclass
class Place:
    """A library with three photographs, its service and worker."""

    service: Service
    root: Path
    database: str

    @property
    def client(self) -> Client:
        return self.service.client

    def run(self) -> int:
        run = self.client.runs.wait(self.client.runs.start(RunRequest(library="ledge")).id)
        assert run.failed == 0, [item.reason for item in self.client.runs.items(run.id, state="failed").rows]
        return run.files

    def picture(self, path: str) -> int:
        return next(one.id for one in self.client.pictures.each("ledge") if one.path == path)

    def image(self, path: str) -> Image.Image:
        return Image.open(io.BytesIO((self.root / path).read_bytes()))

    def command(self, *arguments: str, code: int = 0) -> str:
        environment = {
            "PLUMCRATE_URL": self.service.url,
            "PLUMCRATE_KEY": self.service.key,
            "PATH": "/usr/bin",
        }
        done = forker.run("plumcrate", arguments, environment=environment, cwd=self.root.parent)
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout + done.stderr


@pytest.fixture(scope="module")
def place(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    home = tmp_path_factory.mktemp("place")
    with postgres.fresh() as url, running_service(url, home / "state") as service:
        for number, name in enumerate(NAMES):
            photograph(home / "library" / name, 640, 480, seed=number + 2)
        service.start_worker()
        service.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "library")))
        service.client.jobs.wait(service.client.jobs.survey("ledge").id)
        yield Place(service, home / "library", url)


def test_a_size_is_defined_made_seen_in_pages_served_changed_and_removed(place: Place) -> None:
    client = place.client
    card = SizeSettings.model_validate({"way": "fill", "width": 260, "height": 195, "anchor": "top"})
    effect = client.sizes.effect("ledge", "card", card)
    assert (effect.make, effect.remove) == (3, 0)
    assert client.sizes.all("ledge") == [], "and nothing was done"
    saved = client.sizes.save("ledge", "card", card)
    assert (saved.files, saved.waiting) == (0, 3)
    assert place.run() == 6
    (saved,) = client.sizes.all("ledge")
    assert (saved.files, saved.waiting) == (3, 0)
    assert 0 < saved.bytes_lightest <= saved.bytes
    assert place.image("2026/headland-card-260.jpg").size == (260, 195)
    detail = client.pictures.get(place.picture(NAMES[0]))
    (made,) = (file for file in detail.all_files if file.size_name == "card")
    assert (made.path, made.slot, made.state) == ("2026/headland-card-260.jpg", "1x", FileState.LIGHTER)

    (file,) = client.pages.files("ledge", PageFiles(paths=[NAMES[0]]))
    assert [(size.path, size.width) for size in file.sizes] == [("2026/headland-card-260.jpg", 260)]
    client.libraries.change("ledge", LibraryChange(delivery=Delivery.model_validate({"public": True})))
    time.sleep(2.2)
    for accept, kinds in (
        ("image/jpeg", {"image/jpeg"}),
        ("image/avif,image/webp", {"image/avif", "image/webp", "image/jpeg"}),
    ):
        answer = httpx.get(
            f"{place.service.url}/media/ledge/2026/headland-card-260.jpg", headers={"accept": accept}
        )
        assert answer.status_code == 200
        assert answer.headers["content-type"] in kinds

    before = hashes(place.root)
    client.sizes.save("ledge", "card", card.model_copy(update={"grey": True}))
    assert place.run() == 3
    changed = {path for path, content in hashes(place.root).items() if before.get(path) != content}
    assert all("-card-" in path for path in changed)
    client.sizes.remove("ledge", "card")
    with pytest.raises(ProblemError, match="no size called card"):
        client.sizes.remove("ledge", "card")
    assert place.run() == 3
    assert not [path for path in hashes(place.root) if "-card-" in path]


def test_a_new_upload_gets_its_sizes_by_itself(place: Place) -> None:
    client = place.client
    client.sizes.save("ledge", "thumb", SizeSettings(width=120, copies=[]))
    place.run()
    data = photograph(place.root.parent / "sent.jpg", 500, 400, seed=9)
    client.pictures.upload("ledge", "2026/sent.jpg", data)
    deadline = time.monotonic() + 120
    while not (place.root / "2026/sent-thumb-120.jpg").exists():
        assert time.monotonic() < deadline
        time.sleep(0.1)
    assert place.image("2026/sent-thumb-120.jpg").size == (120, 96)


def test_the_focal_point_and_what_each_size_shows(place: Place) -> None:
    client = place.client
    client.sizes.save(
        "ledge",
        "square",
        SizeSettings.model_validate({"way": "fill", "width": 200, "height": 200, "copies": []}),
    )
    picture = place.picture(NAMES[2])
    found = client.pictures.cuts(picture)
    assert not found.by_hand
    assert {cut.name for cut in found.cuts} >= {"square"}
    right = client.pictures.set_focus(picture, Focus(x=1.0, y=0.5))
    assert (right.by_hand, right.x) == (True, 1.0)
    (cut,) = (one for one in right.cuts if one.name == "square")
    assert (cut.left, cut.right, cut.top, cut.bottom) == (0.25, 1.0, 0.0, 1.0)
    assert client.pictures.set_focus(picture, None).by_hand is False
    said = place.command("cuts", "ledge", NAMES[2], "--focus", "0,0.5")
    assert "set by hand" in said
    assert "0% to 75%" in said
    place.command("cuts", "ledge", NAMES[2], "--focus", "left", code=2)
    client.sizes.remove("ledge", "square")


def test_touch_ups_are_looked_at_saved_made_and_taken_back(place: Place) -> None:
    client = place.client
    place.run()
    before = hashes(place.root)
    picture = place.picture(NAMES[0])
    steps = [{"kind": "turn", "quarters": 1}, {"kind": "brightness", "amount": 25}]
    view = TouchedView.model_validate({"steps": steps, "whole": True, "width": 300, "height": 300})
    seen = Image.open(io.BytesIO(client.touches.view(picture, view)))
    assert seen.size == (225, 300)
    part = TouchedView.model_validate({"steps": steps, "left": 0.5, "top": 0.5, "width": 64, "height": 48})
    assert Image.open(io.BytesIO(client.touches.view(picture, part))).size == (64, 48)
    assert hashes(place.root) == before
    touched = client.touches.save(picture, Touches.model_validate({"steps": steps}))
    assert (touched.width, touched.height) == (480, 640)
    place.run()
    after = hashes(place.root)
    assert {path for path in after if before.get(path) != after[path]} >= {
        NAMES[0],
        "2026/headland-thumb-120.jpg",
    }
    assert place.image(NAMES[0]).size == (480, 640)
    assert place.image("2026/headland-thumb-120.jpg").size == (120, 160)
    (file,) = client.pages.files("ledge", PageFiles(paths=[NAMES[0]]))
    assert (file.width, file.height) == (480, 640), "pages state what is shown"
    said = place.command("touch", "ledge", NAMES[0])
    assert "turn" in said
    assert "480 × 640" in said
    place.command("touch", "ledge", NAMES[0], "--drop", "2")
    place.command("touch", "ledge", NAMES[0], "--add", "melt:amount=3", code=2)
    place.command("touch", "ledge", NAMES[0], "--clear")
    place.run()
    assert hashes(place.root) == before
    client.touches.save_several(
        "ledge", TouchesFor.model_validate({"pictures": [picture], "steps": [{"kind": "grey"}]})
    )
    assert client.touches.get(picture).steps[0].kind == "grey"
    history = client.pictures.get(picture).history
    assert next(entry for entry in history if entry.action == "touched-up").detail["steps"] == ["grey"]
    client.touches.save(picture, Touches(steps=[]))


def test_watermarks_by_command_line(place: Place) -> None:
    place.run()
    before = hashes(place.root)
    stamp = place.root.parent / "stamp.png"
    rgba = np.zeros((30, 60, 4), np.uint8)
    rgba[5:25, 5:55] = (220, 40, 40, 255)
    Image.fromarray(rgba).save(stamp)
    said = place.command(
        "watermark",
        "ledge",
        "stamp",
        "--picture",
        str(stamp),
        "--set",
        "width=0.1",
        "--set",
        "least=20",
        "--set",
        "tone=own",
        "--set",
        "sizes=",
    )
    assert "60 × 30" in said
    assert place.client.watermarks.all("ledge")[0].settings == WatermarkSettings.model_validate(
        {"width": 0.1, "least": 20, "tone": "own", "sizes": []}
    )
    place.run()
    after = hashes(place.root)
    originals = {path for path in before if path.count("-") == 0}
    assert {path for path in after if before.get(path) != after[path]} <= {
        path for path in after if path.split(".jpg")[0] + ".jpg" in originals
    }
    corner = np.asarray(place.image(NAMES[1]).convert("RGB"))[430:462, 566:622].astype(int)
    assert corner[..., 0].mean() > corner[..., 1].mean() + 30
    assert "stamp" in place.command("watermarks", "ledge")
    opaque = place.root.parent / "opaque.png"
    Image.new("RGB", (20, 20)).save(opaque)
    refused = place.command("watermark", "ledge", "stamp", "--picture", str(opaque), code=4)
    assert "no transparency" in refused
    place.command("watermark", "ledge", "stamp", "--remove")
    place.run()
    assert hashes(place.root) == before


def test_sizes_by_command_line_and_what_nobody_asked_for(place: Place) -> None:
    said = place.command("size", "ledge", "wide", "--set", "width=400", "--set", "densities=1,1.5")
    assert "Nothing was saved" in said
    said = place.command("size", "ledge", "wide", "--set", "width=400", "--set", "copies=", "--save")
    assert "Saved" in said
    place.run()
    (wide,) = (one for one in json.loads(place.command("sizes", "ledge", "--json")) if one["name"] == "wide")
    assert wide["files"] == 4
    assert "fit 400 × any" in place.command("sizes", "ledge")
    httpx.get(
        f"{place.service.url}/media/ledge/2026/ledge-wide-400.jpg", headers={"user-agent": "Mozilla/5.0"}
    ).raise_for_status()
    deadline = time.monotonic() + 60
    while True:
        found = {one.name: one for one in place.client.sizes.unused("ledge").sizes}
        if "wide" in found and found["wide"].asked_for == 1:
            break
        assert time.monotonic() < deadline
        time.sleep(0.5)
    assert found["wide"].files == 3
    assert "wide" in place.command("sizes", "ledge", "--unused")
    for wrong in ("width=0", "way=fill", "pattern={stem}{ext}", "colour=red"):
        code = 4 if "pattern" in wrong else 2
        more = () if wrong == "width=0" else ("--set", "width=90")
        answer = place.command("size", "ledge", "odd", *more, "--set", wrong, code=code)
        assert "plumcrate:" in answer
    early = place.command("sizes", "ledge", "--remove-unused", "--days", "7", code=4)
    assert "0 days" in early
    assert "fewer days" in early
    with psycopg.connect(place.database.replace("+psycopg", "")) as records:
        records.execute("UPDATE sent_bytes SET day = day - 9")
        records.execute("UPDATE files SET treated_at = treated_at - interval '9 days' WHERE size = 'wide'")
    said = place.command("sizes", "ledge", "--remove-unused", "--days", "7", "--size", "wide")
    assert "3 files" in said
    assert place.run() == 3
    assert [path for path in hashes(place.root) if "-wide-" in path] == ["2026/ledge-wide-400.jpg"]
    answer = httpx.get(f"{place.service.url}/media/ledge/2026/tower-wide-400.jpg")
    assert (answer.status_code, answer.headers["location"]) == (302, "/media/ledge/2026/tower.jpg")
    assert "3 files will be made again" in place.command("sizes", "ledge", "--bring-back")
    assert place.run() == 3
    assert "Nothing had been removed" in place.command("sizes", "ledge", "--bring-back", "--size", "wide")
    place.command("size", "ledge", "wide", "--remove")
    assert "wide" not in place.command("sizes", "ledge")


def test_a_ladder_is_measured_here_or_refused(place: Place) -> None:
    ladder = place.client.sizes.ladder("ledge", LadderRequest(least=100, most=600, step=4_000))
    assert ladder.files >= 8
    assert ladder.widths[0] == 100
    assert ladder.widths[-1] == 600
    assert ladder.widths == sorted(set(ladder.widths))
    steps = np.diff(ladder.bytes[:-1])
    assert (np.abs(steps - 4_000) < 1_500).all(), steps
    said = place.command(
        "ladder", "ledge", "--least", "100", "--most", "600", "--step", "4", "--save", "rungs"
    )
    assert "Saved as rungs" in said
    place.run()
    made = [
        file
        for one in place.client.pictures.each("ledge")
        for file in place.client.pictures.get(one.id).all_files
        if file.size_name == "rungs"
    ]
    assert {file.slot for file in made} == {f"{width}w" for width in ladder.widths if width < 640}

"""A library that is kept light: new files by watching, webhook and upload; checks, hand-back, bad names."""

import base64
import hmac
import http.client
import json
import os
import subprocess
import time
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest
from conftest import Service, hashes, photograph, wait_for
from PIL import Image

from plumcrate.client import ProblemError
from plumcrate.contract.automation import Automation, NewFiles
from plumcrate.contract.common import Level
from plumcrate.contract.jobs import CheckRequest, ForecastRequest, JobState, PruneRequest
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.pictures import FileState, OverrideRequest, Picture
from plumcrate.contract.recipes import Conversions, FirstFile, How, RecipeSettings, Rule, When
from plumcrate.contract.runs import ItemState, RunKind, RunRequest, Scope
from plumcrate.demo.painter.drawings import DRAWINGS
from plumcrate.storage.names import IDENTITY_NAME


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "ledge"
    for number in range(3):
        photograph(folder / f"2025/p{number}.jpg", seed=number)
    return folder


@pytest.fixture
def kept(service: Service, root: Path) -> Service:
    """A service with a worker and a surveyed library called ledge."""
    service.start_worker()
    service.client.libraries.connect(LibraryRequest(name="Ledge", root=str(root)))
    survey = service.client.jobs.survey("ledge")
    assert service.client.jobs.wait(survey.id).survey.files_new == 3
    return service


def keep(service: Service, **automation: Any) -> None:
    service.client.libraries.change("ledge", LibraryChange(automation=Automation(**automation)))


def pictures(service: Service) -> dict[str, Picture]:
    return {one.path: one for one in service.client.pictures.each("ledge")}


def settled(service: Service, path: str) -> bool:
    found = pictures(service).get(path)
    return found is not None and found.state in (FileState.LIGHTER, FileState.KEPT)


def all_over(service: Service) -> bool:
    return all(run.finished_at for run in service.client.runs.page("ledge"))


def test_a_watched_folder(kept: Service, root: Path) -> None:
    keep(kept, watch=True, new_files="at-once", settle_seconds=0.8)
    wait_for(lambda: "watching" in (kept.state / "worker.log").read_text())
    data = photograph(root.parent / "new.jpg", seed=9)

    with (root / "2025/new.jpg").open("wb") as file:  # written slowly, as an upload is
        for start in range(0, len(data), len(data) // 4):
            file.write(data[start : start + len(data) // 4])
            file.flush()
            time.sleep(0.4)
            assert "2025/new.jpg" not in pictures(kept), "a file still being written is not touched"
    wait_for(lambda: settled(kept, "2025/new.jpg"))
    wait_for(lambda: all_over(kept))
    found = kept.client.pictures.get(pictures(kept)["2025/new.jpg"].id)
    assert found.bytes_now < len(data)
    assert (root / "2025/new.jpg.avif").exists()
    runs = len(kept.client.runs.page("ledge"))
    time.sleep(2.5)
    assert len(kept.client.runs.page("ledge")) == runs, "what we wrote ourselves is not taken in"

    second = photograph(root / "2025/new.jpg", seed=10)  # an editor replaces it
    wait_for(lambda: len(kept.client.runs.page("ledge")) > runs and all_over(kept))
    detail = kept.client.pictures.get(found.id)
    assert kept.client.pictures.content(detail.all_files[0].id, "before") == second

    (root / "2025/new.jpg").unlink()
    wait_for(lambda: "2025/new.jpg" not in pictures(kept))
    assert sorted(path.name for path in root.rglob("new*")) == [], "its copies went with it"
    assert kept.client.backups.get("ledge").backups >= 2, "its backups stay for their term"

    for number in range(250):  # a burst becomes one
        (root / "burst").mkdir(exist_ok=True)
        (root / f"burst/{number}.jpg").write_bytes(data[:-2] + bytes([number % 256]) + data[-2:])
    before = len(kept.client.runs.page("ledge", limit=500))
    wait_for(lambda: sum(path.startswith("burst/") for path in pictures(kept)) == 250)
    assert len(kept.client.runs.page("ledge", limit=500)) - before <= 3


def signed(secret: str, hook_id: str, body: bytes, at: float | None = None) -> dict[str, str]:
    stamp = str(int(time.time() if at is None else at))
    key = base64.b64decode(secret.removeprefix("whsec_"))
    value = base64.b64encode(hmac.digest(key, f"{hook_id}.{stamp}.".encode() + body, "sha256")).decode()
    return {"webhook-id": hook_id, "webhook-timestamp": stamp, "webhook-signature": f"v1,xxxx v1,{value}"}


def test_webhooks_are_taken_once_and_only_with_our_signature(kept: Service, root: Path) -> None:
    keep(kept, new_files="background", settle_seconds=0.3)
    hook = kept.client.webhooks.make_incoming_secret("ledge")
    photograph(root / "2025/hooked.jpg", seed=11)
    body = json.dumps(
        {"type": "media.created", "timestamp": "2026-01-01T00:00:00Z", "data": {"paths": ["2025/hooked.jpg"]}}
    ).encode()

    def send(headers: dict[str, str], content: bytes = body) -> httpx.Response:
        return httpx.post(hook.url, headers=headers, content=content)

    good = signed(hook.secret, "msg_1", body)
    refused = {
        "forged": send(good, body.replace(b"hooked", b"p0.jpg")),
        "another secret": send(signed("whsec_" + base64.b64encode(b"x" * 32).decode(), "msg_1", body)),
        "no signature": send({}),
        "old": send(signed(hook.secret, "msg_1", body, time.time() - 1000)),
        "from the future": send(signed(hook.secret, "msg_1", body, time.time() + 1000)),
    }
    assert {name: answer.status_code for name, answer in refused.items()} == dict.fromkeys(refused, 401)
    assert {answer.json()["type"].rpartition(":")[2] for answer in refused.values()} == {
        "bad-signature",
        "too-old",
    }
    assert send(good).json() == {"taken": 1, "repeated": False}
    assert send(good).json() == {"taken": 0, "repeated": True}
    outside = json.dumps(
        {"type": "x", "data": {"paths": ["../../etc/passwd", "/etc/passwd", "a//b"]}}
    ).encode()
    assert send(signed(hook.secret, "msg_2", outside), outside).json()["taken"] == 0
    wait_for(lambda: settled(kept, "2025/hooked.jpg"))
    kept.client.webhooks.make_incoming_secret("ledge")
    assert send(signed(hook.secret, "msg_3", body)).status_code == 401, "a new secret ends the old one"


def test_uploads(kept: Service, root: Path) -> None:
    client = kept.client
    data = photograph(root.parent / "u.jpg", 800, 600, seed=12)
    found = client.pictures.upload("ledge", "2026/01/an ünusual näme.jpg", data)
    assert found.state in ("light", "done")
    assert found.size_now < found.size_before == len(data)
    wait_for(lambda: all_over(kept))
    assert (root / "2026/01/an ünusual näme.jpg.avif").exists()
    later = client.pictures.upload("ledge", "2026/later.jpg", data, NewFiles.BY_HAND)
    assert (later.state, later.run_id, (root / "2026/later.jpg").read_bytes()) == ("not-treated", None, data)
    for path, content, code in (
        ("2026/later.jpg", data + b" ", "name-taken"),
        ("2026/page.jpg", b"<html>no such page</html>", "not-a-picture"),
        (".hidden/x.jpg", data, "invalid-request"),
        ("2026/script.php", data, "invalid-request"),
        ("x" * 256 + ".jpg", data, "invalid-request"),
    ):
        with pytest.raises(ProblemError) as caught:
            client.pictures.upload("ledge", path, content)
        assert caught.value.code == code, path
    raw = http.client.HTTPConnection("127.0.0.1", kept.port)
    address = "/api/v1/libraries/ledge/files/2026/%2e%2e/%2e%2e/outside.jpg"
    raw.request("PUT", address, data, {"Authorization": f"Bearer {kept.key}"})
    assert raw.getresponse().status == 422
    raw.close()
    assert not (root.parent / "outside.jpg").exists()
    assert (root / "2026/later.jpg").read_bytes() == data


def test_forecast_then_run_then_hand_back(kept: Service, root: Path) -> None:
    client = kept.client
    before = hashes(root)
    expected = client.jobs.wait(client.jobs.forecast("ledge", ForecastRequest(seconds=60)).id)
    assert hashes(root) == before, "a forecast writes nothing"
    outlook = expected.forecast.outlook
    assert (outlook.files, outlook.sampled_files) == (3, 3)
    run = client.runs.wait(client.runs.start(RunRequest(library="ledge")).id)
    right = client.jobs.get(expected.id).forecast.outlook
    assert right.actual_files == 3
    assert right.actual_after == run.bytes_after == right.bytes_after.expected, "all files were in the sample"
    assert right.actual_lightest == right.bytes_lightest.low
    assert outlook.run_seconds is not None
    assert outlook.run_seconds > 0
    efforts = {str(one.effort): one for one in outlook.efforts}
    assert list(efforts) == ["quick", "normal", "thorough"], "every kind was treated with each effort"
    assert efforts["normal"].bytes_after == outlook.bytes_after.expected
    assert efforts["normal"].run_seconds == pytest.approx(outlook.run_seconds, abs=0.11)
    assert efforts["thorough"].bytes_lightest <= efforts["normal"].bytes_lightest * 1.02

    check = client.jobs.wait(client.jobs.check("ledge", CheckRequest()).id)
    report = check.check
    assert (check.state, report.files, report.backups, report.differences) == (JobState.FINISHED, 3, 3, 0)

    (root / "2025/p0.jpg").write_bytes(b"an editor's new version")
    with pytest.raises(ProblemError) as caught:
        client.runs.start(RunRequest(library="ledge", kind=RunKind.HAND_BACK, confirm="wrong"))
    assert caught.value.code == "not-confirmed"
    first = client.runs.wait(
        client.runs.start(RunRequest(library="ledge", kind=RunKind.HAND_BACK, confirm="ledge")).id
    )
    assert (first.done, first.failed) == (2, 1)
    assert first.proof is not None
    assert first.proof["verdict"] == "incomplete"
    assert (root / "2025/p0.jpg").read_bytes() == b"an editor's new version"
    request = RunRequest(library="ledge", kind=RunKind.HAND_BACK, confirm="ledge", overwrite=True)
    second = client.runs.wait(client.runs.start(request).id)
    assert second.proof is not None
    assert (second.proof["verdict"], second.proof["originals_identical"]) == ("complete", 3)
    assert hashes(root) == before, "every original byte for byte, and nothing of ours left"
    (root / "originals.sha256").write_bytes(client.runs.checksums(second.id))
    checked = subprocess.run(
        ["sha256sum", "--check", "originals.sha256"], cwd=root, capture_output=True, text=True, check=True
    )
    assert checked.stdout.splitlines() == [f"{path}: OK" for path in sorted(before)]
    (root / "originals.sha256").unlink()
    with pytest.raises(ProblemError, match="no hand-back"):
        client.runs.checksums(client.runs.page("ledge")[-1].id)
    with pytest.raises(ProblemError) as caught:
        client.jobs.prune("ledge", PruneRequest(confirm="no"))
    assert caught.value.code == "not-confirmed"
    assert not (root / IDENTITY_NAME).exists(), "nor the identity file"
    pruned = client.jobs.wait(client.jobs.prune("ledge", PruneRequest(confirm="ledge")).id).pruning
    assert (pruned.backups, pruned.left) == (3, 1), (
        "three originals stand; the editor's version was overwritten"
    )
    rest = client.jobs.prune("ledge", PruneRequest(confirm="ledge", orphans_too=True))
    assert client.jobs.wait(rest.id).pruning.backups == 1


def test_a_conversion_takes_the_first_files_place_and_gives_it_back(kept: Service, root: Path) -> None:
    client = kept.client
    scene = np.asarray(Image.open(root / "2025/p0.jpg"))
    Image.fromarray(scene).save(root / "2025/photo.png")
    before = hashes(root)
    client.jobs.wait(client.jobs.survey("ledge").id)
    recipe = client.recipes.get("ledge").settings
    conversions = Conversions(photographs_to_jpeg=True, first_file=FirstFile.REMOVE)
    client.recipes.save("ledge", recipe.model_copy(update={"conversions": conversions, "avif": False}))
    run = client.runs.wait(client.runs.start(RunRequest(library="ledge")).id)
    assert run.failed == 0
    assert not (root / "2025/photo.png").exists()
    assert (root / "2025/photo.jpg").stat().st_size < len((root / "2025/photo.jpg").read_bytes()) + 1
    gone = pictures(kept)["2025/photo.png"]
    assert (gone.state, gone.bytes_now) == (FileState.REMOVED, (root / "2025/photo.jpg").stat().st_size)
    survey = client.jobs.wait(client.jobs.survey("ledge").id).survey
    assert (survey.files_new, survey.files_gone) == (0, 0), "a survey knows its own"
    client.runs.wait(client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE)).id)
    assert hashes(root) == before


def test_one_picture_has_its_own_way(kept: Service, root: Path) -> None:
    client = kept.client
    found = pictures(kept)
    client.pictures.override(found["2025/p0.jpg"].id, OverrideRequest(override="leave"))
    client.pictures.override(found["2025/p1.jpg"].id, OverrideRequest(override="exact"))
    before = hashes(root)
    assert client.pictures.plan(found["2025/p0.jpg"].id)[0].verdict == "leave"
    run = client.runs.wait(client.runs.start(RunRequest(library="ledge")).id)
    assert (run.files, run.left_out) == (2, 1)
    assert hashes(root)["2025/p0.jpg"] == before["2025/p0.jpg"]
    assert client.pictures.get(found["2025/p1.jpg"].id).score == 100
    assert pictures(kept)["2025/p0.jpg"].state is FileState.LEFT_ALONE


def test_a_fault_that_passes_is_tried_again_by_itself(kept: Service, root: Path) -> None:
    store = kept.state / "backups"
    store.write_bytes(b"not a folder")  # the disk of the backups is away
    before = hashes(root)
    run = kept.client.runs.start(RunRequest(library="ledge", copies=[]))
    wait_for(
        lambda: any(
            item.not_before for item in kept.client.runs.items(run.id, state=[str(ItemState.WAITING)]).rows
        ),
        60,
    )
    assert hashes(root) == before
    store.unlink()
    ended = kept.client.runs.wait(run.id)
    assert (ended.done, ended.failed) == (3, 0)


def test_names_and_rights_that_give_trouble(kept: Service, root: Path, tmp_path: Path) -> None:
    data = photograph(tmp_path / "t.jpg", seed=20)
    long = "l" * 251 + ".jpg"
    (root / long).write_bytes(data)
    (root / "twin.jpg").write_bytes(data)
    (root / "TWIN.JPG").write_bytes(data)
    with open(os.fsencode(root) + b"/\xff\xfe.jpg", "wb") as file:
        file.write(data)
    (root / "taken.jpg").write_bytes(data)
    (root / "taken.jpg.webp").write_bytes(b"RIFF of somebody else")
    (root / "locked.jpg").write_bytes(data)
    locked = (
        subprocess.run(["chattr", "+i", root / "locked.jpg"], capture_output=True, check=False).returncode
        == 0
    )
    (root / "readonly.jpg").write_bytes(data)
    (root / "readonly.jpg").chmod(0o444)
    if os.geteuid() == 0:
        (root / "other.jpg").write_bytes(data)
        os.chown(root / "other.jpg", 12345, 12345)
    try:
        survey = kept.client.jobs.wait(kept.client.jobs.survey("ledge").id).survey
        assert any("not valid UTF-8" in note for note in survey.notes)
        run = kept.client.runs.wait(kept.client.runs.start(RunRequest(library="ledge", copies=["webp"])).id)
    finally:
        if locked:
            subprocess.run(["chattr", "-i", root / "locked.jpg"], check=True)
    items = {item.path: item for item in kept.client.runs.items(run.id, limit=100).rows}
    assert items[long].state is ItemState.DONE
    assert [one.verdict for one in items[long].outputs if one.format == "webp"] == ["name-taken"]
    assert items["twin.jpg"].state is items["TWIN.JPG"].state is ItemState.DONE
    assert items["taken.jpg"].state is ItemState.DONE
    assert (root / "taken.jpg.webp").read_bytes() == b"RIFF of somebody else"
    if locked:
        assert (items["locked.jpg"].state, items["locked.jpg"].code) == (ItemState.FAILED, "no-permission")
        assert (root / "locked.jpg").read_bytes() == data
        assert kept.client.runs.wait(kept.client.runs.retry(run.id).id).failed == 1, (
            "the webp name is still taken"
        )
    assert (root / "readonly.jpg").stat().st_mode & 0o777 == 0o444
    if os.geteuid() == 0:
        assert (root / "other.jpg").stat().st_uid == 12345
    request = RunRequest(library="ledge", kind=RunKind.RESTORE, scope=Scope(run=run.id))
    restored = kept.client.runs.wait(kept.client.runs.start(request).id)
    assert (restored.failed, restored.done) == (0, run.done + locked)
    assert (root / long).read_bytes() == (root / "twin.jpg").read_bytes() == data


def test_the_machine_is_checked(kept: Service, root: Path) -> None:
    found = {line.what: line for line in kept.client.machine().lines}
    assert {"WebP", "AVIF", "database", "clock", "workers", "backup store", "library ledge"} <= found.keys()
    assert found["workers"].verdict == "fine"
    keep(kept, backups=False)
    assert "Backups are off" in kept.client.libraries.get("ledge").warnings[0]
    root.rename(root.with_name("away"))
    line = {one.what: one for one in kept.client.machine().lines}["library ledge"]
    assert (line.verdict, "mount it" in line.todo) == ("broken", True)
    kept.kill("worker")
    wait_for(
        lambda: {one.what: one.verdict for one in kept.client.machine().lines}["workers"] == "broken", 15
    )


def test_a_rule_reaches_the_encoder(kept: Service, root: Path) -> None:
    """Drawings exact, photographs lean, in one run; the service keeps each version of the recipe."""
    DRAWINGS["logo"](np.random.default_rng(1), 300, 200).save(root / "logo.png")
    client = kept.client
    client.jobs.wait(client.jobs.survey("ledge").id)
    drawings = Rule(name="drawings", when=When(formats=["png"]), how=How(level=Level.EXACT))
    settings = RecipeSettings(level=Level.LEAN, copies=["webp"], rules=[drawings])
    effect = client.recipes.effect("ledge", settings)
    assert (effect.new, effect.by_rule) == (4, {"drawings": 1})
    assert client.recipes.save("ledge", settings).version == 2
    assert client.recipes.save("ledge", settings).version == 2, "the same settings make no new version"
    client.runs.wait(client.runs.start(RunRequest(library="ledge")).id)
    found = pictures(kept)
    assert found["logo.png"].score == 100
    assert 69 < (found["2025/p0.jpg"].score or 0) < 80
    assert [one.version for one in client.recipes.page("ledge")] == [2, 1]
    assert client.recipes.effect("ledge", client.recipes.page("ledge")[1].settings).again == 4

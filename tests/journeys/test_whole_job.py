"""The whole job through the client and the command line, with the plug pulled in the middle."""

import asyncio
import json
import os
import random
import signal
from pathlib import Path

import pytest
from conftest import Service, hashes, wait_for
from forks import forker

from plumcrate.client import AsyncClient
from plumcrate.contract.common import Level
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.pictures import FileState
from plumcrate.contract.runs import ItemState, RunKind, RunRequest, RunState, Scope
from plumcrate.imaging import identify, score
from plumcrate.storage.names import STAGED_PREFIX

EXPECTED_FAILURES = {
    "2025/10/truncated-upload.jpg": "does not decode to its end",
    "2025/10/error-page.jpg": "not a picture format",
    "2025/10/empty.png": "empty",
    "2025/10/forty-thousand.png": "limit of 60 megapixels",
}


def surveyed(service: Service, library: Path) -> None:
    service.client.libraries.connect(LibraryRequest(name="Gannet Ledge", slug="ledge", root=str(library)))
    survey = service.client.jobs.wait(service.client.jobs.survey("ledge").id)
    assert survey.reason is None


def test_treat_look_and_put_back(service: Service, library: Path) -> None:
    before = hashes(library)
    service.start_worker()
    surveyed(service, library)
    client = service.client
    run = client.runs.wait(client.runs.start(RunRequest(library="ledge")).id)
    assert run.state is RunState.FINISHED
    assert run.left == 0
    assert run.done + run.passed + run.failed == run.files == len(before)
    failures = {item.path: item.reason for item in client.runs.items(run.id, state=["failed"]).rows}
    assert failures.keys() == EXPECTED_FAILURES.keys()
    for path, words in EXPECTED_FAILURES.items():
        assert words in str(failures[path])
        assert hashes(library)[path] == before[path]

    now = hashes(library)
    savings = client.libraries.savings("ledge")
    pictures = list(client.pictures.each("ledge"))
    assert savings.pictures == len(pictures)
    assert savings.total.bytes_now == sum(picture.bytes_now for picture in pictures)
    assert savings.total.bytes_lightest < savings.total.bytes_now < savings.total.bytes_before * 0.9
    assert sum(slat.bytes_now for slat in savings.by_folder) == savings.total.bytes_now
    assert savings.copies == sum(path.endswith((".webp", ".avif")) for path in now) - sum(
        path.endswith(".webp") for path in before
    )
    assert not [path for path in now if STAGED_PREFIX in path]

    lightest = min(pictures, key=lambda one: one.score or 100)
    detail = client.pictures.get(lightest.id)
    for file in detail.all_files:
        original = client.pictures.content(file.id, "before")
        assert (library / file.path).stat().st_size == file.size_now
        for version in ("now", *(copy.format for copy in file.derived)):
            if file.format == "jpeg":
                assert score(original, client.pictures.content(file.id, version)) >= 79.4

    again = client.runs.start(RunRequest(library="ledge"))
    assert (again.files, again.state) == (0, RunState.FINISHED), "nothing is treated twice"
    assert again.already == run.files

    # A stronger level starts from the backup: the same bytes as if it had been the first.
    chosen = detail.id
    lean = client.runs.start(RunRequest(library="ledge", level=Level.LEAN, scope=Scope(pictures=[chosen])))
    client.runs.wait(lean.id)
    leaner = client.pictures.get(chosen)
    assert leaner.bytes_now < detail.bytes_now
    assert {entry.action for entry in leaner.history} >= {"replace", "copy"}

    one = client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE, scope=Scope(pictures=[chosen])))
    client.runs.wait(one.id)
    for file in client.pictures.get(chosen).all_files:
        assert hashes(library)[file.path] == before[file.path]
        assert file.state is FileState.NEW
        assert not file.derived

    everything = client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE))
    assert client.runs.wait(everything.id).failed == 0
    assert hashes(library) == before, "byte-identical, and no copies left"
    client.libraries.disconnect("ledge")
    assert client.libraries.all() == []


def test_kill_9_of_worker_and_service_loses_nothing(service: Service, library: Path, tmp_path: Path) -> None:
    """A run that is killed again and again ends with the same bytes as one left in peace."""
    original = hashes(library)
    service.start_worker()
    surveyed(service, library)
    client = service.client
    request = RunRequest(library="ledge", copies=["webp"])
    client.runs.wait(client.runs.start(request).id)
    undisturbed = hashes(library)
    client.runs.wait(client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE)).id)
    assert hashes(library) == original

    run_id = client.runs.start(request).id
    chance = random.Random(5)
    kills = 0
    while client.runs.get(run_id).state is RunState.RUNNING and kills < 4:
        done = client.runs.get(run_id).left
        wait_for(lambda count=done: client.runs.get(run_id).left < count or client.runs.get(run_id).left == 0)
        wait_for(lambda: True, chance.uniform(0, 0.3))
        service.kill("worker")
        if kills % 2:
            service.kill("service")
            service.start_service()
        kills += 1
        service.start_worker()
    wait_for(lambda: client.runs.get(run_id).state is RunState.FINISHED)
    assert kills >= 2
    run = client.runs.get(run_id)
    assert (run.left, run.failed, run.already) == (0, 0, len(EXPECTED_FAILURES)), (
        "what cannot be read is known"
    )
    assert hashes(library) == undisturbed
    items = client.runs.items(run_id, limit=500).rows
    assert all(item.state in (ItemState.DONE, ItemState.PASSED) for item in items)
    assert run.bytes_after == sum(item.bytes_after or 0 for item in items)
    client.runs.wait(client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE)).id)
    assert hashes(library) == original


def test_pause_resume_stop_and_retry(service: Service, library: Path) -> None:
    service.start_worker()
    surveyed(service, library)
    client = service.client
    run_id = client.runs.start(RunRequest(library="ledge", copies=["webp"])).id
    wait_for(lambda: client.runs.get(run_id).done > 0)
    assert client.runs.pause(run_id).state is RunState.PAUSED
    wait_for(lambda: not client.runs.items(run_id, state=["working", "queued"]).total)
    rest = client.runs.get(run_id).left
    assert rest > 0
    with pytest.raises(AssertionError, match="too long"):
        wait_for(lambda: client.runs.get(run_id).left != rest, 1.5)
    client.runs.resume(run_id)
    wait_for(lambda: client.runs.get(run_id).left < rest)
    client.runs.stop(run_id)
    wait_for(lambda: not client.runs.items(run_id, state=["working", "queued"]).total)
    stopped = client.runs.get(run_id)
    assert stopped.state is RunState.STOPPED
    assert stopped.left > 0

    # A file that somebody took away meanwhile has not failed, and is treated when it is back.
    chart = library / "charts/approaches.png"
    hidden = chart.with_name("hidden")
    chart.rename(hidden)
    scope = Scope(folder="charts")
    request = RunRequest(library="ledge", scope=scope, force=True)
    without = client.runs.wait(client.runs.start(request).id)
    assert without.failed == 0
    gone = [item.path for item in client.runs.items(without.id, state=["passed"]).rows if item.code == "gone"]
    assert gone == ["charts/approaches.png"]
    hidden.rename(chart)
    assert client.runs.wait(client.runs.start(request).id).failed == 0


def test_somebody_elses_files_and_changes_are_respected(service: Service, library: Path) -> None:
    theirs = library / "charts/tides-spring.png.webp"
    theirs.write_bytes(b"somebody else's file")
    service.start_worker()
    surveyed(service, library)
    client = service.client
    client.runs.wait(client.runs.start(RunRequest(library="ledge", scope=Scope(folder="charts"))).id)
    assert theirs.read_bytes() == b"somebody else's file"
    treated = library / "charts/tides-autumn.png"
    treated.write_bytes(b"changed by an editor")
    back = client.runs.wait(client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE)).id)
    assert back.failed == 1
    assert treated.read_bytes() == b"changed by an editor"


def test_events_tell_what_happens(service: Service, library: Path) -> None:
    service.start_worker()
    surveyed(service, library)
    client = service.client
    seen: dict[str, int] = {}
    events = client.events()
    run_id = None
    for name, data in _after(
        events, lambda: client.runs.start(RunRequest(library="ledge", scope=Scope(folder="brand")))
    ):
        seen[name] = seen.get(name, 0) + 1
        if name == "item":
            run_id = data["run_id"]
            assert data["state"] in ("done", "passed")
        if name == "run" and data["state"] == "finished":
            break
    assert run_id is not None
    assert seen["item"] == client.runs.get(run_id).files


def _after(events: object, act: object) -> object:
    """Starts listening, then acts, then yields what is heard."""
    import threading

    threading.Timer(1.0, act).start()  # type: ignore[arg-type]
    return events


def test_the_asynchronous_client(service: Service, library: Path) -> None:
    service.start_worker()

    async def journey() -> None:
        async with AsyncClient(service.url, service.key) as client:
            assert (await client.health()).database
            await client.libraries.connect(LibraryRequest(name="Ledge", root=str(library)))
            survey = await client.jobs.wait((await client.jobs.survey("ledge")).id)
            request = RunRequest(library="ledge", scope=Scope(folder="brand"))
            run = await client.runs.wait((await client.runs.start(request)).id)
            assert run.failed == 0
            paths = [picture.path async for picture in client.pictures.each("ledge")]
            assert len(paths) == survey.survey.pictures
            assert (await client.libraries.savings("ledge")).treated.files == run.files

    asyncio.run(journey())


def test_the_command_line(service: Service, library: Path, tmp_path: Path) -> None:
    before = hashes(library)
    service.start_worker()
    environment = os.environ | {"PLUMCRATE_URL": service.url, "PLUMCRATE_KEY": service.key}

    def plumcrate(*arguments: str, code: int = 0) -> str:
        done = forker.run("plumcrate", arguments, environment=environment, cwd=tmp_path)
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout + done.stderr

    assert "Next: plumcrate survey ledge" in plumcrate("connect", str(library), "--name", "Ledge")
    assert "unreadable" in plumcrate("survey", "ledge")
    assert "share files" in plumcrate("connect", str(library), code=4)
    assert json.loads(plumcrate("libraries", "--json"))[0]["last_survey"]["state"] == "finished"
    output = plumcrate("run", "ledge", "--folder", "2025/10", "--level", "lean", "--copies", "webp", code=1)
    assert "4 failed" in output
    assert "error-page.jpg: the content is not a picture" in output
    listing = json.loads(plumcrate("list", "ledge", "--state", "lighter", "--json"))
    assert listing["total"] == len(listing["rows"]) > 0
    assert "2025/10/press-cmyk.jpg" in [row["path"] for row in listing["rows"]]
    shown = plumcrate("show", "ledge", "2025/10/press-cmyk.jpg")
    assert "webp copy" in shown
    assert "avif" not in shown
    assert "has no picture" in plumcrate("show", "ledge", "nothing.jpg", code=2)
    assert "by folder" in plumcrate("savings", "ledge")
    assert "finished" in plumcrate("runs", "ledge")
    assert "name what to restore" in plumcrate("restore", "ledge", code=2)
    assert "0 failed" in plumcrate("restore", "ledge", "--all")
    assert hashes(library) == before
    environment["PLUMCRATE_URL"] = "http://127.0.0.1:9"
    assert "does not answer" in plumcrate("libraries", code=3)
    del environment["PLUMCRATE_KEY"]
    assert "PLUMCRATE_KEY" in plumcrate("libraries", code=3)

    out = tmp_path / "tried"
    photo = str(library / "2025/07/sideways-from-a-phone.jpg")
    result = json.loads(
        plumcrate("trial", photo, str(library / "2025/10/empty.png"), "--out", str(out), "--json", code=1)
    )
    assert result["files"][1]["reason"] == "the file is empty"
    name = Path(photo).name
    chosen = [one for one in result["files"][0]["outputs"] if one["verdict"] == "chosen"]
    expected = {name if one["format"] == "jpeg" else f"{name}.{one['format']}": one["size"] for one in chosen}
    assert chosen
    assert {path.name: path.stat().st_size for path in out.iterdir()} == expected
    assert "take its place" in plumcrate("trial", photo, "--out", str(Path(photo).parent), code=1)
    small = json.loads(
        plumcrate(
            "trial",
            photo,
            "--out",
            str(out),
            "--within",
            "200x200",
            "--effort",
            "quick",
            "--metadata",
            "nothing",
            "--offer",
            "--json",
        )
    )["files"][0]["outputs"][0]
    assert small["verdict"] == "chosen"
    assert small["size"] in [tried["size"] for tried in small["tried"]]
    facts = identify((out / Path(photo).name).read_bytes())
    assert max(facts.width, facts.height) == 200
    assert "is none of all, nothing" in plumcrate(
        "trial", photo, "--out", str(out), "--metadata", "hats", code=2
    )
    assert "such as 1600x1200" in plumcrate("trial", photo, "--out", str(out), "--within", "big", code=2)
    assert hashes(library) == before


def test_a_worker_asked_to_stop_stops_soon_and_a_second_goes_on(service: Service, library: Path) -> None:
    service.start_worker()
    surveyed(service, library)
    client = service.client
    run_id = client.runs.start(RunRequest(library="ledge", copies=["webp"], scope=Scope(folder="2025"))).id
    wait_for(lambda: client.runs.get(run_id).done > 0)
    service.kill("worker", signal.SIGTERM)
    assert client.runs.get(run_id).state is RunState.RUNNING
    service.start_worker("first")
    service.start_worker("second")
    wait_for(lambda: client.runs.get(run_id).state is RunState.FINISHED)
    assert client.runs.get(run_id).failed == len(EXPECTED_FAILURES)

"""A run that meets the end of its allowance in the middle, while workers are killed: nothing counts twice, no
picture is half done, and it goes on by itself in the next month."""

import random
from collections import Counter, defaultdict
from pathlib import Path

import psycopg
import pytest
from conftest import Service, hashes, photograph, wait_for

from plumcrate.contract.allowance import AllowanceSettings, AllowanceUnit
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.runs import ItemState, Run, RunKind, RunRequest, RunState, Scope

PICTURES, SIZES = 14, (160, 80)


def ask(service: Service, statement: str) -> list[tuple[object, ...]]:
    with psycopg.connect(service.database_url, autocommit=True) as session:
        done = session.execute(statement)
        return done.fetchall() if done.description else []


def states(service: Service, run: Run) -> dict[str, Counter[str]]:
    """By picture, how its files of a run stand."""
    found: dict[str, Counter[str]] = defaultdict(Counter)
    rows = ask(
        service,
        "SELECT p.path, i.state FROM run_items i JOIN pictures p ON p.id = i.picture_id "
        f"WHERE run_id = {run.id}",
    )
    for path, state in rows:
        found[str(path)][str(state)] += 1
    return found


@pytest.mark.slow
def test_kills_around_the_end_of_an_allowance(service: Service, tmp_path: Path) -> None:
    site = tmp_path / "site"
    for number in range(PICTURES):
        photograph(site / f"p{number:02}.jpg", 320, 240, seed=number)
        for width in SIZES:
            photograph(
                site / f"p{number:02}-{width}x{width * 3 // 4}.jpg", width, width * 3 // 4, seed=number
            )
    originals = hashes(site)
    client = service.client
    client.libraries.connect(LibraryRequest(name="Ledge", root=str(site), slug="ledge"))
    service.start_worker()
    client.jobs.wait(client.jobs.survey("ledge").id)
    assert client.libraries.get("ledge").pictures == PICTURES
    # The third file of the fifth picture is the fifteenth: the end comes within a picture.
    amount = 13
    client.allowance.set("ledge", AllowanceSettings(unit=AllowanceUnit.FILES, amount=amount))
    run = client.runs.start(RunRequest(library="ledge", level="lean", copies=["webp"]))
    chance = random.Random(5)
    for _ in range(8):
        service.kill("worker")
        service.start_worker()
        before = client.runs.get(run.id).done
        wait_for(
            lambda count=before: client.runs.get(run.id).done > count or client.runs.get(run.id).waits_for
        )
        if chance.random() < 0.5:
            service.kill("worker")
            service.start_worker()
    wait_for(lambda: client.runs.get(run.id).waits_for)
    wait_for(lambda: client.runs.get(run.id).done + client.runs.get(run.id).passed >= amount)

    def halves() -> list[str]:
        return [path for path, count in states(service, run).items() if len(count) > 1]

    wait_for(lambda: not halves())
    done = client.runs.get(run.id)
    finished = done.done + done.passed
    assert finished == 15, "five pictures, whole"
    view = client.allowance.get("ledge")
    assert (view.used, view.left, view.files_waiting) == (15, 0, PICTURES * 3 - 15)
    ((rows, files),) = ask(service, "SELECT count(*), count(DISTINCT file_id) FROM allowance_uses")
    assert (rows, files) == (15, 15)
    changed = {path.partition(".")[0][:3] for path, sha in originals.items() if hashes(site).get(path) != sha}
    assert len(changed) <= 5, "nothing else was begun"
    # Putting back waits for nothing.
    first = next(row for row in client.pictures.page("ledge", limit=100).rows if row.path == "p00.jpg")
    scope = Scope(pictures=[first.id])
    back = client.runs.start(RunRequest(library="ledge", kind=RunKind.RESTORE, scope=scope))
    wait_for(lambda: client.runs.get(back.id).state is RunState.FINISHED)
    now = hashes(site)
    assert all(now[path] == sha for path, sha in originals.items() if path.startswith("p00"))
    assert client.allowance.get("ledge").used == 15
    assert client.runs.get(run.id).state is RunState.RUNNING
    # A month goes by.
    ask(service, "UPDATE allowance_uses SET month = month - interval '1 month'")
    wait_for(lambda: client.runs.get(run.id).done + client.runs.get(run.id).passed > finished)
    service.kill("worker")
    service.start_worker()
    wait_for(lambda: client.runs.get(run.id).done + client.runs.get(run.id).passed == 30)
    wait_for(lambda: client.runs.get(run.id).waits_for)
    assert client.allowance.get("ledge").used == 15
    ask(service, "UPDATE allowance_uses SET month = month - interval '1 month'")
    wait_for(lambda: client.runs.get(run.id).state is RunState.FINISHED)
    assert client.runs.get(run.id).failed == 0
    assert set.union(*(set(count) for count in states(service, run).values())) <= {
        ItemState.DONE,
        ItemState.PASSED,
    }
    total = ask(service, "SELECT count(*), count(DISTINCT file_id) FROM allowance_uses WHERE counted")
    assert total == [(PICTURES * 3, PICTURES * 3)], "each file once, and none is left open"

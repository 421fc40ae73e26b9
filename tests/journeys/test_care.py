"""Looking after a library through the real service: comparing, pruning, automation, and what is refused."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest
from conftest import Service, hashes, photograph, running_service, wait_for
from databases import Postgres
from forks import forker

from plumcrate.client import AsyncClient, ProblemError
from plumcrate.contract.automation import Automation
from plumcrate.contract.jobs import CheckRequest, Job, JobKind, JobState, PruneRequest
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.recipes import MetadataKind
from plumcrate.contract.runs import RunRequest, Scope

FILES = 4


@pytest.fixture(scope="module")
def cared(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """One service with a worker and a treated library called ledge; every test leaves it as it found it."""
    home = tmp_path_factory.mktemp("cared")
    for number in range(FILES):
        photograph(home / f"ledge/2025/p{number}.jpg", seed=number)
    with postgres.fresh() as url, running_service(url, home / "state") as service:
        service.start_worker()
        service.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "ledge")))
        service.client.jobs.wait(service.client.jobs.survey("ledge").id)
        run = service.client.runs.wait(service.client.runs.start(RunRequest(library="ledge")).id)
        assert (run.done, run.failed) == (FILES, 0)
        yield service


@pytest.fixture
def root(cared: Service) -> Path:
    return Path(cared.client.libraries.get("ledge").root)


@pytest.fixture
def plumcrate(cared: Service, tmp_path: Path) -> Callable[..., str]:
    """The command as a person runs it; what it prints, when it ends as it should."""
    environment = os.environ | {"PLUMCRATE_URL": cared.url, "PLUMCRATE_KEY": cared.key, "COLUMNS": "120"}

    def run(*arguments: str, code: int = 0) -> str:
        done = forker.run("plumcrate", arguments, environment=environment, cwd=tmp_path)
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout + done.stderr

    return run


def check(service: Service, *, mend: bool = False) -> Job:
    ended = service.client.jobs.wait(service.client.jobs.check("ledge", CheckRequest(mend=mend)).id)
    assert ended.state is JobState.FINISHED, ended.reason
    return ended


def test_comparing_tells_and_mends_only_when_asked(cared: Service, root: Path) -> None:
    before = hashes(root)
    report = check(cared).check
    assert (report.files, report.differences) == (FILES, 0)
    lost = next(root.rglob("*.avif"))
    lost.unlink()
    told = check(cared).check
    assert (told.differences, told.mended) == (1, 0)
    assert [finding.path for finding in told.findings] == [lost.relative_to(root).as_posix()]
    assert check(cared, mend=True).check.mended == 1
    assert check(cared).check.differences == 0
    run = cared.client.runs.wait(cared.client.runs.start(RunRequest(library="ledge")).id)
    assert run.done == 1, "what lost a copy is made again"
    assert hashes(root) == before


def test_the_command_says_by_its_exit_code_whether_all_is_as_recorded(
    cared: Service, root: Path, plumcrate: Callable[..., str]
) -> None:
    assert "all as recorded" in plumcrate("verify", "ledge").lower()
    lost = next(root.rglob("*.webp"))
    kept = lost.read_bytes()
    lost.unlink()
    assert lost.name in plumcrate("verify", "ledge", code=1)
    found = json.loads(plumcrate("verify", "ledge", "--json", code=1))
    assert found["check"]["differences"] == 1
    lost.write_bytes(kept)
    assert check(cared).check.differences == 0


def test_a_file_that_somebody_changed_is_told_and_left(cared: Service, root: Path) -> None:
    path = root / "2025/p0.jpg"
    ours, times = path.read_bytes(), path.stat()
    theirs = photograph(path, seed=99)
    report = check(cared, mend=True).check
    assert path.read_bytes() == theirs
    assert any(finding.path == "2025/p0.jpg" and not finding.mended for finding in report.findings)
    path.write_bytes(ours)
    os.utime(path, ns=(times.st_atime_ns, times.st_mtime_ns))
    assert check(cared).check.differences == 0


def test_pruning_is_a_job_and_needs_the_librarys_name(cared: Service, root: Path) -> None:
    before, client = hashes(root), cared.client
    with pytest.raises(ProblemError) as caught:
        client.jobs.prune("ledge", PruneRequest(confirm="legde"))
    assert caught.value.code == "not-confirmed"
    job = client.jobs.wait(client.jobs.prune("ledge", PruneRequest(confirm="ledge")).id)
    assert (job.kind, job.state) == (JobKind.PRUNING, JobState.FINISHED)
    assert (job.pruning.backups, job.pruning.left) == (0, FILES), (
        "each is the only original of a treated file"
    )
    restored = client.runs.start(RunRequest(library="ledge", kind="restore", scope=Scope(folder="2025")))
    assert client.runs.wait(restored.id).done == FILES
    job = client.jobs.wait(client.jobs.prune("ledge", PruneRequest(confirm="ledge")).id)
    assert (job.pruning.backups, job.pruning.left) == (FILES, 0), "their originals stand in the library"
    again = client.runs.wait(client.runs.start(RunRequest(library="ledge", force=True)).id)
    assert again.done == FILES
    assert hashes(root) == before


def test_jobs_are_listed_by_kind_the_latest_first_and_ended_ones_stay_ended(cared: Service) -> None:
    first, second = check(cared), check(cared)
    listed = cared.client.jobs.page("ledge", kind=JobKind.CHECK)
    assert [job.id for job in listed][:2] == [second.id, first.id]
    assert {job.kind for job in listed} == {JobKind.CHECK}
    assert [job.kind for job in cared.client.jobs.page("ledge", kind=JobKind.SURVEY)][:1] == [JobKind.SURVEY]
    with pytest.raises(ProblemError) as caught:
        cared.client.jobs.stop(first.id)
    assert caught.value.code == "ended"


def test_one_check_at_a_time_and_a_stopped_one_leaves_room(cared: Service) -> None:
    client = cared.client
    cared.kill("worker")
    try:
        waiting = client.jobs.check("ledge", CheckRequest())
        with pytest.raises(ProblemError) as caught:
            client.jobs.check("ledge", CheckRequest())
        assert caught.value.code == "job-open"
        assert str(waiting.id) in str(caught.value)
        assert client.jobs.stop(waiting.id).state is JobState.STOPPED
        second = client.jobs.check("ledge", CheckRequest())
    finally:
        cared.start_worker()
    assert client.jobs.wait(second.id).state is JobState.FINISHED
    assert client.jobs.get(waiting.id).state is JobState.STOPPED


@pytest.mark.parametrize(
    ("automation", "said"),
    [
        ({"hours": ["25:00-26:00"]}, "hours"),
        ({"time_zone": "Ledge/Time"}, "time zone"),
        ({"survey_schedule": "0 0 30 2 *"}, "schedule"),
        ({"share": 5}, "share"),
        ({"keep_backups_days": 0}, "keep_backups_days"),
    ],
)
def test_automation_that_makes_no_sense_is_refused_and_nothing_changes(
    cared: Service, automation: dict[str, object], said: str
) -> None:
    before = cared.client.libraries.get("ledge").automation
    with httpx.Client(base_url=cared.url, headers={"Authorization": f"Bearer {cared.key}"}) as plain:
        whole = json.loads(before.model_dump_json()) | automation
        answer = plain.patch("/api/v1/libraries/ledge", json={"automation": whole})
    assert answer.status_code == 422
    assert said in answer.text
    assert cared.client.libraries.get("ledge").automation == before


def test_automation_by_command_changes_one_thing(cared: Service, plumcrate: Callable[..., str]) -> None:
    before = cared.client.libraries.get("ledge").automation
    assert "22:00-06:00" in plumcrate(
        "automation", "ledge", "--set", "hours=22:00-06:00", "--set", "share=50"
    )
    now = cared.client.libraries.get("ledge").automation
    assert now == before.model_copy(update={"hours": ["22:00-06:00"], "share": 50})
    assert "nonsense" in plumcrate("automation", "ledge", "--set", "nonsense=1", code=2)
    cared.client.libraries.change("ledge", LibraryChange(automation=before))
    assert json.loads(plumcrate("automation", "ledge", "--json"))["share"] == before.share


def test_a_schedule_brings_a_survey(cared: Service, root: Path) -> None:
    before = cared.client.libraries.get("ledge").automation
    photograph(root / "2025/late.jpg", seed=50)
    cared.client.libraries.change("ledge", LibraryChange(automation=Automation(survey_schedule="* * * * *")))
    try:
        wait_for(lambda: cared.client.libraries.get("ledge").files == FILES + 1)
    finally:
        cared.client.libraries.change("ledge", LibraryChange(automation=before))
        (root / "2025/late.jpg").unlink()
        for job in cared.client.jobs.page("ledge", JobKind.SURVEY, limit=1):
            cared.client.jobs.wait(job.id)  # one may have begun by schedule just now
        cared.client.jobs.wait(cared.client.jobs.survey("ledge").id)
    assert cared.client.libraries.get("ledge").files == FILES


async def _both_ways(service: Service) -> tuple[Job, list[str]]:
    async with AsyncClient(service.url, service.key) as client:
        started = await client.jobs.check("ledge", CheckRequest())
        ended = await client.jobs.wait(started.id)
        names = [library.slug for library in await client.libraries.all()]
        return ended, names


def test_the_asynchronous_client_does_the_same(cared: Service) -> None:
    import asyncio

    ended, names = asyncio.run(_both_ways(cared))
    assert (ended.state, names) == (JobState.FINISHED, ["ledge"])
    assert ended.check.differences == 0


def test_a_new_library_keeps_rights_and_credit_unless_more_is_asked_for(
    cared: Service, tmp_path: Path
) -> None:
    for name, chosen in (("usual", None), ("all", list(MetadataKind))):
        (tmp_path / name).mkdir()
        request = LibraryRequest(name=name, root=str(tmp_path / name))
        if chosen is not None:
            request = request.model_copy(update={"metadata": chosen})
        library = cared.client.libraries.connect(request)
        kept = cared.client.recipes.get(library.slug).settings.metadata
        assert kept == (chosen or [MetadataKind.RIGHTS])
        cared.client.libraries.disconnect(library.slug)


def test_the_service_names_its_formats(cared: Service) -> None:
    formats = {one.name: one for one in cared.client.formats()}
    assert [name for name, one in formats.items() if one.copy_of_others] == ["webp", "avif"]
    assert formats["jpeg"].endings[0] == ".jpg"
    assert formats["gif"].treated
    assert not formats["tiff"].treated

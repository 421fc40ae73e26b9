"""allowance, report and webhook as commands, on a real service."""

import json
import os
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest
from conftest import Service, photograph, running_service
from databases import Postgres
from forks import forker

from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.runs import RunRequest, RunState


@pytest.fixture(scope="module")
def service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("plans")
    photograph(home / "site/a.jpg")
    photograph(home / "site/=SUM(1)/red.jpg", seed=2)
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        client = running.client
        running.start_worker()
        client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site"), slug="ledge"))
        client.jobs.wait(client.jobs.survey("ledge").id)
        client.runs.wait(client.runs.start(RunRequest(library="ledge", level="lean")).id)
        assert client.runs.page("ledge")[0].state is RunState.FINISHED
        yield running


def run(service: Service, *arguments: str, code: int = 0) -> str:
    environment = os.environ | {"PLUMCRATE_URL": service.url, "PLUMCRATE_KEY": service.key, "COLUMNS": "200"}
    done = forker.run("plumcrate", arguments, environment=environment)
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done.stdout + done.stderr


def test_an_allowance_is_shown_set_and_taken_away(service: Service) -> None:
    month = f"{datetime.now(UTC):%Y-%m}"
    assert f"0.154 megapixels used in {month}; there is no limit." in run(service, "allowance", "ledge")
    said = run(service, "allowance", "ledge", "--files", "2")
    assert f"2 of 2 files used in {month}; anew on 1 " in said
    assert "The allowance of 2 files for" in said
    view = json.loads(run(service, "allowance", "ledge", "--json"))
    assert (view["unit"], view["amount"], view["used"], view["left"]) == ("files", 2, 2, 0)
    assert "of 500 megapixels" in run(service, "allowance", "ledge", "--megapixels", "500")
    assert "there is no limit" in run(service, "allowance", "ledge", "--no-limit")
    assert "not allowed with" in run(service, "allowance", "ledge", "--files", "2", "--no-limit", code=2)
    assert "greater than or equal to 1" in run(service, "allowance", "ledge", "--files", "0", code=2)
    assert "no library called nowhere" in run(service, "allowance", "nowhere", code=4)


def test_a_report_is_read_and_written(service: Service, tmp_path: Path) -> None:
    assert "The trust" in run(service, "report", "ledge", "--set", "client=The trust")
    said = run(service, "report", "ledge", "--from", "2026-01", "--to", "2099-12")
    assert "For The trust: Ledge, 2026-01 to 2099-12" in said
    assert "2 files of 2 pictures were treated" in said
    assert "=SUM(1)" in said
    written = run(
        service, "report", "ledge", "--pdf", str(tmp_path / "r.pdf"), "--csv", str(tmp_path / "r.csv")
    )
    assert written.count("Written to") == 2
    assert (tmp_path / "r.pdf").read_bytes().startswith(b"%PDF-")
    assert (tmp_path / "r.csv").read_text().startswith('"part","name","files"')
    assert '"\'=SUM(1)"' in (tmp_path / "r.csv").read_text()
    month = f"{datetime.now(UTC):%Y-%m}"
    assert f"The report of {month} is kept." in run(service, "report", "ledge", "--keep", month)
    assert json.loads(run(service, "report", "ledge", "--json"))["treated"]["files"] == 2
    assert "there is no setting clint" in run(service, "report", "ledge", "--set", "clint=x", code=2)
    assert "2026-01 is before 2026-02" in run(
        service, "report", "ledge", "--from", "2026-02", "--to", "2026-01", code=4
    )


def test_webhooks_are_added_changed_tried_and_removed(service: Service) -> None:
    assert "Nobody is told" in run(service, "webhooks", "ledge")
    address = "http://127.0.0.1:9/in"
    said = run(service, "webhooks", "ledge", "--add", address, "--events", "report.ready")
    assert said.startswith("whsec_")
    assert f"Told to {address}: report.ready." in said
    run(service, "webhooks", "ledge", "--add", "https://x.example/plum")
    one, other = json.loads(run(service, "webhooks", "ledge", "--json"))
    number = str(one["id"])
    assert [one["events"], other["address"]] == [["report.ready"], "https://x.example/plum"]
    changed = run(service, "webhooks", "ledge", number, "--events", "allowance.used, report.ready")
    assert f"Told to {address}: allowance.used, report.ready." in changed
    assert run(service, "webhooks", "ledge", number, "--new-secret").startswith("whsec_")
    assert "webhook.trial" in run(service, "webhooks", "ledge", number, "--try")
    assert "whsec" not in run(service, "webhooks", "ledge", number)
    for _ in range(200):
        if "an address of this machine itself" in run(service, "webhooks", "ledge", number):
            break
    else:
        raise AssertionError("it never says that the address may not be reached")
    assert "takes nothing since" in run(service, "webhooks", "ledge")
    assert "there is no message msg_none" in run(
        service, "webhooks", "ledge", number, "--again", "msg_none", code=4
    )
    assert "say which webhook" in run(service, "webhooks", "ledge", "--try", code=2)
    assert "Input should be" in run(service, "webhooks", "ledge", number, "--events", "tea.ready", code=2)
    assert "is told nothing any more" in run(service, "webhooks", "ledge", number, "--remove")
    assert "x.example" in run(service, "webhooks", "ledge", str(other["id"]))
    assert "there is no webhook" in run(service, "webhooks", "ledge", number, code=4)

"""Allowance, report and webhook through the API, with a worker that does what is asked."""

import csv
import io
import json
import os
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from types import SimpleNamespace

import httpx
import psycopg
import pypdfium2
import pytest
from conftest import Service, photograph, running_service, wait_for
from databases import Postgres
from standardwebhooks import Webhook as Signer

from plumcrate.client import Client, ProblemError
from plumcrate.contract.allowance import AllowanceSettings, AllowanceUnit
from plumcrate.contract.jobs import JobState
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import Ability, KeyRequest
from plumcrate.contract.reports import ReportSettings
from plumcrate.contract.runs import RunRequest, RunState, Scope
from plumcrate.contract.webhooks import MOST_WEBHOOKS, EventType, SentMessage, WebhookSettings

PICTURES = 4


@pytest.fixture(scope="module")
def listener() -> Iterator[SimpleNamespace]:
    """Takes messages, or answers as it is told."""
    ear = SimpleNamespace(heard=[], status=200)

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["Content-Length"]))
            ear.heard.append((body, {name.lower(): value for name, value in self.headers.items()}))
            self.send_response(ear.status)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    ear.place = f"127.0.0.1:{server.server_port}"
    yield ear
    server.shutdown()


@pytest.fixture(scope="module")
def planned(
    postgres: Postgres, tmp_path_factory: pytest.TempPathFactory, listener: SimpleNamespace
) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("planned")
    for number in range(PICTURES):
        photograph(home / f"site/{number % 2}/p{number}.jpg", seed=number)
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.environment |= {
            "PLUMCRATE_PAGES_ALLOWED": json.dumps([listener.place]),
            "PLUMCRATE_REPORTS_DIR": str(home / "reports"),
        }
        running.start_worker()
        client = running.client
        client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site"), slug="ledge"))
        client.jobs.wait(client.jobs.survey("ledge").id)
        client.reports.save_settings("ledge", ReportSettings(client="=The trust", sender="Quayside"))
        run = client.runs.start(RunRequest(library="ledge", level="lean", copies=["webp"]))
        wait_for(lambda: client.runs.get(run.id).state is RunState.FINISHED)
        yield running


def this_month() -> str:
    return f"{datetime.now(UTC):%Y-%m}"


def texts(data: bytes) -> str:
    document = pypdfium2.PdfDocument(data)
    return " ".join(document[number].get_textpage().get_text_range() for number in range(len(document)))


def with_key(service: Service, *abilities: Ability) -> Client:
    made = service.client.keys.make(KeyRequest(name="one", abilities=list(abilities), libraries=["ledge"]))
    return Client(service.url, made.secret)


def test_what_was_treated_counts_and_only_who_administers_the_service_sets_how_much(planned: Service) -> None:
    view = planned.client.allowance.get("ledge")
    assert (view.amount, view.left, view.months[0].files) == (None, None, PICTURES)
    assert view.used == pytest.approx(PICTURES * 320 * 240 / 1e6, abs=1e-3)
    with with_key(planned, *Ability) as everything_in_it:
        assert everything_in_it.allowance.get("ledge") == view
        with pytest.raises(ProblemError) as caught:
            everything_in_it.allowance.set("ledge", AllowanceSettings(amount=10))
        assert caught.value.code == "not-allowed"
    for amount in (0, -1, 2_000_000_000):
        answer = httpx.put(
            f"{planned.url}/api/v1/libraries/ledge/allowance",
            json={"amount": amount},
            headers={"Authorization": f"Bearer {planned.key}"},
        )
        assert answer.status_code == 422


def test_a_run_waits_and_goes_on_when_there_is_more(planned: Service, listener: SimpleNamespace) -> None:
    client = planned.client
    secret = client.webhooks.add("ledge", WebhookSettings(address=f"http://{listener.place}/in")).secret
    # As though all had been in the month before.
    with psycopg.connect(planned.database_url, autocommit=True) as session:
        session.execute("UPDATE allowance_uses SET month = month - interval '1 month'")
    client.allowance.set("ledge", AllowanceSettings(unit=AllowanceUnit.FILES, amount=2))
    run = client.runs.start(RunRequest(library="ledge", level="gallery", force=True))
    wait_for(lambda: client.runs.get(run.id).waits_for)
    wait_for(lambda: client.runs.get(run.id).done + client.runs.get(run.id).passed == 2)
    view = client.allowance.get("ledge")
    assert (view.used, view.left, view.files_waiting) == (2, 0, 2)
    assert str(view.notice).startswith("The allowance of 2 files for ")
    assert "allowance: the 2 files of" in str(client.runs.get(run.id).waits_for)
    wait_for(lambda: len(listener.heard) >= 2)
    told = [Signer(secret).verify(body, headers) for body, headers in listener.heard]
    assert [one["type"] for one in told] == [EventType.ALLOWANCE_NEARLY_USED, EventType.ALLOWANCE_USED]
    assert told[1]["data"] == {
        "library": "ledge",
        "month": this_month(),
        "unit": "files",
        "amount": 2,
        "used": 2,
    }
    client.allowance.set("ledge", AllowanceSettings(unit=AllowanceUnit.FILES, amount=100))
    wait_for(lambda: client.runs.get(run.id).state is RunState.FINISHED)
    assert client.allowance.get("ledge").used == PICTURES
    client.allowance.set("ledge", AllowanceSettings(amount=None))


def test_the_report_as_figures_pdf_and_csv(planned: Service) -> None:
    client = planned.client
    report = client.reports.figures("ledge")
    assert (report.begins, report.ends, report.client) == (this_month(), this_month(), "=The trust")
    assert (report.treated.files, report.pictures) == (PICTURES, PICTURES)
    assert report.treated.bytes_now <= report.treated.bytes_before
    assert {slat.name for slat in report.by_folder} == {"0", "1"}
    with with_key(planned, Ability.LOOK) as looker:
        pdf = looker.reports.file("ledge", "pdf", "2026-01", this_month())
        rows = list(csv.DictReader(io.StringIO(looker.reports.file("ledge", "csv").decode())))
    said = texts(pdf)
    assert "For =The trust" in said
    assert "Quayside" in said
    document = pypdfium2.PdfDocument(pdf)
    drawn = [one.type for page in range(len(document)) for one in document[page].get_objects()]
    assert drawn.count(pypdfium2.raw.FPDF_PAGEOBJ_IMAGE) >= len(report.best)
    assert next(row["name"] for row in rows if row["part"] == "client") == "'=The trust"
    empty = client.reports.figures("ledge", "2020-01", "2020-12")
    assert (empty.treated.files, empty.by_month, empty.best) == (0, [], [])
    assert "No file was treated" in texts(client.reports.file("ledge", "pdf", "2020-01"))


@pytest.mark.parametrize("query", ["begins=2026-13", "begins=26-01", "begins=2026-02&ends=2026-01", "ends=x"])
def test_months_that_are_none_are_refused(planned: Service, query: str) -> None:
    for path in ("report", "report/pdf", "report/csv"):
        answer = httpx.get(
            f"{planned.url}/api/v1/libraries/ledge/{path}?{query}",
            headers={"Authorization": f"Bearer {planned.key}"},
        )
        assert answer.status_code == 422
        assert answer.json()["type"] == "urn:plumcrate:problem:invalid-request"


def test_a_months_report_is_kept_put_into_the_folder_and_told(
    planned: Service, listener: SimpleNamespace, tmp_path: Path
) -> None:
    client, month = planned.client, this_month()
    listener.heard.clear()
    job = client.jobs.wait(client.reports.keep("ledge", month).id)
    assert job.state is JobState.FINISHED, job.reason
    assert job.report is not None
    folder = Path(str(job.report.folder))
    assert folder == planned.state.parent / "reports/ledge"
    assert sorted(path.name for path in folder.iterdir()) == [f"{month}.csv", f"{month}.pdf"]
    kept = client.reports.kept_file("ledge", month, "pdf")
    assert kept == (folder / f"{month}.pdf").read_bytes()
    assert client.reports.kept_file("ledge", month, "csv") == (folder / f"{month}.csv").read_bytes()
    assert [one.month for one in client.reports.kept("ledge")] == [month]
    wait_for(lambda: listener.heard)
    data = json.loads(listener.heard[0][0])["data"]
    assert (data["month"], data["client"], data["files"]) == (month, "=The trust", PICTURES)
    fetched = httpx.get(f"{planned.url}{data['pdf']}", headers={"Authorization": f"Bearer {planned.key}"})
    assert fetched.content == kept
    assert fetched.headers["content-disposition"] == f'attachment; filename="ledge-{month}.pdf"'
    with pytest.raises(ProblemError) as caught:
        client.reports.kept_file("ledge", "2020-01", "pdf")
    assert caught.value.code == "not-found"


def test_a_folder_that_cannot_be_written_costs_no_report(planned: Service) -> None:
    client, month = planned.client, this_month()
    folder = planned.state.parent / "reports/ledge"
    for path in folder.iterdir():
        path.unlink()
    folder.rmdir()
    folder.write_text("a file stands where the folder would be")
    before = client.reports.kept("ledge")[0].made_at
    job = client.jobs.wait(client.reports.keep("ledge", month).id)
    assert job.state is JobState.FAILED
    assert "is kept, but could not be put into" in str(job.reason)
    assert "make it again" in str(job.reason)
    assert client.reports.kept("ledge")[0].made_at > before
    folder.unlink()
    assert client.jobs.wait(client.reports.keep("ledge", month).id).state is JobState.FINISHED
    assert not [name for name in os.listdir(folder) if name.startswith(".")]


def test_reports_are_made_by_themselves_one_for_each_month_that_is_over(planned: Service) -> None:
    client = planned.client
    client.reports.save_settings("ledge", ReportSettings(client="The trust", monthly=True))

    def next_at() -> datetime | None:
        with psycopg.connect(planned.database_url) as session:
            row = session.execute("SELECT next_report_at FROM libraries WHERE slug = 'ledge'").fetchone()
        assert row is not None
        return row[0]

    wait_for(next_at)
    coming = next_at()
    assert coming is not None
    assert (coming.day, coming.hour) == (1, 0)
    # As though the service had been away since the month before the last.
    first = (coming - timedelta(days=70)).replace(day=1)
    with psycopg.connect(planned.database_url, autocommit=True) as session:
        session.execute("DELETE FROM kept_reports")
        session.execute("UPDATE libraries SET next_report_at = %s", [first])
    wait_for(lambda: next_at() == coming)
    months = {f"{first - timedelta(days=day):%Y-%m}" for day in (1,)} | {
        f"{first + timedelta(days=day):%Y-%m}" for day in range(0, (coming - first).days - 40, 27)
    }
    wait_for(lambda: months <= {one.month for one in client.reports.kept("ledge")})
    assert this_month() not in {one.month for one in client.reports.kept("ledge")}
    client.reports.save_settings("ledge", ReportSettings())
    wait_for(lambda: next_at() is None)


def test_a_webhook_is_tried_and_says_how_it_fared(planned: Service, listener: SimpleNamespace) -> None:
    webhooks = planned.client.webhooks
    listener.heard.clear()
    listener.status = 500
    made = webhooks.add("ledge", WebhookSettings(address=f"http://{listener.place}/x", events=[]))
    assert made.webhook.messages == []
    number = made.webhook.id

    def latest() -> SentMessage:
        return webhooks.get("ledge", number).messages[0]

    webhooks.send_trial("ledge", number)
    wait_for(lambda: latest().said == "it answered 500")
    assert webhooks.get("ledge", number).refused_since is not None
    listener.status = 200
    wait_for(lambda: latest().sent_at)
    assert webhooks.get("ledge", number).refused_since is None
    sent = latest()
    webhooks.redeliver("ledge", number, sent.id)
    wait_for(lambda: [h["webhook-id"] for _, h in listener.heard].count(sent.id) > sent.attempts)
    of_it = [headers for _, headers in listener.heard if headers["webhook-id"] == sent.id]
    assert len(of_it) == sent.attempts + 1, "it is the same message, sent again by hand"
    traces = {headers["traceparent"][3:35] for headers in of_it}
    assert len(traces) == 1, "every attempt bears the request that it comes from"
    assert all(headers["user-agent"] == "PlumCrate" for headers in of_it)
    wait_for(lambda: latest().sent_at)
    with pytest.raises(ProblemError) as unknown:
        webhooks.redeliver("ledge", number, "msg_of_nobody")
    assert unknown.value.code == "not-found"
    for address in ("ftp://x.example/", "https://", "javascript:alert(1)", "https://x.example:99999/", None):
        answer = httpx.put(
            f"{planned.url}/api/v1/libraries/ledge/webhooks/{number}",
            json={"address": address},
            headers={"Authorization": f"Bearer {planned.key}"},
        )
        assert answer.status_code == 422, address


def test_secrets_are_sealed_and_webhooks_are_few(planned: Service) -> None:
    client = planned.client
    before = client.webhooks.all("ledge")
    told = [WebhookSettings(address=f"https://x.example/{number}") for number in range(MOST_WEBHOOKS)]
    with pytest.raises(ProblemError) as caught:
        secrets = [client.webhooks.add("ledge", one).secret for one in told]
    assert caught.value.code == "too-many-webhooks"
    held = client.webhooks.all("ledge")
    assert (len(held), held[: len(before)]) == (MOST_WEBHOOKS, before)
    secrets = [client.webhooks.make_secret("ledge", held[-1].id).secret for _ in range(2)]
    secrets.append(client.webhooks.make_incoming_secret("ledge").secret)
    with psycopg.connect(planned.database_url) as session:
        rows = session.execute(
            "SELECT secret FROM webhooks UNION SELECT hook_secret FROM libraries"
        ).fetchall()
    assert not any(secret.encode() in bytes(row[0]) for secret in secrets for row in rows), "kept sealed"
    assert "whsec" not in " ".join(entry.detail + entry.target for entry in client.audit.page("ledge").rows)
    for one in held:
        client.webhooks.remove("ledge", one.id)
    assert client.webhooks.all("ledge") == []


def test_disconnecting_takes_all_of_it_along(planned: Service) -> None:
    client = planned.client
    run = client.runs.start(RunRequest(library="ledge", kind="restore", scope=Scope()))
    wait_for(lambda: client.runs.get(run.id).state is RunState.FINISHED)
    client.libraries.disconnect("ledge")
    tables = ("allowance_uses", "allowance_notices", "outgoing_messages", "kept_reports")
    with psycopg.connect(planned.database_url) as session:
        for table in tables:
            assert session.execute(f"SELECT count(*) FROM {table}").fetchone() == (0,)

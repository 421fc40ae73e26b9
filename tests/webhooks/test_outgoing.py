"""What a library tells to the outside: signed, until it is taken, once, and to nobody it must not reach."""

import json
import threading
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import httpx
import pytest
from conftest import add_library
from sqlalchemy import func, select, text
from standardwebhooks import Webhook as Signer
from standardwebhooks import WebhookVerificationError

from plumcrate.contract.webhooks import EventType, WebhookSettings
from plumcrate.contract.webhooks import Webhook as View
from plumcrate.keeping.sealing import Seal
from plumcrate.outgoing import Guard, Outgoing
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import library_view
from plumcrate.records.tables import Library, OutgoingMessage, Webhook
from plumcrate.refusal import Refusal
from plumcrate.webhooks.outgoing import (
    BACKOFF,
    WebhookSender,
    add_webhook,
    notify_webhooks,
    send_again,
    set_webhook,
    try_webhook,
    webhook_view,
)

ADDRESS = "https://hooks.example/in?a=1"


class House:
    """A library with a webhook, and one who sends to a made-up network."""

    def __init__(self, database: Database, state: Path) -> None:
        state.mkdir()
        self.database, self.seal = database, Seal(state)
        add_library(database, Path("/l"))
        self.asked: list[httpx.Request] = []
        self.answer: Callable[[httpx.Request], httpx.Response] = lambda _: httpx.Response(204)
        self.secret = self.add(address=ADDRESS)
        self.sender = self.another()

    def another(self, allowed: list[str] | None = None) -> WebhookSender:
        def heard(request: httpx.Request) -> httpx.Response:
            request.read()
            self.asked.append(request)
            return self.answer(request)

        guard = Guard(["hooks.example"] if allowed is None else allowed)
        return WebhookSender(self.database, self.seal, Outgoing(guard, transport=httpx.MockTransport(heard)))

    def add(self, **settings: Any) -> str:
        with self.database.begin() as session:
            library = session.get_one(Library, 1)
            return add_webhook(session, library, WebhookSettings(**settings), self.seal)[1]

    def settings(self, **settings: Any) -> None:
        with self.database.begin() as session:
            set_webhook(session.get_one(Webhook, 1), WebhookSettings(**settings))

    def try_it(self) -> None:
        with self.database.begin() as session:
            try_webhook(session, session.get_one(Library, 1), session.get_one(Webhook, 1))

    def seen(self) -> View:
        with self.database.begin() as session:
            return webhook_view(session, session.get_one(Webhook, 1))

    def tell(self, event: EventType = EventType.REPORT_READY, **data: Any) -> None:
        with self.database.begin() as session:
            notify_webhooks(session, session.get_one(Library, 1), event, data)

    def warnings(self) -> list[str]:
        with self.database.begin() as session:
            return library_view(session, session.get_one(Library, 1)).warnings

    def rows(self) -> list[OutgoingMessage]:
        with self.database.begin() as session:
            return list(session.scalars(select(OutgoingMessage).order_by(OutgoingMessage.id)))

    def let_pass(self, **time: float) -> None:
        with self.database.begin() as session:
            session.execute(
                text("UPDATE outgoing_messages SET due_at = due_at - CAST(:span AS interval)"),
                {"span": timedelta(**time)},
            )


@pytest.fixture
def house(database: Database, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> House:
    known = {"hooks.example": "127.0.0.9", "public.example": "93.184.215.14", "inner.example": "10.1.2.3"}

    def look_up(host: str, port: int, **_: Any) -> list[Any]:
        if host not in known:
            raise OSError("not known")
        return [(2, 1, 6, "", (known[host], port))]

    monkeypatch.setattr("plumcrate.outgoing.client.socket.getaddrinfo", look_up)
    return House(database, tmp_path / "state")


def test_a_message_is_signed_and_says_what_came_to_pass(house: House) -> None:
    house.tell(EventType.ALLOWANCE_USED, amount=10)
    house.sender.turn()
    (request,) = house.asked
    assert request.method == "POST"
    # To the address that was judged, under the name that was asked for.
    assert (request.url.host, request.headers["host"]) == ("127.0.0.9", "hooks.example")
    assert request.url.raw_path == b"/in?a=1"
    assert request.extensions["sni_hostname"] == "hooks.example"
    said = Signer(house.secret).verify(request.content, dict(request.headers))
    assert said["type"] == "allowance.used"
    assert said["data"] == {"library": "l", "amount": 10}
    assert datetime.fromisoformat(said["timestamp"]).tzinfo is not None
    (row,) = house.rows()
    assert (row.attempts, row.said, row.sent_at is not None) == (1, None, True)
    house.sender.turn()
    assert len(house.asked) == 1, "told once"


def test_it_is_told_again_until_it_is_taken_under_the_same_name(house: House) -> None:
    house.answer = lambda _: httpx.Response(503)
    house.tell()
    for pause in BACKOFF.pauses[:3]:
        house.sender.turn()
        (row,) = house.rows()
        assert row.said == "it answered 503"
        house.sender.turn()
        house.let_pass(seconds=pause + 1)
    assert len(house.asked) == 3, "not before its time"
    house.answer = lambda _: httpx.Response(200)
    house.sender.turn()
    (row,) = house.rows()
    assert (row.attempts, row.said) == (4, None)
    assert len({request.headers["webhook-id"] for request in house.asked}) == 1
    stamps = [int(request.headers["webhook-timestamp"]) for request in house.asked]
    assert abs(stamps[-1] - datetime.now(UTC).timestamp()) < 60


def test_after_three_days_it_is_given_up(house: House) -> None:
    house.answer = lambda _: httpx.Response(500)
    house.tell()
    for _ in range(len(BACKOFF.pauses) + 3):
        house.sender.turn()
        house.let_pass(days=2)
    (row,) = house.rows()
    assert (row.given_up, row.attempts) == (True, len(BACKOFF.pauses) + 1)
    assert sum(BACKOFF.pauses) >= 2.5 * 86_400
    (shown,) = house.seen().messages
    assert shown.given_up
    assert (shown.next_at, shown.said) == (None, "it answered 500")


@pytest.mark.parametrize("status", [301, 302, 307, 308])
def test_it_is_not_sent_on(house: House, status: int) -> None:
    house.answer = lambda _: httpx.Response(status, headers={"Location": "http://127.0.0.1:1/"})
    house.tell()
    house.sender.turn()
    assert len(house.asked) == 1
    assert house.rows()[0].said == f"it answered {status}"


def test_who_wants_to_hear_nothing_more_hears_nothing_more(house: House) -> None:
    house.answer = lambda _: httpx.Response(410)
    house.tell()
    house.sender.turn()
    assert house.rows()[0].given_up
    assert house.seen().stopped_at is not None


@pytest.mark.parametrize(
    ("address", "said"),
    [
        ("https://inner.example/", "inner.example:443 is not a public address, and is not listed as allowed"),
        ("http://unknown.example/", "unknown.example is not known to the network"),
        ("http://hooks.example:81/", "is an address of this machine itself"),
    ],
)
def test_only_what_is_public_or_listed_is_reached(house: House, address: str, said: str) -> None:
    house.settings(address=address)
    house.tell()
    sender = house.another(["hooks.example:80"])
    sender.turn()
    assert house.asked == []
    assert said in str(house.rows()[0].said)
    house.settings(address="https://public.example/")
    house.let_pass(seconds=BACKOFF.pauses[0] + 1)
    sender.turn()
    assert [request.url.host for request in house.asked] == ["93.184.215.14"]


def test_a_network_that_fails_is_said_in_plain_words(house: House) -> None:
    def fails(_: httpx.Request) -> httpx.Response:
        raise httpx.ConnectError("connection refused")

    house.answer = fails
    house.tell()
    house.sender.turn()
    assert house.rows()[0].said == "hooks.example does not answer: connection refused"


def test_each_webhook_hears_what_it_chose_and_once(house: House) -> None:
    house.settings(address=ADDRESS, events=[EventType.ALLOWANCE_USED])
    secret = house.add(address="https://hooks.example/other", events=[EventType.REPORT_READY])
    house.tell(EventType.FILES_CHANGED)
    assert house.rows() == []
    for _ in range(2):
        with house.database.begin() as session:
            library = session.get_one(Library, 1)
            notify_webhooks(session, library, EventType.REPORT_READY, {}, name="report_7")
            notify_webhooks(session, library, EventType.ALLOWANCE_USED, {}, name="used_7")
    house.try_it()
    house.sender.turn()
    told = [(request.url.path, json.loads(request.content)["type"]) for request in house.asked]
    assert sorted(told) == [
        ("/in", "allowance.used"),
        ("/in", "webhook.trial"),
        ("/other", "report.ready"),
    ]
    (other,) = [request for request in house.asked if request.url.path == "/other"]
    Signer(secret).verify(other.content, dict(other.headers))
    with pytest.raises(WebhookVerificationError):
        Signer(house.secret).verify(other.content, dict(other.headers))


def test_one_that_takes_nothing_for_a_day_is_stopped_until_it_takes_a_trial(house: House) -> None:
    house.answer = lambda _: httpx.Response(500)
    house.tell(number=1)
    house.sender.turn()
    since = house.seen().refused_since
    assert since is not None
    assert house.seen().stopped_at is None
    with house.database.begin() as session:
        session.get_one(Webhook, 1).refused_since = since - timedelta(hours=25)
    house.let_pass(minutes=1)
    house.sender.turn()
    assert house.seen().stopped_at is not None
    assert house.warnings() == [
        "The webhook at hooks.example took nothing and was stopped. Send it a message to try it."
    ]
    house.tell(number=2)
    house.answer = lambda _: httpx.Response(200)
    house.let_pass(days=1)
    asked = len(house.asked)
    house.sender.turn()
    assert len(house.asked) == asked, "what waits is kept, and not sent"
    assert [(row.given_up, row.sent_at) for row in house.rows()] == [(False, None)], "nothing new is noted"
    with house.database.begin() as session, pytest.raises(Refusal, match="was stopped"):
        send_again(session, session.get_one(Webhook, 1), house.rows()[0].message_id)
    house.try_it()
    house.sender.turn()
    assert house.seen().stopped_at is None
    assert house.warnings() == []
    house.sender.turn()
    assert [row.sent_at is not None for row in house.rows()] == [True, True], "what waited goes out"


def test_a_trial_needs_a_secret(house: House) -> None:
    with house.database.begin() as session:
        webhook = session.get_one(Webhook, 1)
        webhook.secret = None
        with pytest.raises(Refusal, match="make a secret first"):
            try_webhook(session, session.get_one(Library, 1), webhook)


def test_a_secret_that_cannot_be_read_is_said_and_the_message_waits(house: House, tmp_path: Path) -> None:
    (tmp_path / "state/seal.key").rename(tmp_path / "away")
    house.tell()
    house.sender.turn()
    assert house.asked == []
    assert "the secret cannot be read" in str(house.rows()[0].said)
    (tmp_path / "away").rename(tmp_path / "state/seal.key")
    house.let_pass(seconds=BACKOFF.pauses[0] + 1)
    house.sender.turn()
    assert len(house.asked) == 1


def test_a_message_in_a_transaction_that_comes_to_nothing_is_never_sent(house: House) -> None:
    def fails() -> None:
        with house.database.begin() as session:
            notify_webhooks(session, session.get_one(Library, 1), EventType.REPORT_READY, {})
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fails()
    house.sender.turn()
    assert house.asked == []


def test_several_who_send_send_each_message_once(house: House) -> None:
    for number in range(40):
        house.tell(number=number)
    senders = [house.another() for _ in range(4)]
    threads = [
        threading.Thread(target=lambda sender=sender: [sender.turn() for _ in range(40)])
        for sender in senders
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    numbers = [json.loads(request.content)["data"]["number"] for request in house.asked]
    assert sorted(numbers) == list(range(40))


def test_one_that_is_silent_holds_up_nobody(house: House) -> None:
    """The silent one answers only when the other was told all there is."""
    house.add(address="https://hooks.example/other")
    others = threading.Event()

    def answer(request: httpx.Request) -> httpx.Response:
        if request.url.path == "/in":
            assert others.wait(60), "the other waits for the silent one"
        elif json.loads(request.content)["data"]["number"] == 0:
            others.set()
        return httpx.Response(200)

    house.answer = answer
    for number in range(3):
        house.tell(number=number)
    house.sender.turn()
    assert all(row.sent_at for row in house.rows())
    for path in ("/in", "/other"):
        told = [json.loads(each.content)["data"]["number"] for each in house.asked if each.url.path == path]
        assert told == [0, 1, 2], "in their order"


def test_one_who_dies_while_sending_leaves_it_to_the_next(house: House) -> None:
    class Dies(BaseException):
        pass

    def dies(_: httpx.Request) -> httpx.Response:
        raise Dies

    house.answer = dies
    house.tell()
    with pytest.raises(Dies):
        house.sender.turn()
    house.answer = lambda _: httpx.Response(200)
    house.sender.turn()
    assert len(house.asked) == 1, "it may still be under way"
    house.let_pass(minutes=6)
    house.sender.turn()
    assert len({request.headers["webhook-id"] for request in house.asked}) == 1
    assert house.rows()[0].sent_at is not None


def test_few_messages_are_kept(house: House) -> None:
    for number in range(215):
        house.tell(number=number)
    with house.database.begin() as session:
        assert session.scalar(select(func.count()).select_from(OutgoingMessage)) == 200
    assert house.rows()[-1].data["number"] == 214


def test_over_a_real_connection(database: Database, tmp_path: Path) -> None:
    heard: list[tuple[bytes, dict[str, str]]] = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["Content-Length"]))
            heard.append((body, {name.lower(): value for name, value in self.headers.items()}))
            self.send_response(200)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    place = f"127.0.0.1:{server.server_port}"
    house = House(database, tmp_path / "state")
    house.settings(address=f"http://{place}/in")
    sender = WebhookSender(database, house.seal, Outgoing(Guard([place])))
    house.tell(month="2026-06")
    sender.turn()
    ((body, headers),) = heard
    assert headers["host"] == place
    assert Signer(house.secret).verify(body, headers)["data"]["month"] == "2026-06"
    server.shutdown()

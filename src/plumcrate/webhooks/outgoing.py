"""Telling a library's webhooks what came to pass: messages are noted in the transaction in which it did, and
sent until they are taken, signed by the Standard Webhooks scheme (https://www.standardwebhooks.com)."""

from __future__ import annotations

import json
import secrets
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import Select, delete, func, or_, select
from sqlalchemy.dialects.postgresql import distinct_on, insert
from sqlalchemy.orm import Session
from standardwebhooks import Webhook as Signer

from plumcrate import trace
from plumcrate.contract.webhooks import MOST_WEBHOOKS, EventType, SentMessage, Webhook, WebhookSettings
from plumcrate.keeping.sealing import CannotUnseal, Seal
from plumcrate.outgoing import CannotReach, Outgoing
from plumcrate.outgoing.delivering import Backoff, DeliveryLoop, Undelivered
from plumcrate.records.database import Database, notify
from plumcrate.records.tables import Library, OutgoingMessage
from plumcrate.records.tables import Webhook as WebhookRow
from plumcrate.refusal import Refusal

from .signing import new_secret

log = structlog.get_logger()

#: Pauses before another attempt, in seconds; after the last a message is given up: three days.
BACKOFF = Backoff((5, 30, 120, 600, 3_600, 6 * 3_600, 12 * 3_600, 24 * 3_600, 24 * 3_600))
#: What is being sent is nobody else's for so long, in seconds: longer than a silent address takes.
_HELD, SECONDS = 300, 15.0
#: So many webhooks are told side by side, and each so many messages in a row.
_BATCH = 10
#: So many messages of a webhook are kept, and shown.
_KEPT, _SHOWN = 200, 50
#: A webhook that took nothing for so long is stopped.
_PATIENCE = timedelta(days=1)


def notify_webhooks(
    session: Session, library: Library, event: EventType, data: dict[str, Any], *, name: str | None = None
) -> None:
    """Notes a message for each of the library's webhooks that wants to hear of such. ``name``: under which
    each is told once."""
    message_id = f"msg_{name or secrets.token_urlsafe(18)}"
    told = select(WebhookRow).where(WebhookRow.library_id == library.id, WebhookRow.stopped_at.is_(None))
    for webhook in session.scalars(told.order_by(WebhookRow.id)).all():
        if event in webhook.events:
            _note_message(session, webhook, message_id, event, {"library": library.slug} | data)


def _note_message(
    session: Session, webhook: WebhookRow, message_id: str, event: EventType, data: dict[str, Any]
) -> None:
    values = {
        "webhook_id": webhook.id,
        "message_id": message_id,
        "type": event,
        "data": data,
        "attempts": 0,
        "given_up": False,
        "trace": trace.current(),
    }
    session.execute(insert(OutgoingMessage).values(values).on_conflict_do_nothing())
    notify(session, messages=webhook.library_id)
    newest = _messages_of(webhook).limit(_KEPT).with_only_columns(OutgoingMessage.id)
    session.execute(
        delete(OutgoingMessage).where(
            OutgoingMessage.webhook_id == webhook.id, OutgoingMessage.id.not_in(newest)
        )
    )


def notify_of_files(session: Session, library: Library, paths: list[str]) -> None:
    """Notes a message about files and copies that changed, for a site that wants to hear of them."""
    notify_webhooks(session, library, EventType.FILES_CHANGED, {"paths": paths})


def webhooks_of(session: Session, library: Library) -> list[Webhook]:
    """A library's webhooks as the wire shows them, the first made first."""
    rows = select(WebhookRow).where(WebhookRow.library_id == library.id).order_by(WebhookRow.id)
    return [webhook_view(session, row) for row in session.scalars(rows).all()]


def the_webhook(session: Session, library: Library, number: int) -> WebhookRow:
    """Raises :class:`Refusal`."""
    row = session.get(WebhookRow, number, with_for_update=True)
    if row is None or row.library_id != library.id:
        raise Refusal("not-found", f"there is no webhook {number}")
    return row


def webhook_view(session: Session, webhook: WebhookRow) -> Webhook:
    """A webhook as the wire shows it, with its latest messages."""
    return Webhook(
        id=webhook.id,
        address=webhook.address,
        events=[EventType(event) for event in webhook.events],
        created_at=webhook.created_at,
        refused_since=webhook.refused_since,
        stopped_at=webhook.stopped_at,
        messages=[
            SentMessage(
                id=row.message_id,
                type=EventType(row.type),
                at=row.created_at,
                sent_at=row.sent_at,
                next_at=None if row.sent_at or row.given_up or webhook.stopped_at else row.due_at,
                attempts=row.attempts,
                given_up=row.given_up,
                said=row.said,
            )
            for row in session.scalars(_messages_of(webhook).limit(_SHOWN))
        ],
    )


def _messages_of(webhook: WebhookRow) -> Select[OutgoingMessage]:
    return (
        select(OutgoingMessage)
        .where(OutgoingMessage.webhook_id == webhook.id)
        .order_by(OutgoingMessage.id.desc())
    )


def settings_of(webhook: WebhookRow) -> WebhookSettings:
    """What of a webhook can be changed."""
    return WebhookSettings(address=webhook.address, events=[EventType(event) for event in webhook.events])


def add_webhook(
    session: Session, library: Library, settings: WebhookSettings, seal: Seal
) -> tuple[WebhookRow, str]:
    """A further webhook, and the secret that its messages are signed with. Raises :class:`Refusal`."""
    session.get(Library, library.id, with_for_update=True)  # two who add at once are counted one by one
    held = session.scalar(
        select(func.count()).select_from(WebhookRow).where(WebhookRow.library_id == library.id)
    )
    if held is not None and held >= MOST_WEBHOOKS:
        raise Refusal("too-many-webhooks", f"there are {held} webhooks already: remove one first")
    webhook = WebhookRow(library_id=library.id, **settings.model_dump(mode="json"))
    secret = give_webhook_secret(webhook, seal)
    session.add(webhook)
    session.flush()
    return webhook, secret


def set_webhook(webhook: WebhookRow, settings: WebhookSettings) -> None:
    """Changes a webhook; one that was stopped is told again, and what waits is sent."""
    webhook.address, webhook.events = settings.address, [event.value for event in settings.events]
    webhook.refused_since = webhook.stopped_at = None


def give_webhook_secret(webhook: WebhookRow, seal: Seal) -> str:
    """A new secret; messages are signed with it from now on."""
    secret = new_secret()
    webhook.secret = seal.close(secret.encode())
    return secret


def try_webhook(session: Session, library: Library, webhook: WebhookRow) -> None:
    """Notes a message that says nothing but that it came; it is sent though the webhook was stopped.
    Raises :class:`Refusal`."""
    if webhook.secret is None:
        raise Refusal("no-webhook", "make a secret first: messages are signed with it")
    name = f"msg_{secrets.token_urlsafe(18)}"
    _note_message(session, webhook, name, EventType.TRIAL, {"library": library.slug})


def send_again(session: Session, webhook: WebhookRow, message_id: str) -> None:
    """A message that was taken or given up is due again, under its name. Raises :class:`Refusal`."""
    row = session.scalar(
        select(OutgoingMessage)
        .where(OutgoingMessage.webhook_id == webhook.id, OutgoingMessage.message_id == message_id)
        .with_for_update()
    )
    if row is None:
        raise Refusal("not-found", f"there is no message {message_id}")
    if webhook.stopped_at is not None:
        raise Refusal("no-webhook", "the webhook was stopped: send a message to try it first")
    row.sent_at, row.given_up, row.attempts, row.due_at = None, False, 0, func.now()
    notify(session, messages=webhook.library_id)


@dataclass(frozen=True, slots=True)
class _DueMessage:
    id: int
    message_id: str
    type: str
    data: dict[str, Any]
    at: datetime
    attempts: int
    slug: str
    address: str
    secret: bytes | None
    trace: str | None


class WebhookSender:
    """Sends what is due, as far as ``out`` may reach."""

    def __init__(self, database: Database, seal: Seal, out: Outgoing) -> None:
        self._database, self._seal, self._out = database, seal, out
        self._loop = DeliveryLoop(self._take, self._send, self._note, at_once=_BATCH)

    def turn(self) -> bool:
        """Sends what is due; whether there was any."""
        rounds = 0
        while rounds < _BATCH and self._loop.turn():
            rounds += 1
        return rounds > 0

    def close(self) -> None:
        self._loop.close()

    def _take(self) -> list[_DueMessage]:
        """The first that is due of each webhook, held so that nobody else sends it meanwhile: one that is
        silent does not hold up the others."""
        first = (
            select(OutgoingMessage.id)
            .ext(distinct_on(OutgoingMessage.webhook_id))
            .join(WebhookRow, WebhookRow.id == OutgoingMessage.webhook_id)
            .where(
                or_(WebhookRow.stopped_at.is_(None), OutgoingMessage.type == EventType.TRIAL),
                OutgoingMessage.sent_at.is_(None),
                ~OutgoingMessage.given_up,
                OutgoingMessage.due_at <= func.now(),
            )
            .order_by(OutgoingMessage.webhook_id, OutgoingMessage.due_at, OutgoingMessage.id)
        )
        with self._database.begin() as session:
            rows = session.execute(
                select(OutgoingMessage, WebhookRow, Library.slug)
                .join(WebhookRow, WebhookRow.id == OutgoingMessage.webhook_id)
                .join(Library, Library.id == WebhookRow.library_id)
                .where(OutgoingMessage.id.in_(first), OutgoingMessage.due_at <= func.now())
                .order_by(OutgoingMessage.due_at)
                .limit(_BATCH)
                .with_for_update(of=OutgoingMessage, skip_locked=True)
            ).all()
            due = []
            for message, webhook, slug in rows:
                message.due_at = func.now() + timedelta(seconds=_HELD)
                message.attempts += 1
                due.append(
                    _DueMessage(
                        message.id,
                        message.message_id,
                        message.type,
                        message.data,
                        message.created_at,
                        message.attempts,
                        slug,
                        webhook.address,
                        webhook.secret,
                        message.trace,
                    )
                )
        return due

    def _send(self, message: _DueMessage) -> Undelivered | None:
        """Why a message was not taken; None when it was."""
        try:
            self._deliver(message)
        except Undelivered as error:
            return error
        return None

    def _deliver(self, message: _DueMessage) -> None:
        """Raises :class:`~plumcrate.outgoing.delivering.Undelivered`."""
        if message.secret is None:
            raise Undelivered("it has no secret to sign with: make one")
        body = json.dumps(
            {"type": message.type, "timestamp": message.at.astimezone(UTC).isoformat(), "data": message.data}
        )
        now = datetime.now(UTC)
        try:
            signature = Signer(self._seal.open(message.secret).decode()).sign(message.message_id, now, body)
        except CannotUnseal as error:
            raise Undelivered(f"the secret cannot be read: {error}") from None
        self._post(
            message.address,
            body,
            {
                "Content-Type": "application/json",
                "webhook-id": message.message_id,
                "webhook-timestamp": str(int(now.timestamp())),
                "webhook-signature": signature,
                "traceparent": trace.traceparent(message.trace),
            },
        )

    def _post(self, address: str, body: str, headers: dict[str, str]) -> None:
        """Raises :class:`~plumcrate.outgoing.delivering.Undelivered`."""
        try:
            status = self._out.ask("POST", address, content=body, headers=headers).status
        except CannotReach as error:
            raise Undelivered(str(error)) from None
        if status == 410:
            raise Undelivered("it answered 410: it wants to hear nothing more", for_good=True)
        if not 200 <= status < 300:
            raise Undelivered(f"it answered {status}")

    def _note(self, message: _DueMessage, fault: Undelivered | None) -> None:
        said = None if fault is None else str(fault)
        pause = None if fault is not None and fault.for_good else BACKOFF.after(message.attempts)
        with self._database.begin() as session:
            row = session.get(OutgoingMessage, message.id)
            if row is None:
                return
            row.said = said
            if said is None:
                row.sent_at = func.now()
            elif pause is None:
                row.given_up = True
            else:
                row.due_at = func.now() + timedelta(seconds=pause)
            webhook = session.get(WebhookRow, row.webhook_id, with_for_update=True)
            if webhook is None:
                return
            number, stopped = webhook.id, _judge(webhook, fault)
        if said is not None:
            log.warning(
                "a webhook was not taken",
                library=message.slug,
                type=message.type,
                message=message.message_id,
                request=message.trace,
                reason=said,
            )
            if stopped:
                log.error("a webhook was stopped", library=message.slug, webhook=number, reason=said)


def _judge(webhook: WebhookRow, fault: Undelivered | None) -> bool:
    """Notes on a webhook how its latest message fared; whether it was stopped for that."""
    now = datetime.now(UTC)
    if fault is None:
        webhook.refused_since = webhook.stopped_at = None
        return False
    webhook.refused_since = webhook.refused_since or now
    if webhook.stopped_at is not None or not (fault.for_good or now - webhook.refused_since >= _PATIENCE):
        return False
    webhook.stopped_at = now
    return True

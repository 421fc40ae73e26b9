"""Telling a library's webhook what came to pass: messages are noted in the transaction in which it did, and
sent until they are taken, signed by the Standard Webhooks scheme (https://www.standardwebhooks.com)."""

from __future__ import annotations

import json
import secrets
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session
from standardwebhooks import Webhook as Signer

from plumcrate import trace
from plumcrate.contract.webhooks import EventType, SentMessage, Webhook, WebhookSettings
from plumcrate.keeping.sealing import CannotUnseal, Seal
from plumcrate.outgoing import CannotReach, Outgoing
from plumcrate.outgoing.delivering import Backoff, DeliveryLoop, Undelivered
from plumcrate.records.database import Database, notify
from plumcrate.records.tables import Library, OutgoingMessage
from plumcrate.refusal import Refusal

from .signing import new_secret

log = structlog.get_logger()

#: Pauses before another attempt, in seconds; after the last a message is given up: three days.
BACKOFF = Backoff((5, 30, 120, 600, 3_600, 6 * 3_600, 12 * 3_600, 24 * 3_600, 24 * 3_600))
#: What is being sent is nobody else's for so long, in seconds: longer than a batch of silent addresses takes.
_HELD, SECONDS, _BATCH = 300, 15.0, 10
#: So many messages of a library are kept, and shown.
_KEPT, _SHOWN = 200, 50


def notify_webhook(
    session: Session, library: Library, event: EventType, data: dict[str, Any], *, name: str | None = None
) -> None:
    """Notes a message, where the library's webhook wants to hear of such. ``name``: under which it
    is noted once."""
    settings = WebhookSettings.model_validate(library.webhook)
    if settings.address is None or not (event in settings.events or event is EventType.TRIAL):
        return
    values = {
        "library_id": library.id,
        "message_id": f"msg_{name or secrets.token_urlsafe(18)}",
        "type": event,
        "data": {"library": library.slug} | data,
        "attempts": 0,
        "given_up": False,
        "trace": trace.current(),
    }
    session.execute(insert(OutgoingMessage).values(values).on_conflict_do_nothing())
    notify(session, messages=library.id)
    newest = (
        select(OutgoingMessage.id)
        .where(OutgoingMessage.library_id == library.id)
        .order_by(OutgoingMessage.id.desc())
        .limit(_KEPT)
    )
    session.execute(
        delete(OutgoingMessage).where(
            OutgoingMessage.library_id == library.id, OutgoingMessage.id.not_in(newest)
        )
    )


def notify_of_files(session: Session, library: Library, paths: list[str]) -> None:
    """Notes a message about files and copies that changed, for a site that wants to hear of them."""
    notify_webhook(session, library, EventType.FILES_CHANGED, {"paths": paths})


def webhook_view(session: Session, library: Library) -> Webhook:
    """A library's webhook as the wire shows it, with its latest messages."""
    settings = WebhookSettings.model_validate(library.webhook)
    rows = session.scalars(
        select(OutgoingMessage)
        .where(OutgoingMessage.library_id == library.id)
        .order_by(OutgoingMessage.id.desc())
        .limit(_SHOWN)
    )
    return Webhook(
        address=settings.address,
        events=settings.events,
        has_secret=library.webhook_secret is not None,
        messages=[
            SentMessage(
                id=row.message_id,
                type=EventType(row.type),
                at=row.created_at,
                sent_at=row.sent_at,
                next_at=None if row.sent_at or row.given_up else row.due_at,
                attempts=row.attempts,
                said=row.said,
            )
            for row in rows
        ],
    )


def give_webhook_secret(library: Library, seal: Seal) -> str:
    """A new secret; messages are signed with it from now on."""
    secret = new_secret()
    library.webhook_secret = seal.close(secret.encode())
    return secret


def try_webhook(session: Session, library: Library) -> None:
    """Notes a message that says nothing but that it came. Raises :class:`Refusal`."""
    if WebhookSettings.model_validate(library.webhook).address is None:
        raise Refusal("no-webhook", "the webhook has no address")
    if library.webhook_secret is None:
        raise Refusal("no-webhook", "make a secret first: messages are signed with it")
    notify_webhook(session, library, EventType.TRIAL, {})


def send_again(session: Session, library: Library, message_id: str) -> None:
    """A message that was taken or given up is due again, under its name. Raises :class:`Refusal`."""
    row = session.scalar(
        select(OutgoingMessage)
        .where(OutgoingMessage.library_id == library.id, OutgoingMessage.message_id == message_id)
        .with_for_update()
    )
    if row is None:
        raise Refusal("not-found", f"there is no message {message_id}")
    if WebhookSettings.model_validate(library.webhook).address is None:
        raise Refusal("no-webhook", "the webhook has no address")
    row.sent_at, row.given_up, row.attempts, row.due_at = None, False, 0, func.now()
    notify(session, messages=library.id)


@dataclass(frozen=True, slots=True)
class _DueMessage:
    id: int
    message_id: str
    type: str
    data: dict[str, Any]
    at: datetime
    attempts: int
    slug: str
    settings: WebhookSettings
    secret: bytes | None
    trace: str | None


class WebhookSender:
    """Sends what is due, as far as ``out`` may reach."""

    def __init__(self, database: Database, seal: Seal, out: Outgoing) -> None:
        self._database, self._seal, self._out = database, seal, out
        self._loop = DeliveryLoop(self._take, self._send, self._note)

    def turn(self) -> bool:
        """Sends what is due; whether there was any."""
        return self._loop.turn()

    def close(self) -> None:
        self._loop.close()

    def _take(self) -> list[_DueMessage]:
        """What is due, held so that nobody else sends it meanwhile."""
        with self._database.begin() as session:
            rows = session.execute(
                select(OutgoingMessage, Library)
                .join(Library, Library.id == OutgoingMessage.library_id)
                .where(
                    OutgoingMessage.sent_at.is_(None),
                    ~OutgoingMessage.given_up,
                    OutgoingMessage.due_at <= func.now(),
                )
                .order_by(OutgoingMessage.due_at)
                .limit(_BATCH)
                .with_for_update(of=OutgoingMessage, skip_locked=True)
            ).all()
            due = []
            for message, library in rows:
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
                        library.slug,
                        WebhookSettings.model_validate(library.webhook),
                        library.webhook_secret,
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
        if message.settings.address is None:
            raise Undelivered("the webhook has no address any more", for_good=True)
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
            message.settings.address,
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
        if said is not None:
            log.warning(
                "a webhook was not taken",
                library=message.slug,
                type=message.type,
                message=message.message_id,
                request=message.trace,
                reason=said,
            )

"""Whom a library tells what came to pass, signed by the Standard Webhooks scheme."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

from pydantic import Field

from .common import Answer, Message
from .delivery import Address


class EventType(StrEnum):
    """What may be told."""

    FILES_CHANGED = "files.changed"
    DESCRIPTIONS_CHANGED = "descriptions.changed"
    ALLOWANCE_NEARLY_USED = "allowance.nearly-used"
    ALLOWANCE_USED = "allowance.used"
    REPORT_READY = "report.ready"
    TRIAL = "webhook.trial"


#: What is told unless it was chosen otherwise: what a person wants to hear, and not only a program.
USUAL_EVENTS = [EventType.ALLOWANCE_NEARLY_USED, EventType.ALLOWANCE_USED, EventType.REPORT_READY]


#: So many webhooks has a library at most.
MOST_WEBHOOKS = 20


class WebhookSettings(Message):
    """Where it is told, and what. Trials are always told."""

    address: Address
    events: list[EventType] = Field(default_factory=USUAL_EVENTS.copy, max_length=len(EventType))


class SentMessage(Answer):
    """A message, and how it fared."""

    id: str
    type: EventType
    at: datetime
    sent_at: datetime | None
    next_at: datetime | None = Field(None, description="When it is tried again.")
    attempts: int
    given_up: bool
    said: str | None = Field(None, description="Why it was not taken, in plain words.")


class Webhook(Answer):
    """One address that is told, and how its messages fared; its secret is told once, when it is made."""

    id: int
    address: str
    events: list[EventType]
    created_at: datetime
    refused_since: datetime | None = Field(None, description="Since then it took nothing.")
    stopped_at: datetime | None = Field(
        None, description="It took nothing for a day, or answered 410: nothing is sent but a trial."
    )
    messages: list[SentMessage] = Field(description="The latest 50, the latest first.")


class NewWebhook(Answer):
    """A webhook, and with what its messages are signed; shown once."""

    secret: str
    webhook: Webhook


class WebhookSecret(Answer):
    """With what messages are signed; shown once."""

    secret: str

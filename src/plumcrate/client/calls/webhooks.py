"""Whom a library tells what came to pass, and how it hears of it from its site."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.automation import HookSecret
from plumcrate.contract.webhooks import NewWebhook, Webhook, WebhookSecret, WebhookSettings

from . import base
from .base import Call


def all(library: str) -> Call[list[Webhook]]:
    """Each with how its messages fared."""
    return base.get(f"{base.within(library)}/webhooks", list[Webhook])


def get(library: str, number: int) -> Call[Webhook]:
    return base.get(_of(library, number), Webhook)


def add(library: str, settings: WebhookSettings) -> Call[NewWebhook]:
    """Tells a further address; the answer holds the secret, which is shown this once."""
    return base.post(f"{base.within(library)}/webhooks", NewWebhook, settings)


def set(library: str, number: int, settings: WebhookSettings) -> Call[Webhook]:
    """One that was stopped is told again."""
    return Call("PUT", _of(library, number), TypeAdapter(Webhook), body=settings)


def remove(library: str, number: int) -> Call[None]:
    return Call("DELETE", _of(library, number), TypeAdapter(type(None)))


def make_secret(library: str, number: int) -> Call[WebhookSecret]:
    """Shown this once; a former one is worth nothing from now on."""
    return base.post(f"{_of(library, number)}/secret", WebhookSecret)


def redeliver(library: str, number: int, message: str) -> Call[Webhook]:
    """Sends a message of the webhook again, under its name."""
    return base.post(f"{_of(library, number)}/messages/{base.part(message)}/redelivery", Webhook)


def send_trial(library: str, number: int) -> Call[Webhook]:
    """Sends a message that says nothing but that it came."""
    return base.post(f"{_of(library, number)}/trial", Webhook)


def make_incoming_secret(library: str) -> Call[HookSecret]:
    """Makes the secret with which a site signs what it tells; a former one is worth nothing then."""
    return base.post(f"{base.within(library)}/hook-secret", HookSecret)


def _of(library: str, number: int) -> str:
    return f"{base.within(library)}/webhooks/{base.part(number)}"

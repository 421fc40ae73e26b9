"""What a library tells to the outside, and how it is told."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.automation import HookSecret
from plumcrate.contract.webhooks import Webhook, WebhookSecret, WebhookSettings

from . import base
from .base import Call


def get(library: str) -> Call[Webhook]:
    """Where a library tells what came to pass, and how its messages fared."""
    return base.get(f"{base.within(library)}/webhook", Webhook)


def set(library: str, settings: WebhookSettings) -> Call[Webhook]:
    return Call("PUT", f"{base.within(library)}/webhook", TypeAdapter(Webhook), body=settings)


def make_secret(library: str) -> Call[WebhookSecret]:
    """Shown this once; a former one is worth nothing from now on."""
    return base.post(f"{base.within(library)}/webhook/secret", WebhookSecret)


def redeliver(library: str, message: str) -> Call[Webhook]:
    """Sends a message of the webhook again, under its name."""
    return base.post(f"{base.within(library)}/webhook/messages/{base.part(message)}/redelivery", Webhook)


def send_trial(library: str) -> Call[Webhook]:
    """Sends a message that says nothing but that it came."""
    return base.post(f"{base.within(library)}/webhook/trial", Webhook)


def make_incoming_secret(library: str) -> Call[HookSecret]:
    """Makes a secret for webhooks; a former one is worth nothing then."""
    return base.post(f"{base.within(library)}/hook-secret", HookSecret)

"""Whom a library tells what came to pass."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Response

from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Administering
from plumcrate.contract.webhooks import NewWebhook, Webhook, WebhookSecret, WebhookSettings
from plumcrate.webhooks import outgoing

from .deps import PLAIN, Id, Session, Slug, TheSeal, TheState, router_of, the_library

router = router_of("webhooks")


@router.get("/libraries/{slug}/webhooks", summary="Whom a library tells what came to pass")
def webhooks(slug: Slug, actor: Administering, session: Session) -> list[Webhook]:
    """Each with its latest messages, and why any was not taken; the first made first."""
    return outgoing.webhooks_of(session, the_library(session, slug))


@router.post("/libraries/{slug}/webhooks", status_code=201, summary="Tell a further address")
def add_webhook(
    slug: Slug, body: WebhookSettings, actor: Administering, session: Session, seal: TheSeal, state: TheState
) -> NewWebhook:
    """The answer holds the secret that its messages are signed with, which is shown this once."""
    state.check()
    webhook, secret = outgoing.add_webhook(session, the_library(session, slug), body, seal)
    return NewWebhook(secret=secret, webhook=outgoing.webhook_view(session, webhook))


@router.get("/libraries/{slug}/webhooks/{webhook_id}", summary="One webhook")
def webhook(
    slug: Slug, webhook_id: Id, actor: Administering, session: Session, response: Response
) -> Webhook:
    found = outgoing.the_webhook(session, the_library(session, slug), webhook_id)
    return tagged(response, outgoing.webhook_view(session, found), outgoing.settings_of(found))


@router.put("/libraries/{slug}/webhooks/{webhook_id}", summary="Change what a webhook is told, or where")
def set_webhook(
    slug: Slug,
    webhook_id: Id,
    body: WebhookSettings,
    actor: Administering,
    session: Session,
    based: BasedOn,
) -> Webhook:
    """One that was stopped is told again, and what waits is sent."""
    found = outgoing.the_webhook(session, the_library(session, slug), webhook_id)
    based.on(outgoing.settings_of(found))
    outgoing.set_webhook(found, body)
    session.flush()
    return based.tagged(outgoing.webhook_view(session, found), body)


@router.delete("/libraries/{slug}/webhooks/{webhook_id}", status_code=204, summary="Tell an address no more")
def remove_webhook(slug: Slug, webhook_id: Id, actor: Administering, session: Session) -> None:
    """At once; what waits to be sent to it is forgotten."""
    session.delete(outgoing.the_webhook(session, the_library(session, slug), webhook_id))


@router.post(
    "/libraries/{slug}/webhooks/{webhook_id}/secret", summary="Make another secret to sign messages with"
)
def new_webhook_secret(
    slug: Slug, webhook_id: Id, actor: Administering, session: Session, seal: TheSeal, state: TheState
) -> WebhookSecret:
    """Shown this once. Messages are signed with it from now on, those that wait too."""
    state.check()
    found = outgoing.the_webhook(session, the_library(session, slug), webhook_id)
    return WebhookSecret(secret=outgoing.give_webhook_secret(found, seal))


@router.post(
    "/libraries/{slug}/webhooks/{webhook_id}/messages/{message}/redelivery",
    status_code=202,
    summary="Send a message again",
)
def redeliver(
    slug: Slug,
    webhook_id: Id,
    message: Annotated[str, Path(max_length=200, pattern=PLAIN)],
    actor: Administering,
    session: Session,
) -> Webhook:
    """Under the same `webhook-id`, whether it was taken or given up."""
    found = outgoing.the_webhook(session, the_library(session, slug), webhook_id)
    outgoing.send_again(session, found, message)
    session.flush()
    return outgoing.webhook_view(session, found)


@router.post(
    "/libraries/{slug}/webhooks/{webhook_id}/trial", status_code=202, summary="Send a message to try it"
)
def trial(slug: Slug, webhook_id: Id, actor: Administering, session: Session) -> Webhook:
    """It is sent though the webhook was stopped; when it is taken, the webhook is told again."""
    library = the_library(session, slug)
    found = outgoing.the_webhook(session, library, webhook_id)
    outgoing.try_webhook(session, library, found)
    session.flush()
    return outgoing.webhook_view(session, found)

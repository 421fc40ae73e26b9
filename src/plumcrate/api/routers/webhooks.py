"""What a library tells to the outside."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Response

from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Administering
from plumcrate.contract.webhooks import Webhook, WebhookSecret, WebhookSettings
from plumcrate.webhooks.outgoing import give_webhook_secret, send_again, try_webhook, webhook_view

from .deps import PLAIN, Session, Slug, TheSeal, TheState, router_of, the_library

router = router_of("webhooks")


@router.get("/libraries/{slug}/webhook", summary="Where a library tells what came to pass")
def webhook(slug: Slug, actor: Administering, session: Session, response: Response) -> Webhook:
    """With its latest messages, and why any was not taken."""
    library = the_library(session, slug)
    return tagged(response, webhook_view(session, library), WebhookSettings.model_validate(library.webhook))


@router.put("/libraries/{slug}/webhook", summary="Say where a library tells what came to pass")
def set_webhook(
    slug: Slug, body: WebhookSettings, actor: Administering, session: Session, based: BasedOn
) -> Webhook:
    library = the_library(session, slug)
    based.on(WebhookSettings.model_validate(library.webhook))
    library.webhook = body.model_dump(mode="json")
    session.flush()
    return based.tagged(webhook_view(session, library), body)


@router.post("/libraries/{slug}/webhook/secret", summary="Make the secret that messages are signed with")
def new_webhook_secret(
    slug: Slug, actor: Administering, session: Session, seal: TheSeal, state: TheState
) -> WebhookSecret:
    """Shown this once. Messages are signed with it from now on, those that wait too."""
    state.check()
    return WebhookSecret(secret=give_webhook_secret(the_library(session, slug), seal))


@router.post(
    "/libraries/{slug}/webhook/messages/{message}/redelivery", status_code=202, summary="Send a message again"
)
def redeliver(
    slug: Slug,
    message: Annotated[str, Path(max_length=200, pattern=PLAIN)],
    actor: Administering,
    session: Session,
) -> Webhook:
    """Under the same `webhook-id`, whether it was taken or given up."""
    library = the_library(session, slug)
    send_again(session, library, message)
    session.flush()
    return webhook_view(session, library)


@router.post("/libraries/{slug}/webhook/trial", status_code=202, summary="Send a message to try it")
def trial(slug: Slug, actor: Administering, session: Session) -> Webhook:
    library = the_library(session, slug)
    try_webhook(session, library)
    session.flush()
    return webhook_view(session, library)

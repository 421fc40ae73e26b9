"""Where the service tells the site that files changed."""

from __future__ import annotations

import json
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.views.decorators.csrf import csrf_exempt
from django.views.decorators.http import require_POST
from standardwebhooks import Webhook, WebhookVerificationError

from .conf import site
from .receivers import descriptions_changed, files_changed

_MOST = 1_000_000


@csrf_exempt
@require_POST
def webhook(request: HttpRequest) -> HttpResponse:
    """Takes messages of the Standard Webhooks scheme. What is not signed with our secret changes nothing."""
    secret = site().webhook_secret
    if not secret:
        return HttpResponse("PLUMCRATE has no webhook_secret", status=404, content_type="text/plain")
    if int(request.META.get("CONTENT_LENGTH") or 0) > _MOST:
        return HttpResponse("too large", status=413, content_type="text/plain")
    wanted = ("webhook-id", "webhook-timestamp", "webhook-signature")
    headers = {name: request.headers.get(name, "") for name in wanted}
    try:
        Webhook(secret).verify(request.body, headers, json_parse=False)
    except (WebhookVerificationError, ValueError):
        return HttpResponse("the signature does not fit", status=401, content_type="text/plain")
    event: dict[str, Any] = json.loads(request.body)
    data = event.get("data", {})
    if event.get("type") == "files.changed":
        names = [site().name_of(path) for path in data.get("paths", [])]
        files_changed.send(webhook, names=names)
    elif event.get("type") == "descriptions.changed":
        texts = {site().name_of(one["path"]): one for one in data.get("pictures", [])}
        descriptions_changed.send(webhook, language=data.get("language", ""), texts=texts)
    return HttpResponse(status=204)

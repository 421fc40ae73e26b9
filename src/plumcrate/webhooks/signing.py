"""Signatures of webhooks by the Standard Webhooks scheme (https://www.standardwebhooks.com)."""

from __future__ import annotations

import base64
import secrets
from collections.abc import Mapping

from standardwebhooks import Webhook, WebhookVerificationError

from plumcrate.refusal import Refusal
from plumcrate.storage.names import fault_of

_SIGNATURES, _LONGEST = 20, 200


#: With what a secret in plain text begins.
PREFIX = "whsec_"


def new_secret() -> str:
    """A secret with 32 random bytes, as the scheme writes it."""
    return PREFIX + base64.b64encode(secrets.token_bytes(32)).decode()


UNFIT = "the signature was not made with this library's secret"


def verify(secret: str, headers: Mapping[str, str], body: bytes) -> None:
    """Checks a message's signature and time. Raises :class:`Refusal`."""
    hook_id, stamp = headers.get("webhook-id", ""), headers.get("webhook-timestamp", "")
    if not (
        0 < len(hook_id) <= _LONGEST and fault_of(hook_id) is None and stamp.isdecimal() and len(stamp) < 16
    ):
        raise Refusal("bad-signature", "the headers webhook-id and webhook-timestamp are needed")
    signatures = " ".join(headers.get("webhook-signature", "").split()[:_SIGNATURES])
    given = {"webhook-id": hook_id, "webhook-timestamp": stamp, "webhook-signature": signatures}
    try:
        Webhook(secret).verify(body, given, json_parse=False)
    except WebhookVerificationError as error:
        if "imestamp" in str(error):
            raise Refusal(
                "too-old", "its timestamp is more than five minutes from this server's clock: set both clocks"
            ) from None
        raise Refusal("bad-signature", UNFIT) from None
    except (ValueError, TypeError, UnicodeError):
        raise Refusal("bad-signature", UNFIT) from None

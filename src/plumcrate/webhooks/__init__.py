"""Webhooks by the Standard Webhooks scheme: ``signing`` for both directions, ``outgoing`` for what we
send."""

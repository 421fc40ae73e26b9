"""What the service and the worker write to their logs: one bounded line an event, no secrets, no locals."""

from __future__ import annotations

import logging
import re
import sys
from collections.abc import MutableMapping
from typing import Any

import structlog

_MOST = 4_000
_SECRET_NAMES = ("password", "secret", "token", "authorization", "cookie", "signature")
#: A password in an address, a key or token of ours, a webhook's secret.
_SECRETS = re.compile(r"(?<=://)([^:/@\s]*):[^@\s]+@|\bplumkey-[\w-]{8,}|\bwhsec_[\w+/=-]+|(?i:bearer)\s+\S+")


def configure() -> None:
    """To be called once, before anything else is done."""
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.StackInfoRenderer(),
            _traceback,
            redact,
            structlog.processors.LogfmtRenderer(
                key_order=["timestamp", "level", "event"], bool_as_flag=False
            ),
        ],
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
        cache_logger_on_first_use=True,
    )
    logging.basicConfig(level=logging.WARNING, format="%(asctime)s %(levelname)s %(message)s")


def _traceback(logger: Any, method: str, event: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """The kinds of errors and where they arose, from the cause to what came of it; no values of variables."""
    given = event.pop("exc_info", None)
    error = sys.exc_info()[1] if given is True else given[1] if isinstance(given, tuple) else given
    told: list[str] = []
    while isinstance(error, BaseException) and len(told) < 4:
        frame, places = error.__traceback__, []
        while frame is not None:
            name = frame.tb_frame.f_code.co_filename.rpartition("plumcrate/")[2].rpartition(
                "/site-packages/"
            )[2]
            places.append(f"{name}:{frame.tb_lineno}")
            frame = frame.tb_next
        told.append(f"{type(error).__name__}: {str(error).splitlines()[:1]} at {' > '.join(places[-8:])}")
        error = error.__cause__ or (None if error.__suppress_context__ else error.__context__)
    if told:
        event["error"] = "; caused by ".join(told)
    return event


def redact(logger: Any, method: str, event: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """Takes secrets out and bounds every value."""
    return {name: _plain(name, value) for name, value in event.items()}


def _plain(name: str, value: Any) -> Any:
    if any(secret in name.lower() for secret in _SECRET_NAMES):
        return "…"
    if isinstance(value, int | float | bool) or value is None:
        return value
    text = _SECRETS.sub(_masked, str(value))
    text = text.encode("utf-8", "backslashreplace").decode()
    text = "".join(character if character.isprintable() else " " for character in text)
    return text if len(text) <= _MOST else f"{text[:_MOST]}… ({len(text):,} characters)"


def _masked(match: re.Match[str]) -> str:
    return f"{match[1]}:…@" if match[1] is not None else "…"

"""What the service and the worker write to their logs: one bounded line an event, no secrets, no locals."""

from __future__ import annotations

import logging
import re
import sys
from collections.abc import Callable, MutableMapping
from enum import StrEnum
from typing import Any

import structlog
from structlog.typing import Processor

_MOST = 4_000
_SECRET_NAMES = ("password", "secret", "token", "authorization", "cookie", "signature")
#: A password in an address, a key or token of ours, a webhook's secret.
_SECRETS = re.compile(r"(?<=://)([^:/@\s]*):[^@\s]+@|\bplumkey-[\w-]{8,}|\bwhsec_[\w+/=-]+|(?i:bearer)\s+\S+")


class LogForm(StrEnum):
    """How a line is written."""

    LOGFMT = "logfmt"
    JSON = "json"


def configure(form: LogForm = LogForm.LOGFMT) -> None:
    """To be called once, before anything else is done. What other packages log is written so
    too."""
    shared: list[Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
        structlog.processors.StackInfoRenderer(),
        _traceback,
        redact,
    ]
    written = _RENDERERS[form]()
    structlog.configure(
        processors=[*shared, written],
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
        cache_logger_on_first_use=True,
    )
    of_others = structlog.stdlib.ProcessorFormatter(
        foreign_pre_chain=[structlog.stdlib.add_logger_name, *shared],
        processors=[structlog.stdlib.ProcessorFormatter.remove_processors_meta, written],
    )
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(of_others)
    logging.basicConfig(level=logging.WARNING, handlers=[handler], force=True)


_RENDERERS: dict[LogForm, Callable[[], Processor]] = {
    LogForm.LOGFMT: lambda: structlog.processors.LogfmtRenderer(
        key_order=["timestamp", "level", "event"], bool_as_flag=False
    ),
    LogForm.JSON: structlog.processors.JSONRenderer,
}


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

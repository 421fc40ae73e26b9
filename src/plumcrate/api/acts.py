"""What is known of a request while it is answered: who asks, and what the audit log is to say of it."""

from __future__ import annotations

from collections.abc import MutableMapping
from dataclasses import dataclass
from typing import Any

from starlette.requests import HTTPConnection
from starlette.responses import Response

from plumcrate.people.actor import Actor

from .once import Once


@dataclass(slots=True)
class Act:
    """``library`` is a slug, ``detail`` free words, ``email`` the account that somebody tried to open.

    ``silent``: not to be recorded. ``recorded``: it was, in the act's own transaction. ``problem``: the code
    of the refusal that was answered. ``once``: it is done once, and its ``answer`` kept.
    """

    actor: Actor | None = None
    library: str | None = None
    detail: str = ""
    email: str | None = None
    silent: bool = False
    recorded: bool = False
    problem: str = ""
    once: Once | None = None
    answer: Response | None = None


def act_of(request: HTTPConnection) -> Act:
    """The act of a request."""
    return act_in(request.scope)


def act_in(scope: MutableMapping[str, Any]) -> Act:
    """The act of a request, by its ASGI scope."""
    state = scope.setdefault("state", {})
    act: Act = state.setdefault("act", Act())
    return act

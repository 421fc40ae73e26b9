"""Cursors: where a list goes on, as text that only the list itself understands."""

from __future__ import annotations

import base64
import json
from collections.abc import Sequence
from typing import Any

from plumcrate.refusal import Refusal


def written(values: Sequence[Any]) -> str:
    return base64.urlsafe_b64encode(json.dumps(list(values)).encode()).decode().rstrip("=")


def read(cursor: str) -> list[Any]:
    """What a cursor holds; whoever asks checks what it is. Raises :class:`Refusal`."""
    try:
        value = json.loads(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)))
    except (ValueError, RecursionError):
        raise not_one_of_this_list() from None
    if not isinstance(value, list):
        raise not_one_of_this_list()
    return value


def not_one_of_this_list() -> Refusal:
    return Refusal("invalid-request", "the cursor is not one of this list: begin with the first page")


def is_whole(*values: Any) -> bool:
    """Whether all are numbers that a record may have."""
    return all(type(value) is int and abs(value) < 2**63 for value in values)


def is_text(value: Any) -> bool:
    """Whether PostgreSQL can hold it: no NUL, and no half of a surrogate pair."""
    return isinstance(value, str) and not any(one == "\0" or "\ud800" <= one <= "\udfff" for one in value)

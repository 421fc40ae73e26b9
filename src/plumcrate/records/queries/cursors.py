"""Cursors: where a list goes on, as text that only the list itself understands.

A page begins after the last row of the page before (keyset), not after so many rows: rows that come and go
meanwhile neither shift what follows nor make a page far down slow.
"""

from __future__ import annotations

import base64
import json
import time
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

from sqlalchemy import Select, func, select
from sqlalchemy.orm import InstrumentedAttribute, Session

from plumcrate.contract.common import Page
from plumcrate.refusal import Refusal

Row = TypeVar("Row")
View = TypeVar("View")

#: A cursor is good for so long, in seconds.
_GOOD_FOR = 30 * 24 * 3600


def written(of: str, values: Sequence[Any]) -> str:
    """A cursor of the list that is called ``of``: what it is of, and within what."""
    text = json.dumps([of, int(time.time()), *values])
    return base64.urlsafe_b64encode(text.encode()).decode().rstrip("=")


def read(cursor: str, of: str) -> list[Any]:
    """What a cursor of that list holds; whoever asks checks what it is. Raises :class:`Refusal`."""
    try:
        value = json.loads(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)))
    except (ValueError, RecursionError):
        raise not_one_of_this_list() from None
    match value:
        case [str(name), int(made), *values] if name == of and is_whole(made):
            if not 0 <= time.time() - made + 60 <= _GOOD_FOR:
                raise Refusal("invalid-request", "the cursor is too old: begin with the first page")
            return values
    raise not_one_of_this_list()


def not_one_of_this_list() -> Refusal:
    return Refusal("invalid-request", "the cursor is not one of this list: begin with the first page")


def is_whole(*values: Any) -> bool:
    """Whether all are numbers that a record may have."""
    return all(type(value) is int and abs(value) < 2**63 for value in values)


def is_text(value: Any) -> bool:
    """Whether PostgreSQL can hold it: no NUL, and no half of a surrogate pair."""
    return isinstance(value, str) and not any(one == "\0" or "\ud800" <= one <= "\udfff" for one in value)


def by_number(
    session: Session,
    query: Select[Row],
    number: InstrumentedAttribute[int],
    views: Callable[[list[Row]], list[View]],
    *,
    of: str,
    after: str | None,
    limit: int,
    latest_first: bool = True,
) -> Page[View]:
    """One page of the rows that ``query`` finds, by their numbers. How many there are is counted for the
    first page, and carried on by the cursor. Raises :class:`Refusal` for a cursor of another list."""
    if after is None:
        total = session.scalar(select(func.count()).select_from(query.order_by(None).subquery())) or 0
    else:
        match read(after, of):
            case [int(total), int(last)] if is_whole(total, last):
                query = query.where(number < last if latest_first else number > last)
            case _:
                raise not_one_of_this_list()
    ordered = query.order_by(number.desc() if latest_first else number)
    rows = list(session.scalars(ordered.limit(limit + 1)))
    more = len(rows) > limit
    last_number = getattr(rows[limit - 1], number.key) if more else 0
    return Page(
        rows=views(rows[:limit]),
        total=total,
        cursor=written(of, [total, last_number]) if more else None,
    )

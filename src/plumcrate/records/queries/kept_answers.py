"""Answers to requests with an ``Idempotency-Key``."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import delete, func
from sqlalchemy.orm import Session

from plumcrate.records.tables import KeptAnswer

#: An answer is kept for so long.
KEPT_FOR = timedelta(days=1)


def forget_answers(session: Session) -> int:
    """Those that nobody is given any more; how many."""
    old = KeptAnswer.created_at < func.now() - KEPT_FOR
    return len(session.execute(delete(KeptAnswer).where(old).returning(KeptAnswer.key)).all())

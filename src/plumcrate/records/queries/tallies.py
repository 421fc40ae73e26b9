"""Totals of a library, kept by the database as it changes, so that none is counted when it is asked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from plumcrate.records.tables import Tally


@dataclass(frozen=True, slots=True)
class Total:
    """Rows of one noun in one state, with the sums of their bytes."""

    rows: int = 0
    bytes_before: int = 0
    bytes_now: int = 0
    bytes_lightest: int = 0

    def __add__(self, other: Total) -> Total:
        return Total(
            self.rows + other.rows,
            self.bytes_before + other.bytes_before,
            self.bytes_now + other.bytes_now,
            self.bytes_lightest + other.bytes_lightest,
        )


def totals(session: Session, library_id: int) -> dict[tuple[str, str], Total]:
    """By noun (file, lost, picture, copy, backup) and state; lost are treated files without a backup."""
    return totals_of(session, [library_id]).get(library_id, {})


def totals_of(session: Session, library_ids: Sequence[int]) -> dict[int, dict[tuple[str, str], Total]]:
    """The same for each of some libraries that have any."""
    sums = (
        func.sum(column) for column in (Tally.rows, Tally.bytes_before, Tally.bytes_now, Tally.bytes_lightest)
    )
    each = Tally.library_id, Tally.noun, Tally.state
    query = select(*each, *sums).where(Tally.library_id.in_(library_ids)).group_by(*each)
    found: dict[int, dict[tuple[str, str], Total]] = {}
    for library_id, noun, state, *values in session.execute(query):
        found.setdefault(library_id, {})[noun, state] = Total(*map(int, values))
    return found


def total(sums: dict[tuple[str, str], Total], noun: str, *, present: bool = True) -> Total:
    """All states of a noun together; ``present``: without what is gone."""
    kept = (
        value for (name, state), value in sums.items() if name == noun and not (present and state == "gone")
    )
    return sum(kept, Total())


def fold(session: Session) -> None:
    """Folds the changes of every library together; the caller makes sure that only one does."""
    session.execute(
        text(
            "WITH old AS (DELETE FROM tallies WHERE library_id IN "
            "(SELECT library_id FROM tallies GROUP BY library_id HAVING count(*) > 200) RETURNING *) "
            "INSERT INTO tallies SELECT library_id, noun, state, sum(rows), sum(bytes_before), "
            "sum(bytes_now), sum(bytes_lightest) FROM old GROUP BY 1, 2, 3"
        )
    )

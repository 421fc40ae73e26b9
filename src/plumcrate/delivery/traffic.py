"""What an access log says of a library, matched with what the library's files weigh."""

from __future__ import annotations

from sqlalchemy.orm import Session

from plumcrate.contract.delivery import Counts
from plumcrate.records.queries.asked import note_asked_paths
from plumcrate.records.queries.traffic import TrafficCount, Weights, add_sent, advance_log, weights


class NotItsTurn(Exception):
    """A stretch of a log was counted before, or one before it was not yet; the text says so."""


def count_log(session: Session, library_id: int, counts: Counts) -> None:
    """Adds a stretch of a log. Raises :class:`NotItsTurn`."""
    if not advance_log(session, library_id, counts.log, counts.begin, counts.end):
        raise NotItsTurn("this stretch of the log was counted already, or does not follow what was")
    known = weights(session, library_id, sorted({count.path for count in counts.counts}))
    sums: dict[tuple[object, ...], TrafficCount] = {}
    for count in counts.counts:
        of = known.get(count.path)
        if of is None:
            continue  # what is not on record saved nothing, and is no picture of the library
        format, instead = _served(of, count.bytes, count.total, count.requests)
        key = (count.day, of.picture_id, format, count.bot)
        before = sums.get(key)
        note = TrafficCount(
            library_id,
            count.day,
            of.picture_id,
            format,
            count.bot,
            count.requests + (before.requests if before else 0),
            count.total + (before.bytes if before else 0),
            instead + (before.bytes_before if before else 0),
        )
        sums[key] = note
    add_sent(session, sums.values())
    note_asked_paths(session, library_id, sorted({one.path for one in counts.counts if not one.bot}))


def _served(of: Weights, size: int | None, total: int, requests: int) -> tuple[str, int]:
    """The format that was sent, told by how many bytes it took; and what the file would have taken.

    A size that is none of today's was sent before a change: by then the file, or a copy that is no more. It
    counts as the file, and as what it weighed: no saving is claimed that cannot be shown.
    """
    if size is None:
        weight = max(of.sizes.get(of.own, 0), 1)
        return of.own, max(total, total * of.size_before // weight) if of.size_before else total
    for format, weight in of.sizes.items():
        if weight == size:
            return format, of.size_before * requests
    return of.own, max(total, 0)
